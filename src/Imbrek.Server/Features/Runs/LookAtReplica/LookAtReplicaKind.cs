using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.LookAtReplica;

/// <summary>Opens a copy of what a replica holds on a named host, for those who look at it. It ends by itself at its end date; the replica goes on receiving.</summary>
internal sealed class LookAtReplicaKind(Drivers drivers, FleetState fleet, ReplicaBook book, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = "look-at-replica";

    /// <summary>What was asked.</summary>
    /// <param name="Replica">Which replica.</param>
    /// <param name="Host">Where it is opened.</param>
    /// <param name="Instance">The name of what is opened.</param>
    /// <param name="At">The instant wanted; null for the newest.</param>
    /// <param name="Until">When it ends by itself.</param>
    /// <param name="Query">A query that is asked of it; null for none.</param>
    /// <param name="Overlay">Whether it is recovered and takes writes, which are its own and go with it.</param>
    public sealed record Question(string Replica, string Host, string Instance, Instant? At, Instant Until, string? Query, bool Overlay = false) : About(Replica);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>Its steps.</summary>
    public static Run Plan(Question asked)
    {
        var steps = new List<Step>();
        steps.Add(Next(steps, "open", $"Open {asked.Instance} on {asked.Host} as it was {(asked.At is { } at ? Instants.Write(at) : "last")}, for reading", asked.Host, undo: Undo.Own));
        steps.Add(Next(steps, "check", "Check digest, rows and markers", asked.Host, undo: Undo.Nothing));
        if (asked.Overlay)
        {
            steps.Add(Next(steps, "recover", "Recover it in an overlay of its own: it takes writes, which go with it", asked.Host, undo: Undo.Nothing));
        }

        steps.Add(Next(steps, "stand", $"It stands until {Instants.Write(asked.Until)}; cancel to close it sooner", asked.Host, undo: Undo.Nothing) with { TimeLimitSeconds = null });
        steps.Add(Next(steps, "close", "Close it and give its room back", asked.Host, undo: Undo.Nothing));
        return Run.Of(new RunPlan(steps));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        var restore = Drivers.Named(run.Row.Driver!).Restore;
        switch (step.Kind)
        {
            case "open":
                return ReplicaSteps.Of(await Driver(run).OpenCopyAsync(run.Call, new(asked.Replica), Spec(run, asked), asked.At, cancel));
            case "check":
                var reached = RestoreAside.MeasuredBy(run.Run).Select(m => m.Measured.Reached).First(r => r is not null)!;
                return ReplicaSteps.Of(await restore.CheckAsync(run.Call, Spec(run, asked), Instants.Parse(reached), new CheckWish(asked.Query), cancel));
            case "recover":
                return ReplicaSteps.Of(await restore.ReleaseAsync(run.Call, Spec(run, asked), cancel));
            case "stand":
                return Clock.GetCurrentInstant() >= asked.Until
                    ? new StepResult("its time was over")
                    : new StepResult($"stands on {asked.Host} as {asked.Instance}", LookAgainAfter: Duration.Min(Duration.FromMinutes(1), Duration.Max(Duration.FromSeconds(1), asked.Until - Clock.GetCurrentInstant())));
            default:
                await restore.DiscardAsync(run.Call, Spec(run, asked), cancel);
                return new StepResult();
        }
    }

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => Drivers.Named(run.Row.Driver!).Restore.DiscardAsync(run.Call, Spec(run, run.Question<Question>()), cancel);

    protected override string Done(RunContext run) => $"{run.Question<Question>().Instance} was looked at and closed";

    private static InstanceSpec Spec(RunContext run, Question asked) => new(asked.Instance, new(run.Row.Database), new(asked.Host), run.Row.Id);
}
