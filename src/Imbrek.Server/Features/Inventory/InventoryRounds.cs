using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Inventory;

/// <summary>Asks hosts for their databases: those that somebody wants asked, and each that once was, a day later. Whichever process can call all drivers asks.</summary>
internal sealed class InventoryRounds(NpgsqlDataSource source, InventoryBook book, FleetState fleet, Drivers drivers, IClock clock, IHostApplicationLifetime life, ILogger<InventoryRounds> log) : Looking(Often, "No host is asked for its databases for the moment", life, log)
{
    /// <summary>How often a host is asked by itself.</summary>
    public static readonly Duration Every = Duration.FromDays(1);

    /// <summary>How long a host may take to answer.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    private const int AtOnce = 8;

    /// <inheritdoc/>
    protected override async Task LookAsync(CancellationToken cancel)
    {
        if (drivers.ThatAsk() is not { } families)
        {
            return;
        }

        var now = clock.GetCurrentInstant();
        await using var data = ImbrekDatabase.Context(source);
        var yesterday = now - Every;
        var due = await data.Inventories.AsNoTracking().Where(r => r.Waits || r.At < yesterday).ToListAsync(cancel);
        if (due.Count == 0)
        {
            return;
        }

        await Parallel.ForEachAsync(due.Where(r => fleet.Fleet.Hosts.ContainsKey(new(r.Host))), new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = cancel }, async (r, c) => await AskAsync(r, families, c));
        await book.LoadAsync(cancel);
    }

    private async Task AskAsync(InventoryRow row, IReadOnlyList<IDriverFamily> families, CancellationToken cancel)
    {
        var host = new Id<Core.Fleet.Host>(row.Host);
        var answers = new List<HostAnswer>();
        foreach (var family in families)
        {
            answers.Add(await AskAsync(family, host, cancel));
        }

        foreach (var engine in fleet.Fleet.Databases.Where(d => d.Host == host && drivers.TryFor(d) is null).CountBy(d => d.Engine))
        {
            answers.Add(new([], [$"{engine.Value} of {engine.Key}: this installation has no driver that could ask"]));
        }

        var (answer, at) = (RunJson.Write(HostAnswer.Of(answers)), clock.GetCurrentInstant());
        await using var data = ImbrekDatabase.Context(source);

        // Of two processes that asked at once the second keeps nothing: what it heard is no later asking.
        await data.Inventories.Where(r => r.Host == row.Host && r.At == row.At && r.Waits == row.Waits)
            .ExecuteUpdateAsync(u => u.SetProperty(r => r.Before, r => r.Answer).SetProperty(r => r.BeforeAt, r => r.At).SetProperty(r => r.Answer, answer).SetProperty(r => r.At, at).SetProperty(r => r.Waits, false), cancel);
    }

    private static async Task<HostAnswer> AskAsync(IDriverFamily family, Id<Core.Fleet.Host> host, CancellationToken cancel)
    {
        try
        {
            var (answer, why) = await DriverAnswer.WithinAsync(Patience, c => family.Inventory!.AskAsync(host, c), cancel);
            return answer ?? new([], [why!]);
        }
        catch (Exception e) when (!cancel.IsCancellationRequested)
        {
            // Whatever asking one host fails of, the others are asked.
            return new([], [e.Message]);
        }
    }
}
