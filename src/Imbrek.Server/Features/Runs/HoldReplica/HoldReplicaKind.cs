using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.HoldReplica;

/// <summary>Has replicas receive nothing more, or go on: one by itself, or all of a group together.</summary>
internal sealed class HoldReplicaKind(Drivers drivers, FleetState fleet, ReplicaBook book, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string Hold = "hold-replica", Resume = "resume-replica";

    public override IReadOnlyList<string> Names { get; } = [Hold, Resume];

    /// <summary>A step for each replica; none waits for another.</summary>
    public static Run Plan(bool hold, IReadOnlyList<Replica> replicas)
    {
        var steps = new List<Step>();
        foreach (var r in replicas)
        {
            steps.Add(Next(steps, hold ? "hold" : "resume", hold ? $"{r.Id} receives nothing more" : $"{r.Id} goes on", r.Id.Value, 2, undo: Undo.Own) with { After = [] });
        }

        return Run.Of(new RunPlan(steps));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var id = new Id<Replica>(step.Subject!);
        var moved = await (step.Kind == "hold" ? Driver(run).HoldAsync(run.Call, id, cancel) : Driver(run).ResumeAsync(run.Call, id, cancel));
        await Book.HoldAsync(id, step.Kind == "hold" ? run.Row.AskedBy : null, cancel);
        return ReplicaSteps.Of(moved, step.Kind == "hold" ? $"stands at {moved.Reached}" : "goes on");
    }

    public override async Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        var id = new Id<Replica>(step.Subject!);
        await (step.Kind == "hold" ? Driver(run).ResumeAsync(run.Call, id, cancel) : Driver(run).HoldAsync(run.Call, id, cancel));
        await Book.HoldAsync(id, step.Kind == "hold" ? null : run.Row.AskedBy, cancel);
    }
}
