using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Database;

/// <summary>What is planned for one database: its plan, what runs next, and designed beside observed.</summary>
internal static class DatabasePlanEndpoint
{
    private const double Agrees = 0.1;

    /// <summary>What is stated of a lag is at most so many times what it was.</summary>
    private const double BandWidth = 1.5;

    public sealed record NextRun(string Plan, string Task, string Kind, Instant Due, Guid? Run, string? AskedBy);

    public sealed record PlanName(string Id, string Name, IReadOnlyList<TaskName> Tasks);

    public sealed record TaskName(string Id, string Kind);

    public sealed record DesignedBesideObserved(
        string Kind, double? DesignedExposureSeconds, double? ObservedExposureSeconds, double? DesignedRestoreSeconds, double? ObservedRestoreSeconds, IReadOnlyList<string> WhyTheyDiffer);

    public sealed record DatabasePlanView(IReadOnlyList<PlanName> Plans, IReadOnlyList<NextRun> Next, IReadOnlyList<DesignedBesideObserved> Figures, bool LoadLearned);

    public static void Map(IEndpointRouteBuilder app) =>
        app.MapGet("/api/databases/{id}/plan", GetAsync).Needs(Roles.Look).WithName("DatabasePlan");

    private static async Task<Ok<DatabasePlanView>> GetAsync(string id, string? loss, FleetState state, DesignedState designed, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var db = state[id];
        var d = db.Subject.Database;
        var plans = state.Fleet.PlansOf(d);
        var answer = await designed.GetAsync(now, cancel);
        var next = Series.Of(state.Fleet).Where(s => s.Database.Id == d.Id && s.Task.Recurrence is not null).SelectMany(s =>
            s.Task.Recurrence!.NextAfter(now - s.Offset, 3).Select(t => new NextRun(s.Plan.Id.Value, s.Task.Id, PlanFile.Name(s.Task.Kind), t + s.Offset, null, null)));
        var asked = await data.Runs.AsNoTracking().Where(r => r.Plan != null && r.Database == id && r.State == (short)RunState.Waiting && r.AskedBy != null).ToListAsync(cancel);
        next = next.OrderBy(n => n.Due).Take(8).Concat(asked.Select(r => new NextRun(r.Plan!, r.Task!, r.Kind, r.Due, r.Id, r.AskedBy)));
        var from = now - DatabaseState.Window;
        var changed = await data.PlanVersions.AsNoTracking().Where(v => plans.Select(p => p.Id.Value).Contains(v.Plan) && v.At > from).OrderByDescending(v => v.At).FirstOrDefaultAsync(cancel);
        var failed = await data.Runs.AsNoTracking()
            .Where(r => r.Plan != null && r.Database == id && r.Due > from && (r.State == (short)RunState.Failed || r.State == (short)RunState.LeftOut)).CountAsync(cancel);

        // For the losses agreed, and for the one supposed.
        var supposed = designed.KnownOf(d.Id, Premise.Read(loss, null, state.Fleet, now).Loss);
        var figures = (answer.ByDatabase.GetValueOrDefault(d.Id) ?? []).Concat(supposed is null ? [] : [supposed]).DistinctBy(f => f.Loss).Select(f =>
        {
            var observed = db.Observe(f.Loss, now, true).Figures;
            double? plannedWorst = f.Window.SecondsUnprotected > 0 ? null : f.Window.WorstExposureSeconds;
            double? seenWorst = observed.Window.SecondsUnprotected > 0 ? null : observed.Window.WorstExposureSeconds;
            return new DesignedBesideObserved(
                f.Loss.Kind.ToString().ToLowerInvariant(),
                plannedWorst,
                seenWorst,
                f.LongestRestore?.ServiceSeconds,
                observed.Path?.ServiceSeconds,
                Differ(plannedWorst, seenWorst) ? Why(db, f, observed, changed, failed, from) : []);
        });
        return TypedResults.Ok(new DatabasePlanView(
            [.. plans.Select(p => new PlanName(p.Id.Value, p.Name, [.. p.Tasks.Select(t => new TaskName(t.Id, PlanFile.Name(t.Kind)))]))], [.. next.OrderBy(n => n.Due)], [.. figures], designed.LoadOf(d, now).FromRuns));
    }

    private static bool Differ(double? designed, double? observed) =>
        designed is null != observed is null || Math.Abs((designed ?? 0) - (observed ?? 0)) > Agrees * Math.Max(designed ?? 0, observed ?? 0);

    private static List<string> Why(DatabaseState db, DesignedFigures designed, LossFigures observed, PlanVersionRow? changed, int failed, Instant from)
    {
        var reasons = new List<string>();
        if (changed is not null)
        {
            reasons.Add($"the plan was changed on {changed.At.InUtc().Date:uuuu-MM-dd}, within the week looked at");
        }

        if (failed > 0)
        {
            reasons.Add($"{failed} runs failed or were left out in the week looked at");
        }

        if (observed.Window.WorstAt is { } at)
        {
            // Who was further behind at the worst of it than by design; else what was missing among the sets.
            string[] behind = [.. db.Subject.Replicas
                .Where(r => r.Counts(designed.Loss, at))
                .Select(r => (r.Replica, Seconds: r.At(at) is { } known ? (at - known.ReceivedTo).TotalSeconds : 0))
                .Where(r => r.Seconds > designed.Window.WorstExposureSeconds)
                .Select(r => r.Seconds <= BandWidth * r.Replica.WatchSeconds
                    ? $"{r.Replica.Id} is looked at every {PlainDuration.Of(r.Replica.WatchSeconds)}, and between two looks nothing newer is claimed"
                    : $"{r.Replica.Id} was {PlainDuration.Of(r.Seconds)} behind at the worst, more than it is by design")];
            reasons.AddRange(behind);

            // At that instant what ends the rise is there already; just before it, it was not.
            reasons.AddRange(behind.Length > 0 ? [] : CoverExplainer.Gaps(db.Subject, designed.Loss, at - Duration.FromMilliseconds(1), from).TakeLast(1).SelectMany(g => g.Reasons).Take(2));
        }

        if (reasons.Count == 0)
        {
            reasons.Add(designed.Window.WorstExposureSeconds > observed.Window.WorstExposureSeconds
                ? "the plan reckons with the busiest hours of the week; the worst that happened was milder"
                : "runs took longer than the plan reckons with");
        }

        return reasons;
    }
}
