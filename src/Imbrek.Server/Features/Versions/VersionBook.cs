using Imbrek.Core.Changes;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Changes;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Versions;

/// <summary>The version calendar that is in force, and what it says of each database. Another process may have changed it: it is read again now and then.</summary>
internal sealed class VersionBook : IFindingSource
{
    private static readonly TimeSpan LooksAgain = TimeSpan.FromSeconds(10);

    private readonly NpgsqlDataSource source;
    private readonly ReadNowAndThen reading;
    private volatile VersionCalendar calendar = new([]);
    private volatile IReadOnlyDictionary<string, RehearsedMove> rehearsed = new Dictionary<string, RehearsedMove>();

    public VersionBook(NpgsqlDataSource source, ILogger<VersionBook> log)
    {
        this.source = source;
        reading = new("the version calendar", LooksAgain, () => LoadAsync(default), log);
    }

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Core.Fleet.Database d, Instant at)
    {
        reading.Look();
        return VersionFindings.Of(d, calendar, at, rehearsed.GetValueOrDefault(d.Id.Value));
    }

    /// <summary>Reads it.</summary>
    public async Task<VersionCalendar> LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Versions.AsNoTracking().OrderBy(v => v.Number).ToListAsync(cancel);
        if (rows.Count > 0)
        {
            rehearsed = await RehearsedAsync(data, cancel);
        }

        return calendar = new([.. rows.Select(v => new VersionSupport(new(v.Engine), v.Version, v.SupportedUntil))]);
    }

    /// <summary>The last rehearsal of a move of each database, of the newest changes that are kept.</summary>
    private static async Task<Dictionary<string, RehearsedMove>> RehearsedAsync(ImbrekContext data, CancellationToken cancel)
    {
        var changes = await data.Changes.AsNoTracking().Select(c => c.Body).ToListAsync(cancel);
        var moves = changes.Select(RunJson.Read<Change>).Where(c => c.ToVersion is not null).DistinctBy(c => c.Name).ToDictionary(c => c.Name);
        return moves.Count == 0 ? [] : (await new ChangeBook(data).RehearsedAsync(moves.Values, null, cancel)).Where(r => r.Same)
            .GroupBy(r => r.Database)
            .ToDictionary(g => g.Key, g => g.First() is var r ? new RehearsedMove(moves[r.Change].ToVersion!, r.Result.OwnSeconds, r.Result.Broke) : null!);
    }
}
