using System.Diagnostics;
using System.Text;
using System.Text.Json.Nodes;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Timetable;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Plans;

/// <summary>What a plan would come to, before it is saved: figures, chances, what clean-up would remove, other ways.</summary>
internal static class ConsequenceEndpoints
{
    /// <summary>Figures are made for so many members at most, spread over all by size; all take part in the simulation.</summary>
    private const int Sample = 16;

    private const int LeastSample = 2;

    /// <summary>Log backups of all members looked at closely; where log is taken often, fewer are.</summary>
    private const double LogsLookedAt = 300_000;

    /// <summary>So many weeks of log, at most, are simulated before and in the week: down to the last base.</summary>
    private const double WeeksOfLog = 6;

    private const int WeeksDrawn = 40;
    private const int FewestWeeks = 8;
    private const int StripTiles = 1200;

    /// <summary>Of attempts, as long as too few runs are known to say better.</summary>
    private const double UsualFailures = 0.004;

    public sealed record PlannedLoss(string Loss, double? WorstExposureSeconds, string? WorstDatabase, double? LongestRestoreSeconds, string? SlowestDatabase, int KeepsRpo, int KeepsRto, int Judged);

    public sealed record PlannedTile(SetKind Kind, string Store, Instant From, Instant To);

    public sealed record WeekStrip(string Database, Instant From, Instant To, IReadOnlyList<PlannedTile> Tiles, IReadOnlyList<double?> Exposure, double? RpoSeconds);

    public sealed record PlannedStore(string Store, double BytesPerDay, double BytesKept, double? CapacityBytes, string? FullOn);

    public sealed record ClashView(string Kind, string? Plan, string? Task, string Place, Instant At, int Count, double WorstSeconds, string? Database);

    public sealed record Consequences(
        int Members,
        int Evaluated,
        IReadOnlyList<string> Caught,
        IReadOnlyList<string> Conflicting,
        IReadOnlyList<string> NewlyLeftOut,
        IReadOnlyList<PlannedLoss> Losses,
        WeekStrip? Week,
        IReadOnlyList<PlannedStore> Stores,
        IReadOnlyList<ClashView> Clashes,
        IReadOnlyList<PlanEndpoints.PlanFindingView> Findings,
        IReadOnlyList<PlanEndpoints.DifferenceView> Differences,
        IReadOnlyDictionary<string, string> Words,
        double Milliseconds);

    public sealed record ChanceView(string Database, string Loss, double KeepsRpoForMonth, double? Exposure95Seconds, double? Restore95Seconds);

    public sealed record ChancesView(int Weeks, double FailureShare, double Spread, IReadOnlyList<ChanceView> Chances);

    public sealed record RetentionQuestion(JsonObject Plan, string Database, int? Days);

    public sealed record KeptCopy(string Set, SetKind Kind, Instant CoversTo, string Store, bool Stays, string Reason, long StoredBytes);

    public sealed record RemovalDay(Instant At, int Copies, long FreedBytes, Instant? BackTo);

    public sealed record KeptSpan(Instant From, Instant To);

    public sealed record RetentionView(
        string Database, int CopiesNow, int CopiesGo, long FreedBytes, IReadOnlyList<KeptCopy> Copies, IReadOnlyList<RemovalDay> Days, IReadOnlyList<KeptSpan> Before, IReadOnlyList<KeptSpan> After);

    public sealed record WayView(
        string Name, double TakeSeconds, double StoredBytesPerWeek, double MovedBytesPerDay, double? RestoreSeconds, double? WorstExposureSeconds, IReadOnlyList<string> DoesNotKeep);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/consequences", ConsequencesAsync).Needs(Roles.Look).Computes().WithName("Consequences").Accepts<JsonObject>("application/json");
        app.MapPost("/api/chances", ChancesAsync).Needs(Roles.Look).Computes().WithName("Chances").Accepts<JsonObject>("application/json");
        app.MapPost("/api/retention", Retention).Needs(Roles.Look).Computes().WithName("RetentionPreview");
        app.MapGet("/api/databases/{id}/ways", Ways).Needs(Roles.Look).Computes().WithName("WaysToCopy");
    }

    private static (FleetModel Fleet, Plan? Before) With(FleetModel fleet, Plan plan)
    {
        var before = fleet.Plans.FirstOrDefault(p => p.Id == plan.Id);
        return (fleet.WithPlans(before is null ? fleet.Plans.Append(plan) : fleet.Plans.Select(p => p.Id == plan.Id ? plan : p)), before);
    }

    /// <summary>Members to look at closely: evenly from the smallest to the largest, so that both ends are among them.</summary>
    private static Core.Fleet.Database[] SampleOf(IReadOnlyList<Core.Fleet.Database> members, int most)
    {
        var ordered = members.OrderBy(m => m.SizeBytes).ToArray();
        return ordered.Length <= most ? ordered : most == 1 ? [ordered[^1]] : [.. Enumerable.Range(0, most).Select(i => ordered[(int)((long)i * (ordered.Length - 1) / (most - 1))])];
    }

    private static async Task<Ok<Consequences>> ConsequencesAsync(HttpRequest request, FleetState state, DesignedState designed, IClock clock, CancellationToken cancel)
    {
        var watch = Stopwatch.StartNew();
        var plan = await PlanEndpoints.ReadAsync(request, state.Fleet, clock, cancel);
        var now = clock.GetCurrentInstant();
        var (fleet, before) = With(state.Fleet, plan);
        var members = plan.Members.Of(fleet);
        var size = PlanSize.Of(plan, fleet, now);
        var sample = SampleOf(members, (int)Math.Clamp(LogsLookedAt / Math.Max(1, size.LogRuns * WeeksOfLog), LeastSample, Sample));
        var own = members.Select(m => m.Host).ToHashSet();

        // What shares a host, store or link with the plan competes with it; what does not cannot matter.
        var stores = plan.Tasks.SelectMany(t => t.Stores).ToHashSet();
        Series[] series = [.. Series.Of(fleet).Where(s => s.Plan.Id == plan.Id || own.Contains(s.Database.Host) || s.Task.Stores.Any(stores.Contains))];
        var answer = Designer.Design(new DesignQuestion
        {
            Fleet = fleet,
            Series = series,
            Databases = sample,
            From = now,
            LoadOf = d => designed.LoadOf(d, now),
            Cancel = cancel,
        });
        Clash[] clashes = [.. answer.Prediction.Clashes, .. designed.FullStores];
        var findings = members.SelectMany(m => PlanFindings.Of(fleet, m, answer.ByDatabase.GetValueOrDefault(m.Id), clashes, state[m.Id].Proofs, now));
        return TypedResults.Ok(new Consequences(
            members.Count,
            sample.Length,
            [.. members.Select(m => m.Id.Value)],
            [.. members.Where(m => fleet.BackupPlansOf(m).Count > 1).Select(m => m.Id.Value)],
            [.. before?.Members.Of(fleet).Where(m => fleet.BackupPlansOf(m).Count == 0).Select(m => m.Id.Value) ?? []],
            [.. Losses(answer, fleet, sample)],
            sample.Length == 0 ? null : Strip(answer, fleet, sample.MinBy(d => fleet.ObjectiveOf(d)?.RpoSeconds ?? double.MaxValue)!),
            [.. StoresOf(plan, fleet, answer, designed)],
            [.. clashes.Where(c => c.At >= now && (c.Plan == plan.Id.Value || (c.Plan is null && stores.Any(s => s.Value == c.Place)))).Select(View)],
            PlanEndpoints.Gather(findings),
            PlanVersions.Difference(before, plan),
            plan.Tasks.Where(t => t.Recurrence is not null).ToDictionary(t => t.Id, t => RecurrenceWords.Of(t.Recurrence!)),
            watch.Elapsed.TotalMilliseconds));
    }

    public static ClashView View(Clash c) => new(PlanFile.Name(c.Kind), c.Plan, c.Task, c.Place, c.At, c.Count, c.WorstSeconds, c.Database);

    private static IEnumerable<PlannedLoss> Losses(DesignAnswer answer, FleetModel fleet, IReadOnlyList<Core.Fleet.Database> sample)
    {
        var all = sample.SelectMany(d => answer.ByDatabase[d.Id].Select(f => (Database: d, Figures: f, Objective: fleet.ObjectiveOf(d)))).ToArray();
        foreach (var loss in all.GroupBy(a => a.Figures.Loss.Kind).OrderBy(g => g.Key))
        {
            var worst = loss.MaxBy(l => l.Figures.Window.SecondsUnprotected > 0 ? double.MaxValue : l.Figures.Window.WorstExposureSeconds ?? double.MaxValue);
            var slowest = loss.MaxBy(l => l.Figures.LongestRestore?.ServiceSeconds ?? double.MaxValue);
            var judged = loss.Where(l => l.Objective is not null).ToArray();
            yield return new PlannedLoss(
                PlanFile.Name(loss.Key),
                worst.Figures.Window.SecondsUnprotected > 0 ? null : worst.Figures.Window.WorstExposureSeconds,
                worst.Database.Name,
                slowest.Figures.LongestRestore?.ServiceSeconds,
                slowest.Database.Name,
                judged.Count(l => l.Figures.KeepsRpo(l.Objective!)),
                judged.Count(l => l.Figures.KeepsRto(l.Objective!)),
                judged.Length);
        }
    }

    private static WeekStrip Strip(DesignAnswer answer, FleetModel fleet, Core.Fleet.Database database)
    {
        var subject = answer.Subjects[database.Id];
        var c = subject.Catalogue;
        var tiles = new List<PlannedTile>();
        var logStep = Math.Max(1, c.Count / StripTiles);
        for (var i = 0; i < c.Count; i++)
        {
            var set = c[i];
            if (set.CoversTo >= answer.From && (set.Kind != SetKind.Log || i % logStep == 0))
            {
                tiles.Add(new PlannedTile(set.Kind, set.Copies[0].Store.Value, set.CoversFrom ?? set.CoversTo, set.CoversTo));
            }
        }

        var worst = Loss.OfKind(subject.Objective?.Against.Contains(LossKind.Site) == true ? LossKind.Site : LossKind.None);
        var columns = ExposureColumn.Fold(Evaluator.Curve(subject, worst, answer.From, answer.To), answer.From, answer.To, 168);
        return new WeekStrip(database.Name, answer.From, answer.To, tiles, [.. columns.Select(x => x.Unprotected ? null : x.WorstSeconds)], fleet.ObjectiveOf(database)?.RpoSeconds);
    }

    private static IEnumerable<PlannedStore> StoresOf(Plan plan, FleetModel fleet, DesignAnswer answer, DesignedState designed)
    {
        foreach (var store in plan.Tasks.SelectMany(t => t.Stores).Distinct())
        {
            var perDay = 0.0;
            var kept = 0.0;
            foreach (var (id, subject) in answer.Subjects)
            {
                var sets = subject.Catalogue.Sets.Where(s => s.CoversTo >= answer.From && s.CoversTo < answer.To);
                foreach (var set in sets)
                {
                    foreach (var copy in set.Copies.Where(x => x.Store == store))
                    {
                        perDay += copy.StoredBytes / 7.0;
                        kept += copy.StoredBytes / 7.0 * (plan.Tasks.FirstOrDefault(t => t.Kind.Makes() == set.Kind)?.KeepIn(store).Reach?.TotalDays ?? 14);
                    }
                }
            }

            // What was looked at stands for all members, by size.
            var members = plan.Members.Of(fleet);
            var share = members.Sum(m => (double)m.SizeBytes) / Math.Max(1, answer.Subjects.Values.Sum(s => (double)s.Database.SizeBytes));
            var full = designed.Forecast(store)?.FullOn;
            yield return new PlannedStore(store.Value, perDay * share, kept * share, fleet.Stores[store].CapacityBytes, full is { } f ? Instants.Write(f) : null);
        }
    }

    private static async Task<Ok<ChancesView>> ChancesAsync(HttpRequest request, FleetState state, DesignedState designed, RunHealth health, IClock clock, CancellationToken cancel)
    {
        var plan = await PlanEndpoints.ReadAsync(request, state.Fleet, clock, cancel);
        var now = clock.GetCurrentInstant();
        var (fleet, _) = With(state.Fleet, plan);
        var logs = PlanSize.Of(plan, fleet, now).LogRuns * WeeksOfLog;
        var sample = SampleOf(plan.Members.Of(fleet), logs > LogsLookedAt / 8 ? 1 : 2);
        var weeks = (int)Math.Clamp(2 * LogsLookedAt / Math.Max(1, logs * sample.Length), FewestWeeks, WeeksDrawn);
        var (share, spread) = await health.FailuresOfAsync(plan.Id, now - Duration.FromDays(30), cancel) ?? (UsualFailures, Chances.UsualSpread);
        var chances = await Task.Run(
            () => Chances.Of(
                new DesignQuestion
                {
                    Fleet = fleet,
                    Series = [.. Series.Of(plan, fleet).Where(s => sample.Contains(s.Database))],
                    Databases = sample,
                    From = now,
                    LoadOf = d => designed.LoadOf(d, now),
                    Chance = new Chance(20_261, _ => share, spread),
                    Cancel = cancel,
                },
                weeks),
            cancel);
        return TypedResults.Ok(new ChancesView(weeks, share, spread, [.. chances.Select(c => new ChanceView(fleet.DatabaseById[c.Database].Name, PlanFile.Name(c.Loss.Kind), c.KeepsRpoForMonth, c.Exposure95, c.Restore95))]));
    }

    private static Ok<RetentionView> Retention(RetentionQuestion question, FleetState state, IClock clock, CancellationToken cancel)
    {
        var plan = PlanEndpoints.Read(Encoding.UTF8.GetBytes(question.Plan?.ToJsonString() ?? "{}"), state.Fleet, clock);
        var subject = state[question.Database ?? ""].Subject;
        var now = clock.GetCurrentInstant();
        var zone = plan.Tasks.Select(t => t.Recurrence?.Zone).FirstOrDefault(z => z is not null) ?? DateTimeZone.Utc;
        var preview = RetentionPreview.Of(subject, Core.Planning.Retention.RulesOf(plan), now, Math.Clamp(question.Days ?? 14, 0, 60), zone, cancel);
        var go = preview.Today.Where(t => !t.Stays).ToArray();
        return TypedResults.Ok(new RetentionView(
            subject.Database.Name,
            preview.Today.Count,
            go.Length,
            (long)go.Sum(g => (double)g.StoredBytes),
            [
                .. preview.Today.OrderBy(t => t.Stays).ThenByDescending(t => t.Set).Take(400).Select(t =>
                    new KeptCopy(subject.Catalogue.IdOf(t.Set).Value, subject.Catalogue[t.Set].Kind, subject.Catalogue[t.Set].CoversTo, t.Store.Value, t.Stays, t.Reason, t.StoredBytes)),
            ],
            [.. preview.Days.Select(d => new RemovalDay(d.At, d.Copies, d.FreedBytes, d.BackTo))],
            [.. preview.Before.Select(s => new KeptSpan(s.From, s.To))],
            [.. preview.After.Select(s => new KeptSpan(s.From, s.To))]));
    }

    private static Ok<IReadOnlyList<WayView>> Ways(string id, FleetState state, DesignedState designed, IClock clock, string? store, CancellationToken cancel)
    {
        var subject = state[id].Subject;
        var (fleet, database, now) = (state.Fleet, subject.Database, clock.GetCurrentInstant());
        var to = !string.IsNullOrEmpty(store) ? new Id<Store>(store)
            : fleet.PlansOf(database).SelectMany(p => p.Tasks).Select(t => t.Store).FirstOrDefault(s => s is not null) ?? fleet.StoreList[0].Id;
        if (!fleet.Stores.ContainsKey(to))
        {
            throw new BadInputException("store", $"there is no store '{to}'");
        }

        return TypedResults.Ok<IReadOnlyList<WayView>>(
            [.. Way.Of(fleet, database, to, now, designed.LoadOf(database, now), cancel).Select(w => new WayView(w.Name, w.TakeSeconds, w.StoredBytesPerWeek, w.MovedBytesPerDay, w.RestoreSeconds, w.WorstExposureSeconds, w.DoesNotKeep))]);
    }
}
