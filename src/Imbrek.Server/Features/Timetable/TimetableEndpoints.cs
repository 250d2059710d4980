using System.Security.Claims;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Timetable;

/// <summary>What ran and what will run, where, and what gets in each other's way.</summary>
internal static class TimetableEndpoints
{
    private const int MostRuns = 6000;
    private const int MostMoves = 20_000;
    private static readonly Duration Longest = Duration.FromDays(32);

    /// <summary>The simulation begins today, so what lies far ahead costs all that comes before it.</summary>
    private static readonly Duration Furthest = Duration.FromDays(92);
    private static readonly Duration FurthestBack = Duration.FromDays(3660);

    public sealed record LaneRun(string Plan, string Task, string Kind, string Database, string Host, string? Store, IReadOnlyList<string> CopyTo, Instant Due, Instant From, Instant To, bool Actual, string State, Guid? Run, bool Late);

    public sealed record LaneLoad(string Place, double CapacityBytesPerSecond, IReadOnlyList<double> BytesPerSecond);

    public sealed record WindowBand(string Plan, string Task, Instant From, Instant To);

    public sealed record TimetableView(
        Instant From,
        Instant To,
        Instant Now,
        IReadOnlyList<LaneRun> Runs,
        bool Cut,
        double LogRuns,
        double SliceSeconds,
        IReadOnlyList<LaneLoad> Loads,
        IReadOnlyList<WindowBand> Windows,
        IReadOnlyList<PauseEndpoints.PauseView> Pauses,
        IReadOnlyList<ConsequenceEndpoints.ClashView> Clashes);

    public sealed record MoveView(string Plan, string Task, string Database, double FromSeconds, double ToSeconds);

    public sealed record StayView(string Plan, string Task, string Database, string Reason);

    public sealed record CrowdView(int MostAtOnce, int WindowsMissed, double WaitingSeconds, double Stretch, double LongestSeconds);

    public sealed record ProposalView(IReadOnlyList<MoveView> Moves, IReadOnlyList<StayView> Forced, CrowdView Before, CrowdView After);

    public sealed record AcceptRequest(IReadOnlyList<MoveView> Moves);

    public sealed record AcceptedView(int Plans, int Moves);

    public sealed record OffsetView(double Seconds);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/timetable", GetAsync).Needs(Roles.Look).Computes().WithName("Timetable");
        app.MapGet("/api/timetable/proposal", ProposeAsync).Needs(Roles.Look).Computes().WithName("Proposal");
        app.MapPost("/api/timetable/measure", MeasureAsync).Needs(Roles.Look).Computes().WithName("MeasureMoves");
        app.MapPost("/api/timetable/accept", AcceptAsync).Needs(Roles.Plan).WithName("AcceptMoves");
        app.MapGet("/api/offsets", (FleetState state, string? plan, string? task, string? database) =>
            TypedResults.Ok(new OffsetView((Series.Of(state.Fleet).FirstOrDefault(s => s.Plan.Id.Value == plan && s.Task.Id == task && s.Database.Id.Value == database)
                ?? throw new BadInputException("database", $"plan '{plan}' has no task '{task}' for '{database}'", 404, "not-found")).Offset.TotalSeconds)))
            .Needs(Roles.Look).WithName("Offset");
        CalendarEndpoint.Map(app);
    }

    private sealed class Runs(IReadOnlyList<Series> series, Instant since, Instant until) : IPredictionSink
    {
        public List<PredictedRun> States { get; } = [];

        public long Logs { get; private set; }

        public void Add(in PredictedRun run)
        {
            if (run.End is not (RunEnd.Done or RunEnd.Failed) || run.Ended < since.ToUnixTimeMilliseconds() || run.Due > until.ToUnixTimeMilliseconds())
            {
                return;
            }

            if (series[run.Series].Task.Kind == TaskKind.Log)
            {
                Logs++;
            }
            else
            {
                States.Add(run);
            }
        }

        public void AddCopy(int series, long captured, int copier, long at)
        {
            // The run that copies is in the list itself.
        }
    }

    private static async Task<Ok<TimetableView>> GetAsync(FleetState state, DesignedState designed, ImbrekContext data, IClock clock, string? from, string? to, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var start = Premise.ReadInstantOrNull("from", from) ?? now;
        var end = Premise.ReadInstantOrNull("to", to) ?? start + Duration.FromDays(1);
        if (end <= start || end - start > Longest)
        {
            throw new BadInputException("to", $"must lie after \"from\" and at most {Longest.TotalDays:0} days");
        }

        if (end - now > Furthest || now - start > FurthestBack)
        {
            throw new BadInputException(end - now > Furthest ? "to" : "from", $"what ran is shown for {FurthestBack.TotalDays:0} days, what will run for {Furthest.TotalDays:0}");
        }

        var f = state.Fleet;
        var series = Series.Of(f);
        var pauses = await data.Pauses.AsNoTracking().Where(p => p.From < end && (p.To == null || p.To > start)).ToListAsync(cancel);
        var sink = new Runs(series, Instant.Max(start, now), end);
        PredictionFigures? figures = null;
        var begin = Instant.Max(start, now);
        if (end > now)
        {
            // From a day before, so that what is under way is there; differentials find their full.
            begin = now - Duration.FromDays(8);
            figures = await Task.Run(
                () => Prediction.Run(
                    new PredictionInput
                    {
                        Fleet = f,
                        Series = series,
                        From = begin,
                        To = end,
                        ClashesFrom = Instant.Max(start, now),
                        LoadOf = d => designed.LoadOf(d, now),
                        LogsFrom = _ => Instant.Max(start, now) - Duration.FromHours(1),
                        Blackouts = [.. pauses.Select(p => p.ToBlackout())],
                        Curves = true,
                        Cancel = cancel,
                    },
                    sink),
                cancel);
        }

        var log = PlanFile.Name(TaskKind.Log);
        var done = await data.Runs.AsNoTracking()
            .Where(r => r.Plan != null && r.Kind != log && r.Started != null && r.Started < end && (r.Ended == null || r.Ended > start))
            .OrderByDescending(r => r.Due).Take(MostRuns + 1).ToListAsync(cancel);
        var lanes = new List<LaneRun>();
        foreach (var r in done.Take(MostRuns))
        {
            var plan = f.Plans.FirstOrDefault(p => p.Id.Value == r.Plan);
            var task = plan?.Task(r.Task!);
            var ended = r.Ended ?? now;
            lanes.Add(new LaneRun(
                r.Plan!, r.Task!, r.Kind, r.Database, HostOf(f, r.Database), task is null ? null : plan!.StoreOf(task)?.Value, [.. task?.CopyTo.Select(c => c.Value) ?? []], r.Due, r.Started!.Value, ended, true,
                PlanFile.Name(r.StateIs), r.Id, task?.Window is { } w && ended - r.Due > w));
        }

        // What somebody asked for at a time to come, as long as it takes alone.
        var asked = await data.Runs.AsNoTracking().Where(r => r.Plan != null && r.State == (short)RunState.Waiting && r.AskedBy != null && r.Due >= start && r.Due < end).OrderBy(r => r.Due).Take(MostRuns).ToListAsync(cancel);
        foreach (var r in asked)
        {
            if (f.Plans.FirstOrDefault(p => p.Id.Value == r.Plan) is { } plan && plan.Task(r.Task!) is { } task && f.DatabaseById.TryGetValue(new(r.Database), out var d))
            {
                var load = designed.LoadOf(d, now);
                var seconds = task.Kind.Makes() is null ? RunPace.OverheadSeconds : RunPace.Alone(f, d, task, load.StoredWhole(task, r.Due));
                lanes.Add(new LaneRun(
                    r.Plan!, r.Task!, PlanFile.Name(task.Kind), r.Database, d.Host.Value, plan.StoreOf(task)?.Value, [.. task.CopyTo.Select(c => c.Value)], r.Due, r.Due, r.Due + Duration.FromSeconds(Math.Min(seconds, 86_400)), false,
                    "asked", r.Id, false));
            }
        }

        foreach (var p in sink.States.Take(MostRuns))
        {
            var s = series[p.Series];
            var (due, began, ended) = (Instant.FromUnixTimeMilliseconds(p.Due), Instant.FromUnixTimeMilliseconds(p.Started), Instant.FromUnixTimeMilliseconds(p.Ended));
            if (due >= now)
            {
                lanes.Add(new LaneRun(
                    s.Plan.Id.Value, s.Task.Id, PlanFile.Name(s.Task.Kind), s.Database.Id.Value, s.Database.Host.Value, s.Plan.StoreOf(s.Task)?.Value, [.. s.Task.CopyTo.Select(c => c.Value)], due, began, ended, false, "expected", null,
                    s.Task.Window is { } w && ended - due > w));
            }
        }

        return TypedResults.Ok(new TimetableView(
            start,
            end,
            now,
            lanes,
            done.Count > MostRuns || sink.States.Count > MostRuns,
            sink.Logs,
            SliceFor(start, end),
            figures is null ? [] : [.. LoadsOf(f, figures, begin, start, end)],
            [.. WindowsOf(series, start, end)],
            [.. pauses.Select(p => new PauseEndpoints.PauseView(p.Id, p.From, p.To, p.Plan, p.Database, p.Host, p.Store, p.Reason, p.Who))],
            figures is null ? [] : [.. figures.Clashes.Concat(designed.FullStores).Where(c => c.At >= Instant.Max(now, start)).Select(ConsequenceEndpoints.View)]));
    }

    private static double SliceFor(Instant start, Instant end) => Math.Max(LoadCurves.Slice / 1000.0, Math.Ceiling((end - start).TotalSeconds / 300 / 300) * 300);

    private static IEnumerable<LaneLoad> LoadsOf(FleetModel f, PredictionFigures figures, Instant begin, Instant start, Instant end)
    {
        var per = (int)(SliceFor(start, end) * 1000 / LoadCurves.Slice);
        var first = (int)((start - begin).TotalMilliseconds / LoadCurves.Slice);
        IEnumerable<(string Place, string Name, double Capacity)> places =
        [
            .. f.HostList.Select(h => (h.Id.Value, Routes.Of(h.Id), h.WriteBytesPerSecond)),
            .. f.StoreList.Select(s => (s.Id.Value, Routes.Of(s.Id), Math.Max(s.ReadBytesPerSecond, s.WriteBytesPerSecond))),
            .. f.Links.Select(l => ($"{l.One}–{l.Other}", Routes.Of(l.One, l.Other), l.BytesPerSecond)),
        ];
        foreach (var (place, name, capacity) in places)
        {
            var curve = figures.Curves!.Of(figures.ResourceOf(name)).ToArray();
            var slices = new List<double>();
            for (var i = first; i < figures.Curves.Slices; i += per)
            {
                var sum = 0.0;
                for (var k = Math.Max(i, 0); k < Math.Min(i + per, curve.Length); k++)
                {
                    sum += curve[k];
                }

                slices.Add(Math.Round(sum / per / (LoadCurves.Slice / 1000)));
            }

            if (slices.Exists(s => s > 0))
            {
                yield return new LaneLoad(place, capacity, slices);
            }
        }
    }

    private static IEnumerable<WindowBand> WindowsOf(IReadOnlyList<Series> series, Instant start, Instant end)
    {
        foreach (var s in series.Where(s => s.Task.Window is not null && s.Task.Recurrence is not null).DistinctBy(s => (s.Plan.Id, s.Task.Id)))
        {
            foreach (var due in s.Task.Recurrence!.Between(start - s.Task.Window!.Value, end).Take(200))
            {
                yield return new WindowBand(s.Plan.Id.Value, s.Task.Id, due, due + s.Task.Window.Value);
            }
        }
    }

    private static string HostOf(FleetModel f, string database) => f.DatabaseById.TryGetValue(new(database), out var d) ? d.Host.Value : "";

    private static DesignQuestion Question(FleetModel f, DesignedState designed, Instant now, CancellationToken cancel) => new()
    {
        Fleet = f,
        Series = Series.Of(f),
        Databases = [.. f.Databases.Where(d => f.PlansOf(d).Count > 0)],
        From = now,
        LoadOf = d => designed.LoadOf(d, now),
        Cancel = cancel,
    };

    private static async Task<Ok<ProposalView>> ProposeAsync(FleetState state, DesignedState designed, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        await designed.GetAsync(now, cancel);
        var p = await Task.Run(() => Proposal.For(Question(state.Fleet, designed, now, cancel)), cancel);
        return TypedResults.Ok(new ProposalView(
            [.. p.Moves.Select(m => new MoveView(m.Plan.Value, m.Task, m.Database.Value, m.From.TotalSeconds, m.To.TotalSeconds))],
            [.. p.Forced.Select(s => new StayView(s.Plan.Value, s.Task, s.Database.Value, s.Reason))],
            View(p.Before),
            View(p.After)));
    }

    private static CrowdView View(Proposal.Measure m) => new(m.MostAtOnce, m.WindowsMissed, m.WaitingSeconds, m.Stretch, m.LongestSeconds);

    private static Proposal.Move[] Read(AcceptRequest request, FleetModel f)
    {
        if (request.Moves is not { Count: > 0 and <= MostMoves })
        {
            throw new BadInputException("moves", $"name at least one move, and at most {MostMoves}");
        }

        return
        [
            .. request.Moves.Select((m, i) =>
            {
                if (m is null)
                {
                    throw new BadInputException($"moves[{i}]", "expected a move");
                }

                var plan = f.Plans.FirstOrDefault(p => p.Id.Value == m.Plan) ?? throw new BadInputException($"moves[{i}].plan", $"there is no plan '{m.Plan}'");
                if (plan.Task(m.Task ?? "") is null)
                {
                    throw new BadInputException($"moves[{i}].task", $"plan {plan.Name} has no task '{m.Task}'");
                }

                if (!f.DatabaseById.TryGetValue(new(m.Database ?? ""), out var d) || !plan.Members.Catches(d))
                {
                    throw new BadInputException($"moves[{i}].database", $"'{m.Database}' is not a member of {plan.Name}");
                }

                return m.ToSeconds is >= 0 and <= 7 * 86_400 && m.FromSeconds is >= 0 and <= 7 * 86_400
                    ? new Proposal.Move(plan.Id, m.Task!, d.Id, Duration.FromSeconds(m.FromSeconds), Duration.FromSeconds(m.ToSeconds))
                    : throw new BadInputException($"moves[{i}].toSeconds", "must be from 0 to a week");
            }),
        ];
    }

    /// <summary>What moves would come to, before they are saved.</summary>
    private static async Task<Ok<ProposalView>> MeasureAsync(AcceptRequest request, FleetState state, DesignedState designed, IClock clock, CancellationToken cancel)
    {
        var moves = Read(request, state.Fleet);
        var now = clock.GetCurrentInstant();
        var moved = state.Fleet.WithPlans(Proposal.Accept(state.Fleet.Plans, moves));
        var (before, after) = await Task.Run(() => (Proposal.MeasureOf(Question(state.Fleet, designed, now, cancel)), Proposal.MeasureOf(Question(moved, designed, now, cancel))), cancel);
        return TypedResults.Ok(new ProposalView(request.Moves, [.. after.Broken(before).Select(b => new StayView("", "", b.Database.Value, b.Reason))], View(before.Crowd), View(after.Crowd)));
    }

    private static async Task<Ok<AcceptedView>> AcceptAsync(
        AcceptRequest request, FleetState state, NpgsqlDataSource source, ImbrekContext data, Dispatcher dispatcher, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var moves = Read(request, state.Fleet);
        var plans = moves.Select(m => m.Plan).ToHashSet();
        var numbers = await data.PlanVersions.AsNoTracking().GroupBy(v => v.Plan).Select(g => new { g.Key, Number = g.Max(v => v.Number) }).ToDictionaryAsync(g => g.Key, g => g.Number, cancel);
        var changed = Proposal.Accept(state.Fleet.Plans, moves).Where(p => plans.Contains(p.Id)).Select(p => (p, false, numbers[p.Id.Value])).ToArray();
        await PlanEndpoints.WriteAsync(changed, source, state, dispatcher, user.Identity!.Name!, clock, cancel);
        return TypedResults.Ok(new AcceptedView(changed.Length, moves.Length));
    }
}
