using Imbrek.Core.Drivers;
using Imbrek.Core.Evidence;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>A kind of run that restores: it carries a path out through the drivers of the database, goes on with another where a copy fails, and proves what came of it.</summary>
internal abstract class RestoringKind(Drivers drivers, FleetState fleet, IClock clock) : IRunKind
{
    private const int MostCopiesAvoided = 8;

    /// <inheritdoc/>
    public abstract IReadOnlyList<string> Names { get; }

    /// <summary>The fleet in memory.</summary>
    protected FleetState Fleet => fleet;

    /// <summary>The product's clock.</summary>
    protected IClock Clock => clock;

    /// <summary>The drivers of this installation.</summary>
    protected Drivers Drivers => drivers;

    /// <inheritdoc/>
    public virtual async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        if (step.Kind is NeededSetting.Set or NeededSetting.SetBack)
        {
            return await NeededSetting.DoAsync(step, drivers.Named(run.Row.Driver!).Restore, run.Call, clock.GetCurrentInstant(), cancel);
        }

        var asked = RestoreQuestion.Of(run.Row)!;
        var measured = await RestoreAside.DoAsync(
            step, drivers.Named(run.Row.Driver!).Restore, asked.Call(run), asked.Spec(run), asked.Planned.Reaches, new CheckWish(asked.Query, asked.CheckWithin), progress, cancel);
        return SaidOf(measured);
    }

    /// <summary>What a step of a restore says and measured.</summary>
    internal static StepResult SaidOf(RestoreAside.Measured measured) => new(
        measured.Checks?.Count(c => !c.Passed) switch { null => null, 0 => $"{measured.Checks!.Count} checks passed", var bad => $"{bad} of {measured.Checks!.Count} checks did not pass" }, RestoreAside.Write(measured));

    /// <inheritdoc/>
    public virtual Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => step.Kind == NeededSetting.Set
        ? NeededSetting.UndoAsync(step, drivers.Named(run.Row.Driver!).Restore, run.Call, cancel)
        : drivers.Named(run.Row.Driver!).Restore.DiscardAsync(run.Call, RestoreQuestion.Of(run.Row)!.Spec(run.Row.Database, run.Row.Id), cancel);

    /// <summary>Where a copy failed: another copy of the same sets, or another chain, if it reaches as late as was promised.</summary>
    public virtual (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure)
    {
        if (failure is not { Problem: DriverProblem.CopyDamaged or DriverProblem.CopyUnreachable, Copy: not null })
        {
            return (null, null);
        }

        var asked = RestoreQuestion.Of(run.Row)!;
        var db = fleet[run.Row.Database];
        var avoided = Avoided(run.Run);
        var answer = PathFinder.Find(db.Subject, new PathQuestion
        {
            Target = asked.Target,
            At = clock.GetCurrentInstant(),
            Loss = asked.LossOf(fleet.Fleet),
            Choice = new(new(asked.Host), null, asked.Without is null ? null : new(asked.Without)),
            Learned = db.Learned,
            Mounted = asked.Mounted,
            Except = (set, store) => avoided.Contains((set.Value, store.Value)),
        });
        return answer.Best is not { } path ? (null, $"no other path is left ({answer.Reason})")
            : avoided.Count > MostCopiesAvoided ? (null, $"{avoided.Count} copies have failed")
            : path.Reaches < asked.Planned.Reaches ? (null, $"the next path reaches only {Instants.Write(path.Reaches)}, which is for people to decide")
            : (RestoreAside.GoOn(db.Subject.Database, run.Run, path, failure.Copy), null);

        // The failing step reads its copies in order: what it says failed is left out from now on, and so is what failed before.
        HashSet<(string, string)> Avoided(Run r) => [.. RestoreAside.CopiesThatFailed(r), (failure.Copy!.Set.Value, failure.Copy.Store.Value)];
    }

    /// <inheritdoc/>
    public virtual string? Measured(RunContext run) => Result(run) is { } m ? RunJson.Write(m) : null;

    /// <inheritdoc/>
    public Tally TallyOf(RunContext run) => new(0, RestoreAside.MeasuredBy(run.Run).Sum(m => m.Measured.Bytes), null);

    /// <inheritdoc/>
    public abstract Conclusion Conclude(RunContext run, Ending end, Instant now);

    /// <summary>What came of it beside what it restored, for its entry in the ledger; null for nothing.</summary>
    protected virtual object? Made(RunContext run) => null;

    /// <summary>What has been measured so far; null until it is ready and checked.</summary>
    protected RestoreResult? Result(RunContext run) =>
        fleet.Has(run.Row.Database) ? RestoreResult.Of(run.Run, run.Row.Started, RestoreQuestion.Of(run.Row)!, fleet.Fleet.DatabaseById[new(run.Row.Database)]) : null;

    /// <summary>What is kept when it ends.</summary>
    /// <param name="run">The run.</param>
    /// <param name="end">How it ended.</param>
    /// <param name="done">What to say when it went well.</param>
    /// <param name="keepsClaim">Whether its instance stays.</param>
    /// <param name="now">The instant.</param>
    /// <param name="state">How it ended, where its steps went well and what was found did not; null for as its steps did.</param>
    protected Conclusion Conclude(RunContext run, Ending end, string done, bool keepsClaim, Instant now, RunState? state = null)
    {
        var asked = RestoreQuestion.Of(run.Row)!;
        var measured = Result(run);
        var note = end.State switch
        {
            RunState.Done => done,
            RunState.Cancelled => "cancelled; nothing was left behind",
            _ => (end.Failed is { } failed ? run.Run[failed].Note : null) ?? (run.Run.CancelledBy is not null ? "cancelled" : "it could not be completed"),
        };
        if (end.LeftBehind.Count > 0)
        {
            var why = run.Run[end.LeftBehind[0]].Note;
            note = $"{note}; instance {asked.Instance} could not be removed from {asked.Host} and may still be there{(why is null ? "" : $": {why}")}";
        }

        ProofRow? proof = null;
        if (end.State == RunState.Done && measured is not null && fleet.Fleet.DatabaseById.TryGetValue(new(run.Row.Database), out var d))
        {
            var loss = asked.LossOf(fleet.Fleet);
            proof = ProofRow.Of(d.Id, new Proof(now, measured.DataLostSeconds, measured.ServiceSeconds, measured.Checks.All(c => c.Passed), d.SizeBytes, d.Version, loss.StandsFor(d, fleet.Fleet)), loss, new(asked.Host), run.Row.Id);
        }

        // What another run made is that run's, whatever comes of this one.
        var stays = keepsClaim || (end.LeftBehind.Count > 0 && asked.On is null);
        return new Conclusion(state ?? end.State, note, stays ? asked.Claim : null, Body(run, asked, measured, state ?? end.State, note, Made(run)), proof is null ? null : [proof], Learn(run, asked));
    }

    /// <summary>What taking the place of its database came to; null before.</summary>
    protected static Promoted? PlacedIn(Run run) =>
        run.Plan.Steps.Where(s => s.Kind == "place").Select(s => run[s.Number].Measured).LastOrDefault(m => m is not null) is { } measured ? RunJson.Read<Promoted>(measured) : null;

    /// <summary>How speeds compared with the profile: only from what one call moved whole; a step taken up again, or one that goes on where another copy failed, says nothing of its speed.</summary>
    private static List<PaceRow> Learn(RunContext run, RestoreQuestion asked)
    {
        var learned = new List<PaceRow>();
        if (run.Run.Plan.Steps.Any(s => s.InsteadOf is not null))
        {
            return learned;
        }

        foreach (var (step, m) in RestoreAside.MeasuredBy(run.Run).Where(m => m.Measured is { Bytes: > 0, Seconds: > 0 } && run.Run[m.Step.Number] is { Attempts: 1, TakenUp: 0 }))
        {
            var pieces = RestoreAside.PiecesOf(step);
            if (pieces.Sum(p => p.ProfileSeconds) is > 0 and var profile)
            {
                learned.AddRange(pieces.Select(p => p.Store).Distinct().Select(store => new PaceRow { Database = run.Row.Database, Store = store, Host = asked.Host, ProfileSeconds = profile, ActualSeconds = m.Seconds }));
            }
        }

        return learned;
    }

    private static string Body(RunContext run, RestoreQuestion asked, RestoreResult? measured, RunState state, string note, object? made) => RunJson.Write(new
    {
        run = run.Row.Id,
        outcome = run.Run.Plan.Steps.LastOrDefault(s => s.IsHold) is { } hold && run.Run[hold.Number].Choice is { } choice && state == RunState.Done ? choice == RestoreAside.Release ? "released" : "discarded" : PlanFile.Name(state),
        why = note,
        begunBy = run.Row.AskedBy,
        premise = new { loss = asked.Loss, at = Instants.Write(asked.At) },
        target = Instants.Write(asked.Target),
        host = asked.Host,
        instance = asked.Instance,
        copies = run.Run.Plan.Steps.Where(s => run.Run[s.Number].State == StepState.Done).SelectMany(RestoreAside.PiecesOf).Select(p => $"{p.Set}@{p.Store}"),
        planned = new { reaches = Instants.Write(asked.Planned.Reaches), lostSeconds = asked.Planned.LostSeconds, seconds = asked.Planned.Seconds, serviceSeconds = asked.Planned.ServiceSeconds, source = asked.Planned.Source },
        measured = measured is null
            ? null
            : new
            {
                reached = Instants.Write(measured.Reached),
                dataLostSeconds = measured.DataLostSeconds,
                bytes = measured.Bytes,
                driverSeconds = measured.DriverSeconds,
                secondsToReady = measured.SecondsToReady,
                holdSeconds = measured.HoldSeconds,
                secondsToService = measured.SecondsToService,
                serviceSecondsWithoutHold = measured.ServiceSeconds,
                checks = measured.Checks.Select(c => new { name = c.Name, passed = c.Passed, detail = c.Detail }),
            },
        made,
    });
}
