using System.Text.Json.Nodes;
using Imbrek.Core.Drills;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.RemoveReplica;

/// <summary>Ends a replica: its source keeps no log for it any more, and what it was worth until then stays known. Those it fed are fed by its source.</summary>
internal sealed class RemoveReplicaKind(Drivers drivers, FleetState fleet, ReplicaBook book, FleetChanges changes, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = "remove-replica";

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>Its steps; where it is the last way back from a loss, a second person must agree.</summary>
    /// <param name="subject">Its database.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="now">Now.</param>
    public static Run Plan(RecoverySubject subject, Replica replica, Instant now)
    {
        var steps = new List<Step>();
        var without = subject with { Replicas = [.. subject.Replicas.Where(r => r.Replica.Id != replica.Id)] };
        Loss[] alone = [.. (subject.Objective?.Against ?? [LossKind.None]).Append(LossKind.Host).Distinct().Select(k => Loss.OfKind(k).For(subject.Database, subject.Fleet)).Where(l => Way(subject, l) && !Way(without, l))];
        steps.Add(Next(steps, "hold", $"It receives nothing more{(alone.Length == 0 ? "" : $"; without it there is no way back {string.Join(", nor ", alone.Select(l => l.Clause))}")}", replica.Id.Value, 2, undo: Undo.Own) with
        {
            NeedsApproval = alone.Length > 0,
            DecideWithinSeconds = alone.Length > 0 ? Step.ApprovalSeconds : null,
            Owner = alone.Length > 0 ? DrillRunbook.SecondPerson : Step.Product,
        });
        steps.Add(Next(steps, "remove", "It ends; its source keeps no log for it any more", replica.Id.Value, 1) with { NoWayBack = true });
        return Run.Of(new RunPlan(steps));

        bool Way(RecoverySubject s, Loss loss) => Evaluator.RecoverableAt(s, loss, now).Count > 0;
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var id = ReplicaOf(run);
        if (step.Kind == "hold")
        {
            return Fleet.Fleet.Replicas.ContainsKey(id) ? ReplicaSteps.Of(await Driver(run).HoldAsync(run.Call, id, cancel)) : new StepResult();
        }

        if (Fleet.Fleet.Replicas.TryGetValue(id, out var replica))
        {
            if (!(replica.Until <= Clock.GetCurrentInstant()))
            {
                await changes.KeepAsync([.. Refed(changes, Fleet.Fleet, id, replica.From?.Value), Ended(changes, id.Value, Clock.GetCurrentInstant())], "a replica is removed", run.Row.AskedBy!, cancel);
            }

            await Driver(run).EndAsync(run.Call, replica, cancel);
        }

        await Book.ForgetAsync(id, cancel);
        return new StepResult();
    }

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => Driver(run).ResumeAsync(run.Call, ReplicaOf(run), cancel);

    protected override string Done(RunContext run) => $"{ReplicaOf(run)} is no longer a replica";

    /// <summary>A replica that counts no more from an instant on; what it was before then stays known.</summary>
    public static FleetParts.Change Ended(FleetChanges changes, string replica, Instant at)
    {
        var part = changes.Find("replicas", replica)!;
        part["until"] = Core.Formats.Instants.Write(at);
        part["from"] = null;
        return FleetParts.Put("replicas", replica, part);
    }

    /// <summary>Those fed by a replica are fed by another from now on.</summary>
    public static IEnumerable<FleetParts.Change> Refed(FleetChanges changes, Core.Fleet.FleetModel fleet, Core.Fleet.Id<Core.Replication.Replica> by, string? now)
    {
        foreach (var fed in fleet.ReplicaList.Where(r => r.From == by))
        {
            var part = changes.Find("replicas", fed.Id.Value)!;
            part["from"] = now is null ? null : JsonValue.Create(now);
            yield return FleetParts.Put("replicas", fed.Id.Value, part);
        }
    }
}
