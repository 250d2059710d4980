using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.ShipLog;

/// <summary>A stage of shipped replicas: log backed up at the source, copied to their side, or applied there; a step for each replica that log is shipped to.</summary>
internal sealed class ShipLogKind(Drivers drivers, FleetState fleet, IClock clock) : ITaskKind
{
    private sealed record Question(ShippingStep Stage, double? KeepSeconds);

    private sealed record OfReplica(string Replica);

    public IReadOnlyList<string> Names { get; } = [.. Enum.GetValues<TaskKind>().Where(k => k.Ships() is not null).Select(PlanFile.Name)];

    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run)
    {
        var (stage, now) = (run.Task.Kind.Ships()!.Value, clock.GetCurrentInstant());
        Replica[] shipped = [.. fleet.Fleet.ReplicasOf(run.Database.Id).Where(r => r.Stages is not null && !(now < r.Since) && !(now >= r.Until))];
        return shipped.Length == 0
            ? (null, null, "log of it is shipped to no replica")
            : (
                RunJson.Write(new Question(stage, stage == ShippingStep.Apply ? null : run.Task.Keep.KeepFor?.TotalSeconds)),
                Run.Of(new RunPlan([.. shipped.Select((r, i) =>
                    TaskSteps.Of(run.Task, i + 1, "ship", Title(stage, r), r.Id.Value, r.Stages![stage].TakesSeconds) with { Work = RunJson.Write(new OfReplica(r.Id.Value)) })])),
                null);
    }

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        var replica = new Id<Replica>(RunJson.Read<OfReplica>(step.Work).Replica);
        var driver = drivers.Named(run.Row.Driver!).Replicate ?? throw new DriverException(DriverProblem.Refused, $"the drivers named {run.Row.Driver} act on no replicas");
        var moved = await driver.ShipAsync(run.Call, replica, asked.Stage, asked.KeepSeconds, cancel);
        return new StepResult(
            moved.Reached is { } to ? $"{replica}: {Done(asked.Stage)} up to {Instants.Write(to)}" : $"{replica}: there was nothing to do",
            RunJson.Write(new TaskSteps.Measured(moved.Seconds, moved.Bytes)));
    }

    private static string Title(ShippingStep stage, Replica replica) => stage switch
    {
        ShippingStep.Backup => $"Back up log for {replica.Id}, at its source",
        ShippingStep.Copy => $"Copy what was backed up to the side of {replica.Id}",
        _ => $"Apply what was copied to {replica.Id}",
    };

    private static string Done(ShippingStep stage) => stage switch
    {
        ShippingStep.Backup => "backed up",
        ShippingStep.Copy => "copied",
        _ => "applied",
    };
}
