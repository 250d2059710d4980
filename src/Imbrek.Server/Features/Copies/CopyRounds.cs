using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.ApplyLog;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Copies;

/// <summary>What comes again and again on copies that stand: log for what is left open for it, and clones made anew under their names, each on its schedule; and what each holds. Whichever process looks, a round is begun once.</summary>
internal sealed class CopyRounds(IServiceScopeFactory scopes, FleetState fleet, IClock clock, IHostApplicationLifetime life, ILogger<CopyRounds> log) : Looking(Often, "Nothing is done on copies by schedule for the moment", life, log)
{
    private const string Schedule = "its schedule";

    /// <summary>How many of the runs on a copy are looked at: of one brought on by log every minute there are thousands.</summary>
    private const int Newest = 20;

    /// <summary>How long after a clone could not be refreshed it is tried again, where its schedule is slower.</summary>
    private static readonly Duration TriesAgain = Duration.FromMinutes(30);

    /// <summary>What a copy holds that was left open for log, or is refreshed.</summary>
    /// <param name="Made">The run that made it.</param>
    /// <param name="Rounds">The newest runs on it, newest first, and among them the last that brought it on.</param>
    public sealed record Holding(RunRow Made, IReadOnlyList<RunRow> Rounds)
    {
        /// <summary>What was asked.</summary>
        public RestoreQuestion Asked { get; } = RestoreQuestion.Of(Made)!;

        /// <summary>The instant it holds.</summary>
        public Instant Reached => Results.Select(r => r.Reached).FirstOrDefault(r => r is not null)
            ?? Rounds.Where(r => r.Kind == TemporaryCopyKind.Refresh && r.StateIs == RunState.Done).Select(r => RestoreResult.Kept(r)?.Reached).FirstOrDefault() ?? RestoreResult.Kept(Made)?.Reached ?? Asked.Planned.Reaches;

        /// <summary>The last set that was applied to it.</summary>
        public string LastSet => Results.Select(r => r.Last).FirstOrDefault(r => r is not null) ?? Made.ToRun().Plan.Steps.SelectMany(RestoreAside.PiecesOf).Last().Set;

        /// <summary>Whether it was opened, or is about to be: no log is applied any more.</summary>
        public bool Opened => Rounds.Any(r => r.Kind == ApplyLogKind.KindName && (!r.StateIs.IsOver() || r.StateIs == RunState.Done) && RunJson.Read<ApplyLogKind.Question>(r.Question!).Opens);

        /// <summary>The run under way on it; null when none is.</summary>
        public Guid? UnderWay => Rounds.Where(r => !r.StateIs.IsOver()).Select(r => (Guid?)r.Id).FirstOrDefault();

        /// <summary>Whether nobody is in it because it could not be refreshed.</summary>
        public bool IsEmpty => Made.Kind == TemporaryCopyKind.Clone && Rounds is [var last, ..] && last.StateIs is RunState.Failed or RunState.Cancelled;

        /// <summary>Which of the runs on it the next one is.</summary>
        public long NextRound => Rounds.Select(r => (r.Kind == ApplyLogKind.KindName ? RunJson.Read<ApplyLogKind.Question>(r.Question!).On : RestoreQuestion.Of(r)!.On)!.Round).DefaultIfEmpty().Max() + 1;

        /// <summary>What one run on it claims: no other is on it meanwhile.</summary>
        public string Claim => RestoreQuestion.BusyOf(Asked.Claim);

        /// <summary>When the next round is due; null where none comes by itself.</summary>
        public Instant? Due => Asked.EverySeconds is not { } every || Opened || UnderWay is not null ? null
            : Rounds.Select(r => r.Due).FirstOrDefault(Made.Ended ?? Made.Due) + (IsEmpty ? Duration.Min(TriesAgain, Duration.FromSeconds(every)) : Duration.FromSeconds(every));

        private IEnumerable<ApplyLogKind.Result> Results => Rounds.Where(r => r.Kind == ApplyLogKind.KindName && r.Result is not null).Select(r => RunJson.Read<ApplyLogKind.Result>(r.Result!));
    }

    /// <summary>What copies hold that were left open for log, or are clones, by the run that made them; of others nothing.</summary>
    public static async Task<IReadOnlyDictionary<Guid, Holding>> OfAsync(ImbrekContext data, IEnumerable<RunRow> rows, CancellationToken cancel)
    {
        RunRow[] made = [.. rows.Where(r => r.Kind is TemporaryCopyKind.LeftOpen or TemporaryCopyKind.Clone && r.StateIs == RunState.Done && r.Claim is not null)];
        if (made.Length == 0)
        {
            return new Dictionary<Guid, Holding>();
        }

        Guid[] ids = [.. made.Select(r => r.Id)];
        var (log, refresh, done) = (ApplyLogKind.KindName, TemporaryCopyKind.Refresh, (short)RunState.Done);
        var rounds = await data.Runs.FromSql(
            $"""
            select r.* from unnest({ids}) made (id) cross join lateral (
              (select * from runs where after_id = made.id and kind in ({log}, {refresh}) order by due desc limit {Newest})
              union (select * from runs where after_id = made.id and kind = {log} and result ->> 'reached' is not null order by due desc limit 1)
              union (select * from runs where after_id = made.id and kind = {refresh} and state = {done} order by due desc limit 1)) r
            """).AsNoTracking().ToListAsync(cancel);
        var by = rounds.OrderByDescending(r => r.Due).ToLookup(r => r.AfterId!.Value);
        return made.ToDictionary(r => r.Id, r => new Holding(r, [.. by[r.Id]]));
    }

    /// <summary>A clone is made anew, not begun yet.</summary>
    /// <param name="h">The clone.</param>
    /// <param name="state">The fleet in memory.</param>
    /// <param name="settings">When settings of its host may be changed.</param>
    /// <param name="now">The instant.</param>
    /// <param name="who">Who asks for it.</param>
    /// <exception cref="BadInputException">It cannot be.</exception>
    public static RunRow RefreshOf(Holding h, FleetState state, SettingsAsked settings, Instant now, string who)
    {
        var (db, asked) = (state[h.Made.Database], h.Asked);
        var (s, d) = (db.Subject, db.Subject.Database);
        var answer = PathFinder.Find(s, new PathQuestion { Target = now, At = now, Loss = asked.LossOf(s.Fleet), Choice = new(new(asked.Host)), Learned = db.Learned });
        if (answer.Best is not { } path)
        {
            throw new BadInputException("id", answer.Reason!, 409, "no-path");
        }

        path = path with { Needs = settings.Answered(path.Needs, asked.Settings) };
        var question = asked with { Target = now, Planned = RestoreQuestion.Promise.Of(path), On = new(h.Made.Id, h.NextRound) };
        var steps = Core.Recovery.TemporaryCopy.Refreshed(d, path, asked.Instance, asked.Hosts ?? [], asked.Mask ?? [], h.Made.Until!.Value);
        var row = NewRuns.Row(TemporaryCopyKind.Refresh, d.Id.Value, h.Made.Driver!, question, Run.Of(new RunPlan(steps)), who, now);
        (row.AfterId, row.Claim) = (h.Made.Id, h.Claim);
        return row;
    }

    /// <summary>Further log for a copy, not begun yet.</summary>
    /// <param name="h">The copy.</param>
    /// <param name="to">Up to which instant; null for as far as log goes.</param>
    /// <param name="opens">Whether it is opened.</param>
    /// <param name="fleet">The fleet in memory.</param>
    /// <param name="now">The instant.</param>
    /// <param name="who">Who asks for it.</param>
    /// <exception cref="BadInputException">It names what cannot be.</exception>
    public static RunRow LogOf(Holding h, Instant? to, bool opens, FleetState fleet, Instant now, string who)
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

        if (to is { } upTo && (path?.Reaches ?? h.Reached) < upTo)
        {
            throw new BadInputException("to", $"log that can be read at {host.Id} goes on to {Instants.Write(path?.Reaches ?? h.Reached)} so far", 409, "no-log");
        }

        var asked = new ApplyLogKind.Question(new(h.Made.Id, h.NextRound), h.Asked, path?.Reaches ?? h.Reached, opens);
        var row = NewRuns.Row(ApplyLogKind.KindName, d.Id.Value, h.Made.Driver!, asked, Run.Of(new RunPlan(Core.Recovery.TemporaryCopy.FurtherLog(d, s.Fleet.Engines[d.Engine], host.Id, path, opens))), who, now);
        (row.AfterId, row.Claim) = (h.Made.Id, h.Claim);
        return row;
    }

    /// <inheritdoc/>
    protected override async Task LookAsync(CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        await using var scope = scopes.CreateAsyncScope();
        var data = scope.ServiceProvider.GetRequiredService<ImbrekContext>();
        var rows = await data.Runs.AsNoTracking().Where(r => (r.Kind == TemporaryCopyKind.LeftOpen || r.Kind == TemporaryCopyKind.Clone) && r.Claim != null && r.State == (short)RunState.Done).ToListAsync(cancel);
        SettingsAsked? settings = null;
        foreach (var h in (await OfAsync(data, rows, cancel)).Values.Where(h => h.Due <= now && !(h.Made.Until <= now) && fleet.Has(h.Made.Database)))
        {
            try
            {
                var round = h.Made.Kind == TemporaryCopyKind.Clone ? RefreshOf(h, fleet, settings ??= await SettingsAsked.AtAsync(data, now, cancel), clock.GetCurrentInstant(), Schedule) : LogOf(h, null, opens: false, fleet, now, Schedule);
                await scope.ServiceProvider.GetRequiredService<NewRuns>().TryBeginAsync(round, cancel);
            }
            catch (BadInputException)
            {
                // No new log yet, or no path: it looks again.
            }
        }
    }
}
