using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>What kinds of run about replicas have in common: the steps from a seed to a proof, and what is kept of them.</summary>
internal abstract class ReplicaKind(Drivers drivers, FleetState fleet, ReplicaBook book, IClock clock) : IRunKind
{
    /// <summary>What was asked of a replica.</summary>
    /// <param name="Replica">Which.</param>
    internal record About(string Replica);

    /// <inheritdoc/>
    public abstract IReadOnlyList<string> Names { get; }

    protected FleetState Fleet => fleet;

    protected ReplicaBook Book => book;

    protected IClock Clock => clock;

    protected Drivers Drivers => drivers;

    /// <inheritdoc/>
    public abstract Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel);

    /// <inheritdoc/>
    public virtual Task UndoAsync(RunContext run, Step step, CancellationToken cancel) =>
        step.Kind == "provision" ? drivers.Named(run.Row.Driver!).Restore.DiscardAsync(run.Call, SeedOf(run, step.Subject!), cancel) : Task.CompletedTask;

    /// <inheritdoc/>
    public Tally TallyOf(RunContext run) => new(0, RestoreAside.MeasuredBy(run.Run).Sum(m => m.Measured.Bytes), null);

    /// <inheritdoc/>
    public virtual Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var note = NoteOf(run, end, Done(run));
        return new Conclusion(end.State, note, LedgerBody: Body(run, end.State, note, null));
    }

    /// <summary>What there is to say of a run that has ended.</summary>
    /// <param name="run">The run.</param>
    /// <param name="end">How it ended.</param>
    /// <param name="done">What to say when it went well.</param>
    protected static string NoteOf(RunContext run, Ending end, string done)
    {
        var said = end.Failed is { } failed ? run.Run[failed].Note : end.State == RunState.Cancelled ? $"cancelled by {run.Run.CancelledBy}" : done;
        return said + end.NotTakenBack(run.Run.Plan);
    }

    /// <summary>What to say when it went well.</summary>
    protected virtual string Done(RunContext run) => run.Run.Plan.Steps.Select(s => run.Run[s.Number].Note).LastOrDefault(n => n is not null) ?? "";

    /// <summary>The body of its entry in the ledger.</summary>
    protected static string Body(RunContext run, RunState state, string note, object? result) => RunJson.Write(new
    {
        run = run.Row.Id,
        outcome = PlanFile.Name(state),
        why = note,
        begunBy = run.Row.AskedBy,
        replica = run.Question<About>().Replica,
        decidedBy = run.Run.Plan.Steps.Select(s => run.Run[s.Number].DecidedBy).LastOrDefault(d => d is not null),
        measured = RestoreAside.MeasuredBy(run.Run).Select(m => new { step = m.Step.Kind, seconds = m.Measured.Seconds, bytes = m.Measured.Bytes, reached = m.Measured.Reached, position = m.Measured.Position }),
        checks = RestoreAside.MeasuredBy(run.Run).SelectMany(m => m.Measured.Checks ?? []).Select(c => new { name = c.Name, passed = c.Passed, detail = c.Detail }),
        result,
    });

    protected static Id<Replica> ReplicaOf(RunContext run) => new(run.Question<About>().Replica);

    protected IReplicateDriver Driver(RunContext run) => drivers.Named(run.Row.Driver!).Replicate
        ?? throw new DriverException(DriverProblem.Refused, $"the drivers named {run.Row.Driver} do not act on replicas");

    /// <summary>The replica as the fleet has it.</summary>
    protected Replica Known(Id<Replica> id) => ReplicaSteps.Known(fleet.Fleet, id);

    /// <summary>A step that a driver does, tried again where it cannot be reached.</summary>
    protected static Step Next(List<Step> steps, string kind, string title, string subject, double? seconds = null, string? from = null, Undo undo = Undo.Covered, double limit = 3600) => new()
    {
        Number = steps.Count + 1,
        Kind = kind,
        Title = title,
        Subject = subject,
        After = steps.Count == 0 ? [] : [steps[^1].Number],
        ExpectedSeconds = seconds,
        ExpectedFrom = seconds is null ? null : from ?? "profile",
        Attempts = 5,
        BackOffSeconds = 2,
        TimeLimitSeconds = Math.Max(limit, 20 * (seconds ?? 0)),
        Undo = undo,
    };

    /// <summary>From a seed to a proof: it catches up, is proved from both sides, and is seen by its watcher.</summary>
    protected static void AddProof(List<Step> steps, Replica replica, double? catchUpSeconds)
    {
        steps.Add(Next(steps, "catch-up", "Catch up with what was written meanwhile", replica.Id.Value, catchUpSeconds, "log by hour", Undo.Nothing, 7 * 86_400));
        steps.Add(Next(steps, "prove", "Prove it: a marker written there is read here, both hold the same, a write here is refused", replica.Id.Value, 60 + replica.DelaySeconds, "profile", Undo.Nothing, 8 * 3600));
        steps.Add(Next(steps, "watch", "Seen by its watcher, in step", replica.Id.Value, 2 * replica.WatchSeconds, "fleet", Undo.Nothing));
    }

    /// <summary>Names in the fleet that a replica has become the primary.</summary>
    protected async Task<StepResult> NamePromotedAsync(RunContext run, FleetChanges changes, string database, string replica, string from, Promoted p, string why, CancellationToken cancel)
    {
        if (TakeOver.TakeOverKind.Named(changes, fleet.Fleet, database, p.ToBranch(), p.Host, from, replica) is { Count: > 0 } named)
        {
            await changes.KeepAsync(named, why, run.Row.AskedBy!, cancel);
        }

        await book.ForgetAsync(new(replica), cancel);
        return new StepResult(p.Left.Count == 0 ? "all other replicas follow" : $"do not follow: {string.Join("; ", p.Left)}");
    }

    /// <summary>The step that takes the first base of what has none.</summary>
    protected static Step BaseStep(List<Step> steps, string first, string of, PlanTask task, Id<Core.Fleet.Database> database) =>
        Next(steps, "base", $"Take {first} {task.Kind.Makes()!.Value.ToString().ToLowerInvariant()}{of} into {task.Store}", task.Store!.Value.Value, undo: Undo.Nothing, limit: 86_400) with
        {
            Work = RunJson.Write(TakeSpec.Of(task, database)),
        };

    /// <summary>Takes the base that a step is about.</summary>
    protected Task<StepResult> TakeBaseAsync(RunContext run, RunCall call, Step step, CancellationToken cancel) => TaskSteps.TakeAsync(drivers.Named(run.Row.Driver!).Backup, call, step, cancel);

    /// <summary>Names a replica in the fleet, with what else changes for it; it counts for nothing until it is seeded.</summary>
    protected async Task<StepResult> NameReplicaAsync(RunContext run, Id<Replica> id, JsonObject part, IEnumerable<FleetParts.Change> also, FleetChanges changes, CancellationToken cancel)
    {
        if (!fleet.Fleet.Replicas.TryGetValue(id, out var there) || there.Until is not null)
        {
            // What is known of one that had its name before is not known of it.
            await book.ForgetAsync(id, cancel);
            await changes.KeepAsync([FleetParts.Put("replicas", id.Value, part), .. also], "a replica is set up", run.Row.AskedBy!, cancel);
        }

        await book.SeedAsync(id, run.Row.Id, cancel);
        return new StepResult();
    }

    /// <summary>Takes a replica back that did not come to be, with all that was made for it.</summary>
    protected async Task TakeBackReplicaAsync(RunContext run, Id<Replica> id, FleetChanges changes, CancellationToken cancel)
    {
        await book.ForgetSeenAsync(id, cancel);
        if (fleet.Fleet.Replicas.TryGetValue(id, out var replica))
        {
            await Driver(run).EndAsync(run.Call, replica, cancel);
            await changes.KeepAsync([FleetParts.Removed("replicas", id.Value)], "it could not be set up", run.Row.AskedBy!, cancel);
        }
    }

    /// <summary>Adds the steps that restore a path and leave it unopened, and join it.</summary>
    protected static void AddPath(List<Step> steps, Core.Fleet.Database d, RestorePath path, Id<Replica> replica)
    {
        var first = steps[^1].Number;
        foreach (var step in RestoreAside.Steps(d, path, SeedName(replica), held: false).TakeWhile(s => s.Kind != "open"))
        {
            steps.Add(step with { Number = first + step.Number, After = [first + step.Number - 1] });
        }

        steps.Add(Next(steps, "join", "Join it: it receives from here on", replica.Value, 2));
    }

    /// <summary>The instance that a replica is seeded from: restored beside it, not opened, and joined.</summary>
    private static InstanceSpec SeedOf(RunContext run, string host) => new(SeedName(ReplicaOf(run)), new(run.Row.Database), new(host), run.Row.Id);

    private static string SeedName(Id<Replica> replica) => $"seed-{replica}";

    /// <summary>Carries out what all of them may have; null when the step is another.</summary>
    protected async Task<StepResult?> DoSharedAsync(RunContext run, Step step, string host, Action<double> progress, CancellationToken cancel)
    {
        // Where several come into being in one run each step names its own.
        var (driver, id) = (Driver(run), step.Kind is "copy" or "join" or "catch-up" or "prove" or "watch" ? new Id<Replica>(step.Subject!) : ReplicaOf(run));
        var spec = SeedOf(run, host);
        switch (step.Kind)
        {
            case "provision" or "restore" or "logs":
                return new StepResult(null, RestoreAside.Write(await RestoreAside.DoAsync(step, drivers.Named(run.Row.Driver!).Restore, run.Call, spec, clock.GetCurrentInstant(), null, progress, cancel)));
            case "join":
                return ReplicaSteps.Of(await driver.JoinAsync(run.Call, id, spec, cancel));
            case "watch":
                await book.MendedAsync(id, cancel);
                var now = clock.GetCurrentInstant();
                var source = fleet[run.Row.Database].Subject.Replicas.FirstOrDefault(r => r.Replica.Id == id);
                if (source?.At(now) is not { } known || known.Until < run.Run[step.Number].StartedAt)
                {
                    return new StepResult("not seen yet", LookAgainAfter: Duration.FromSeconds(Math.Max(1, Known(id).WatchSeconds)));
                }

                await book.SeedAsync(id, null, cancel);
                return new StepResult($"seen {PlainDuration.Of((now - known.Until).TotalSeconds)} ago, {PlainDuration.Of((now - known.ReceivedTo).TotalSeconds)} behind");
            default:
                return await ReplicaSteps.DoAsync(step, run.Run, driver, run.Call, fleet.Fleet, clock, cancel);
        }
    }
}
