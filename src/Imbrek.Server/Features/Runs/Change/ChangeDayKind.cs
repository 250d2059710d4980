using System.Text.Json.Nodes;
using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.RestoreInPlace;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Change;

/// <summary>
/// A change day: a second person agrees, it is looked at, everybody is kept out where that is needed, a fresh recovery point is taken; people begin it, look at what came of it, keep it or turn back. Turning back is a
/// restore in place by a run of its own, to the moment at which the first part began.
/// </summary>
internal sealed class ChangeDayKind(Drivers drivers, FleetState fleet, FleetChanges changes, IServiceScopeFactory scopes, IClock clock) : IRunKind
{
    public const string KindName = "change";

    /// <summary>The sets it takes are calls of their own.</summary>
    private const int PointPart = 1, SavePart = 2, BasePart = 3;

    private static readonly Duration LooksAgain = Duration.FromSeconds(1), LeastPause = Duration.FromSeconds(10);

    private const int LooksWhileWatching = 30;

    /// <summary>What was asked.</summary>
    /// <param name="Change">The change, as it was then.</param>
    /// <param name="WindowEnd">When the window ends.</param>
    /// <param name="WatchSeconds">How long it is watched afterwards.</param>
    /// <param name="WayBackSeconds">How long turning back takes.</param>
    /// <param name="LastTurn">The last moment to turn back.</param>
    /// <param name="Forecast">What rehearsals said; null without any.</param>
    public sealed record Question(Core.Changes.Change Change, Instant WindowEnd, double WatchSeconds, double WayBackSeconds, Instant LastTurn, ChangeForecast? Forecast);

    /// <inheritdoc/>
    public IReadOnlyList<string> Names { get; } = [KindName];

    /// <inheritdoc/>
    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (asked, family, database) = (run.Question<Question>(), drivers.Named(run.Row.Driver!), new Core.Fleet.Id<Core.Fleet.Database>(run.Row.Database));
        var target = new ChangeTarget(database, null);
        switch (step.Kind)
        {
            case ChangeSteps.Before or ChangeSteps.After:
                return ChangeResult.Said(await family.Change!.LookAsync(run.Call, target, asked.Change.Queries, cancel));
            case "out":
                return new StepResult(await family.Fences.ShutOutAsync(run.Call, database, null, cancel));
            case "point":
                return await TaskSteps.TakeAsync(family.Backup, run.Call.Part(PointPart), step, cancel);
            case ChangeSteps.Part:
                var number = RunJson.Read<ChangeSteps.PartWork>(step.Work).Number;
                return ChangeResult.Said(await family.Change!.DoAsync(run.Call, target, number, RoundOf(run.Run, step), asked.Change.Parts[number - 1], cancel));
            case "name":
                return await NameAsync(run, cancel);
            case "let-in":
                await family.Fences.LetInAsync(run.Call, database, cancel);
                return new StepResult();
            case "base":
                return await TaskSteps.TakeAsync(family.Backup, run.Call.Part(BasePart), step, cancel);
            case ChangeSteps.Watch:
                return await WatchAsync(run, step, asked, family.Change!, target, cancel);
            case ChangeSteps.TurnBack:
                return await TurnBackAsync(run, step, family, cancel);
            default:
                throw new InvalidOperationException(step.Kind);
        }
    }

    /// <inheritdoc/>
    public Task UndoAsync(RunContext run, Step step, CancellationToken cancel) =>
        step.Kind == "out" ? drivers.Named(run.Row.Driver!).Fences.LetInAsync(run.Call, new(run.Row.Database), cancel) : Task.CompletedTask;

    /// <inheritdoc/>
    public string? Measured(RunContext run) => ChangeResult.Of(run.Run, run.Question<Question>().Change, null, null) is { Before: not null } r ? RunJson.Write(r) : null;

    /// <inheritdoc/>
    public Tally TallyOf(RunContext run) => new(0, run.Run.Plan.Steps.Where(s => s.Kind is "point" or "base" && run.Run[s.Number].Measured is not null).Sum(s => RunJson.Read<RestoreAside.Measured>(run.Run[s.Number].Measured!).Bytes), null);

    /// <inheritdoc/>
    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<Question>();
        var r = ChangeResult.Of(run.Run, asked.Change, null, null);
        var chosen = run.Run.Plan.Steps.Where(s => s.IsHold).Select(s => run.Run[s.Number].Choice).LastOrDefault(c => c is not null);
        var note = end.State == RunState.Cancelled ? $"called off by {run.Run.CancelledBy}; nothing was changed"
            : end.Failed is { } failed ? run.Run[failed].Note ?? "it could not be completed"
            : chosen == ChangeSteps.TurnBack ? "turned back: it is as it was before"
            : chosen == ChangeSteps.LeaveIt ? r.Parts.Count == 0 ? "not begun; nothing was changed" : $"left as it stands, after {r.Parts.Count} of {asked.Change.Parts.Count} parts"
            : $"{asked.Change.Name}: {PlainDuration.Of(r.Seconds)}{(r.OutSeconds is { } s ? $", nobody could work for {PlainDuration.Of(s)}" : "")}, {(r.Broke == 0 ? "nothing broke" : $"{r.Broke} {(r.Broke == 1 ? "thing" : "things")} broke or became slow")}{(r.Branch is { } b ? $"; sets taken before {Instants.Write(b.StartsAt)} bring back instants up to then alone, on the version before" : "")}{(r.Left.Count == 0 ? "" : $"; {r.Left.Count} {(r.Left.Count == 1 ? "replica no longer follows" : "replicas no longer follow")}")}";
        return new Conclusion(end.State, note, LedgerBody: RunJson.Write(new
        {
            run = run.Row.Id,
            outcome = chosen ?? PlanFile.Name(end.State),
            why = note,
            begunBy = run.Row.AskedBy,
            decidedBy = run.Run.Plan.Steps.Where(s => s.IsHold).Select(s => run.Run[s.Number].DecidedBy).LastOrDefault(d => d is not null),
            change = asked.Change,
            windowEnd = Instants.Write(asked.WindowEnd),
            expected = asked.Forecast,
            measured = new { parts = r.Parts.Select(p => new { p.Name, p.Seconds }), outSeconds = r.OutSeconds, differences = r.Differences, slower = r.Slower, branch = r.Branch },
        }));
    }

    /// <summary>How often people have decided again that a step be carried out.</summary>
    private static int RoundOf(Core.Runs.Run run, Step step) => run[run.Plan.Steps.Last(s => s.IsHold && s.Number < step.Number).Number].Round;

    /// <summary>Names version and branch in the fleet, once.</summary>
    private async Task<StepResult> NameAsync(RunContext run, CancellationToken cancel)
    {
        var moved = run.Run.Plan.Steps.Where(s => s.Kind == ChangeSteps.Part && run.Run[s.Number].Measured is not null).Select(s => RunJson.Read<PartDone>(run.Run[s.Number].Measured!)).Last(p => p.Version is not null);
        var database = changes.Find("databases", run.Row.Database)!;
        var known = fleet.Fleet.DatabaseById[new(run.Row.Database)];
        if (known.Version != moved.Version || (moved.Branch is { } b && known.Branches.All(x => x.Id != b.Id)))
        {
            database["version"] = moved.Version;
            if (moved.Branch is { } branch && known.Branches.All(x => x.Id != branch.Id))
            {
                FleetChanges.Name(database, branch);
            }

            await changes.KeepAsync([FleetParts.Put("databases", run.Row.Database, database)], $"it was moved to version {moved.Version}", run.Row.AskedBy!, cancel);
        }

        return new StepResult(moved.Left is null or [] ? null : $"do not follow: {string.Join("; ", moved.Left)}");
    }

    /// <summary>Looks again and again until its time is over; what is seen last is what it measured.</summary>
    private async Task<StepResult> WatchAsync(RunContext run, Step step, Question asked, IChangeDriver driver, ChangeTarget target, CancellationToken cancel)
    {
        var look = await driver.LookAsync(run.Call, target, asked.Change.Queries, cancel);
        var before = ChangeResult.Of(run.Run, asked.Change, null, null).Before!;
        var worst = look.Queries.Join(before.Queries, q => q.Name, q => q.Name, (now, was) => (now.Name, Times: was.Seconds <= 0 ? 1 : now.Seconds / was.Seconds)).OrderByDescending(x => x.Times).FirstOrDefault();
        var said = worst.Name is null ? "it answers" : $"{worst.Name} takes {worst.Times:0.0#} times as long as before";
        var until = run.Run[step.Number].StartedAt!.Value + Duration.FromSeconds(asked.WatchSeconds);
        return clock.GetCurrentInstant() >= until ? new StepResult(said, RunJson.Write(look)) : new StepResult(said, LookAgainAfter: Duration.Max(LeastPause, Duration.FromSeconds(asked.WatchSeconds / LooksWhileWatching)));
    }

    /// <summary>Begins the restore in place, in the name of who turned back, and waits for it. Where others could write, what they did is saved first, so that it reaches to the moment before.</summary>
    private async Task<StepResult> TurnBackAsync(RunContext run, Step step, IDriverFamily family, CancellationToken cancel)
    {
        await using var scope = scopes.CreateAsyncScope();
        var (services, hold) = (scope.ServiceProvider, run.Run[step.After[0]]);
        var (id, who) = (RunsOfMany.IdOf(run.Row.Id, hold.Round), hold.DecidedBy!);
        if (await services.GetRequiredService<ImbrekContext>().Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) is { } there)
        {
            if (there.StateIs.IsOver())
            {
                if (there.StateIs == RunState.Done && there.ToRun() is var its && its.Plan.Steps.Any(s => s.Kind == "place" && its[s.Number].State == StepState.Done))
                {
                    return new StepResult(there.Note);
                }

                if (run.Question<Question>().Change.IsOutage)
                {
                    // What was not put back may have let everybody in when it ended; here people have not decided yet.
                    await family.Fences.ShutOutAsync(run.Call, new(run.Row.Database), null, cancel);
                }

                return new StepResult(there.Note ?? "it was not put back", Failed: true);
            }

            return await RunsOfMany.DriveAsync(run, "the change", [(run.Row.Database, id)], services, clock.GetCurrentInstant(), null, [new("out", Step.Approve, who)], cancel);
        }

        var parts = run.Run.Plan.Steps.Where(s => s.Kind == ChangeSteps.Part).Select(s => run.Run[s.Number]).ToArray();
        if (parts.Min(p => p.StartedAt) is not { } to)
        {
            return new StepResult("nothing was changed yet: leave it instead", Failed: true);
        }

        var moved = parts.Any(p => p.Measured is { } m && RunJson.Read<PartDone>(m).Branch is not null);
        var point = run.Run.Plan.Steps.First(s => s.Kind == "point");
        if (!moved && !run.Question<Question>().Change.IsOutage && !RunJson.Read<TakeSpec>(point.Work).OutsideChain && run.Run[step.Number].Note is null)
        {
            var saved = await TaskSteps.TakeAsync(family.Backup, run.Call.Part(SavePart), point, cancel);
            return saved with { Note = $"saved first: {saved.Note ?? "nothing was written since"}", Measured = null, LookAgainAfter = LooksAgain };
        }

        var (db, now) = (fleet[run.Row.Database], clock.GetCurrentInstant());
        var (s, d) = (db.Subject, db.Subject.Database);
        var answer = PathFinder.Find(s, new PathQuestion { Target = to, At = now, Loss = Loss.None, Choice = new(d.Host), Learned = db.Learned });
        if (answer.Best is not { } path)
        {
            return new StepResult($"it cannot be put back: {answer.Reason}", Failed: true);
        }

        var question = new RestoreQuestion(Loss.None.ToString(), to, null, null, null, path.Host.Value, $"back-{id:n}"[..17], RestoreQuestion.Promise.Of(path));
        var row = RestoreInPlaceKind.Row(s, path, question, family.Name, who, now);
        row.Claim += "/turn-back";
        return await RunsOfMany.KeepAsync(run, id, row, services, cancel) with { LookAgainAfter = LooksAgain };
    }
}
