using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Inventory;

/// <summary>What hosts last answered when they were asked for their databases, and what that says of each. Any process may have asked: it is read again now and then.</summary>
internal sealed class InventoryBook : IFindingSource
{
    private static readonly TimeSpan LooksAgain = TimeSpan.FromSeconds(5);

    private readonly NpgsqlDataSource source;
    private readonly FleetState fleet;
    private readonly ReadNowAndThen reading;
    private readonly Lock gate = new();
    private volatile IReadOnlyDictionary<string, Asked> asked = new Dictionary<string, Asked>();
    private Dictionary<string, InventoryRow> rows = [];
    private volatile Made? made;

    public InventoryBook(NpgsqlDataSource source, FleetState fleet, ILogger<InventoryBook> log)
    {
        (this.source, this.fleet) = (source, fleet);
        reading = new("what hosts answered", LooksAgain, () => LoadAsync(default), log);
    }

    /// <summary>How a host stands that is asked for its databases.</summary>
    /// <param name="Waits">Whether somebody waits for its answer.</param>
    /// <param name="At">When it was last asked; null when it never was.</param>
    /// <param name="Answer">What it answered; null when it never was asked.</param>
    /// <param name="BeforeAt">When it was asked before that; null when it was not.</param>
    /// <param name="Before">What it answered then.</param>
    public sealed record Asked(bool Waits, Instant? At, HostAnswer? Answer, Instant? BeforeAt, HostAnswer? Before)
    {
        /// <summary>What it told otherwise than the fleet, or the asking before, has it; null when it never was asked.</summary>
        public IReadOnlyList<InventoryChange>? Changes(FleetModel fleet, string host) => Answer is null ? null : InventoryComparison.Of(fleet, new(host), Answer, Before);
    }

    private sealed record Made(FleetModel Fleet, IReadOnlyDictionary<string, Asked> Asked, ILookup<Id<Core.Fleet.Database>, Finding> Findings);

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Core.Fleet.Database d, Instant at)
    {
        reading.Look();
        var (f, all) = (fleet.Fleet, asked);
        if (made is not { } m || !ReferenceEquals(m.Fleet, f) || !ReferenceEquals(m.Asked, all))
        {
            made = m = new(f, all, all.Where(a => f.Hosts.ContainsKey(new(a.Key)) && a.Value.At is not null)
                .SelectMany(a => InventoryFindings.Of(f, new(a.Key), a.Value.At!.Value, a.Value.Changes(f, a.Key)!)).ToLookup(x => x.Database));
        }

        return m.Findings[d.Id];
    }

    /// <summary>Reads it: hosts by their identifiers.</summary>
    public async Task<IReadOnlyDictionary<string, Asked>> LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var read = await data.Inventories.AsNoTracking().ToDictionaryAsync(r => r.Host, cancel);
        lock (gate)
        {
            // What is as it was stays what it is, and the findings made of it are kept. Instants alone do not tell: a world that stands still is asked twice at one.
            if (read.Count != rows.Count || read.Values.Any(r => !rows.TryGetValue(r.Host, out var was) || (was.Waits, was.At, was.BeforeAt, was.Answer, was.Before) != (r.Waits, r.At, r.BeforeAt, r.Answer, r.Before)))
            {
                (rows, asked) = (read, read.ToDictionary(r => r.Key, r => new Asked(r.Value.Waits, r.Value.At, Read(r.Value.Answer), r.Value.BeforeAt, Read(r.Value.Before))));
            }

            return asked;
        }
    }

    private static HostAnswer? Read(string? json) => json is null ? null : RunJson.Read<HostAnswer>(json) is var a ? new(a.Databases ?? [], a.Unseen ?? []) : null;
}
