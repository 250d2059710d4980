using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.ApplyLog;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Copies;

/// <summary>Applies log to what is left open for it, each on its schedule; and says what each holds. Whichever process looks, a round is begun once.</summary>
internal sealed class LogForCopies(IServiceScopeFactory scopes, FleetState fleet, IClock clock, ILogger<LogForCopies> log) : BackgroundService
{
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(2);

    /// <summary>What a copy that was left open for log holds.</summary>
    /// <param name="Made">The run that made it.</param>
    /// <param name="Rounds">The runs on it, newest first.</param>
    public sealed record Holding(RunRow Made, IReadOnlyList<RunRow> Rounds)
    {
        /// <summary>What was asked.</summary>
        public RestoreQuestion Asked { get; } = RestoreQuestion.Of(Made)!;

        /// <summary>The instant it holds.</summary>
        public Instant Reached => Results.Select(r => r.Reached).FirstOrDefault(r => r is not null) ?? RestoreResult.Kept(Made)?.Reached ?? Asked.Planned.Reaches;

        /// <summary>The last set that was applied to it.</summary>
        public string LastSet => Results.Select(r => r.Last).FirstOrDefault(r => r is not null) ?? Made.ToRun().Plan.Steps.SelectMany(RestoreAside.PiecesOf).Last().Set;

        /// <summary>Whether it was opened, or is about to be: no log is applied any more.</summary>
        public bool Opened => Rounds.Any(r => (!r.StateIs.IsOver() || r.StateIs == RunState.Done) && RunJson.Read<ApplyLogKind.Question>(r.Question!).Opens);

        /// <summary>The run under way on it; null when none is.</summary>
        public Guid? UnderWay => Rounds.Where(r => !r.StateIs.IsOver()).Select(r => (Guid?)r.Id).FirstOrDefault();

        private IEnumerable<ApplyLogKind.Result> Results => Rounds.Where(r => r.Result is not null).Select(r => RunJson.Read<ApplyLogKind.Result>(r.Result!));
    }

    /// <summary>What copies hold that were left open for log, by the run that made them; of others nothing.</summary>
    public static async Task<IReadOnlyDictionary<Guid, Holding>> OfAsync(ImbrekContext data, IEnumerable<RunRow> rows, CancellationToken cancel)
    {
        RunRow[] made = [.. rows.Where(r => r.Kind == TemporaryCopyKind.LeftOpen && r.StateIs == RunState.Done && r.Claim is not null)];
        Guid?[] ids = [.. made.Select(r => (Guid?)r.Id)];
        var rounds = ids.Length == 0 ? [] : await data.Runs.AsNoTracking().Where(r => ids.Contains(r.AfterId) && r.Kind == ApplyLogKind.KindName).OrderByDescending(r => r.Due).ToListAsync(cancel);
        var by = rounds.ToLookup(r => r.AfterId);
        return made.ToDictionary(r => r.Id, r => new Holding(r, [.. by[r.Id]]));
    }

    /// <summary>A round, not begun.</summary>
    /// <param name="h">The copy.</param>
    /// <param name="to">Up to which instant; null for as far as log goes.</param>
    /// <param name="opens">Whether it is opened.</param>
    /// <param name="fleet">The fleet in memory.</param>
    /// <param name="now">The instant.</param>
    /// <param name="who">Who asks for it.</param>
    /// <exception cref="BadInputException">It names what cannot be.</exception>
    public static RunRow RoundOf(Holding h, Instant? to, bool opens, FleetState fleet, Instant now, string who)
    {
        var s = fleet[h.Made.Database].Subject;
        var d = s.Database;
        if (h.Opened)
        {
            throw new BadInputException("id", "it is opened: no log can be applied to it any more", 409, "not-now");
        }

        if (to is { } wanted && (wanted > now || wanted <= h.Reached))
        {
            throw new BadInputException("to", wanted > now ? "lies in the future" : $"it holds all up to {Instants.Write(h.Reached)} already, and log never goes back");
        }

        if (!s.Fleet.Hosts.TryGetValue(new(h.Asked.Host), out var host))
        {
            throw new BadInputException("id", $"there is no host '{h.Asked.Host}' any more", 409, "not-now");
        }

        var last = s.Catalogue.Sets.FirstOrDefault(x => x.Id.Value == h.LastSet);
        var path = PathFinder.Onwards(s, now, host, last?.Branch ?? 1, h.Reached, to);
        if (path is null && !opens)
        {
            throw new BadInputException("to", $"no log backup that can be read at {host.Id} goes on from {Instants.Write(h.Reached)}", 409, "no-log");
        }

        var asked = new ApplyLogKind.Question(h.Made.Id, h.Asked, path?.Reaches ?? h.Reached, h.Rounds.Count + 1, opens);
        var row = NewRuns.Row(ApplyLogKind.KindName, d.Id.Value, h.Made.Driver!, asked, Run.Of(new RunPlan(Core.Recovery.TemporaryCopy.FurtherLog(d, s.Fleet.Engines[d.Engine], host.Id, path, opens))), who, now);
        (row.AfterId, row.Claim) = (h.Made.Id, ApplyLogKind.ClaimOf(h.Asked));
        return row;
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(Pause);
        do
        {
            try
            {
                await LookAsync(clock.GetCurrentInstant(), stoppingToken);
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("No log is applied to what is left open for it for the moment: {Reason}", e.Message);
            }
        }
        while (await timer.WaitForNextTickAsync(stoppingToken));
    }

    private async Task LookAsync(Instant now, CancellationToken cancel)
    {
        await using var scope = scopes.CreateAsyncScope();
        var data = scope.ServiceProvider.GetRequiredService<ImbrekContext>();
        var rows = await data.Runs.AsNoTracking().Where(r => r.Kind == TemporaryCopyKind.LeftOpen && r.Claim != null && r.State == (short)RunState.Done).ToListAsync(cancel);
        foreach (var h in (await OfAsync(data, rows, cancel)).Values.Where(h => h.Asked.EverySeconds is { } every && !h.Opened && h.UnderWay is null && fleet.Has(h.Made.Database)
            && (h.Rounds.Select(r => r.Due).FirstOrDefault(h.Made.Ended ?? h.Made.Due) + Duration.FromSeconds(every)) <= now))
        {
            try
            {
                await scope.ServiceProvider.GetRequiredService<NewRuns>().TryBeginAsync(RoundOf(h, null, opens: false, fleet, now, "its schedule"), cancel);
            }
            catch (BadInputException)
            {
                // No new log yet: it looks again.
            }
        }
    }
}
