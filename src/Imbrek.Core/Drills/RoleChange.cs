using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>
/// A drill in which roles change, as it is carried out: each step of its runbook through the contracts of those who act. Markers are written and both sides looked on at throughout. What changes in the fleet is left to
/// whoever keeps it.
/// </summary>
/// <param name="asked">What was asked.</param>
/// <param name="database">The database.</param>
/// <param name="run">Where the run stands.</param>
/// <param name="call">Who calls.</param>
/// <param name="drill">Changes roles and looks on.</param>
/// <param name="replicate">Acts on replicas.</param>
/// <param name="fleet">The fleet as it is now.</param>
/// <param name="clock">The product's clock.</param>
/// <param name="stopsAt">When writes stop, where several do so at one instant; null for at once.</param>
public sealed class RoleChange(DrillQuestion asked, Id<Database> database, Run run, RunCall call, IDrillDriver drill, IReplicateDriver replicate, FleetModel fleet, IClock clock, Instant? stopsAt = null)
{
    private const double LookAgainSeconds = 1;

    private sealed record InPhase(int Phase);

    /// <summary>The phase of a drill that a step is of: 0 for the way there, 1 for the way home.</summary>
    public static int PhaseOf(Step step) => RunJson.Read<InPhase>(step.Work).Phase;

    /// <summary>Carries a step out; null when it is one of what changes in the fleet, or of another kind.</summary>
    /// <exception cref="DriverException">A driver refuses, or cannot.</exception>
    public async Task<StepResult?> DoAsync(Step step, CancellationToken cancel)
    {
        if (step.Kind == "base")
        {
            return null;
        }

        var phase = PhaseOf(step);
        var (from, to, replica) = asked.In(phase);
        var byItself = phase == 0 && asked.Kind == DrillKind.Automatic;
        switch (step.Kind)
        {
            case "precheck":
                return ReplicaSteps.Of(await replicate.TryAsync(call, ReplicaSteps.Known(fleet, new(replica)), cancel));
            case "markers":
                var first = await drill.BeginAsync(call, database, new(asked.To), cancel);
                return new StepResult($"the first marker is of {Instants.Write(first)}");
            case "stop":
                var stopped = byItself ? await drill.ProvokeAsync(call, database, cancel) : await drill.StopAsync(call, database, asked.TakesForLost(phase) ? new(replica) : null, stopsAt, cancel);
                return new StepResult(
                    $"{stopped.How}; {stopped.Markers.Count} markers until then",
                    RunJson.Write(new DrillResult.Stopped(0, 0, Instants.Write(stopped.At), stopped.Markers.Count, stopped.Markers.Last is { } last ? Instants.Write(last) : null)));
            case "caught":
                return await CaughtUpAsync(phase, replica, cancel);
            case "received":
                var look = await replicate.LookAsync(call, new(replica), cancel);
                return look.Unusable
                    ? new StepResult(look.HeldUpBy, Failed: true)
                    : new StepResult($"it has received all up to {Instants.Write(look.ReceivedTo)}", RunJson.Write(new DrillResult.Received(0, 0, Instants.Write(look.ReceivedTo), look.Position, Instants.Write(look.AppliedTo))));
            case "out":
                var writes = await drill.TakesWritesAsync(call, database, new(from), cancel);
                return new StepResult(writes ? $"{from} still takes writes" : $"a write on {from} is refused", Failed: writes);
            case "promote" when byItself:
                return TookOver(to);
            case "promote":
                var p = await replicate.PromoteAsync(call.Part(phase), new(replica), new(to), phase == 0 ? DrillResult.AgreedIn(run) : null, cancel);
                return new StepResult($"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}", RunJson.Write(Promoted.Of(p)));
            case "check":
                return await CheckAsync(phase, cancel);
            case "clients":
                return ReplicaSteps.Of(await drill.SendClientsAsync(call, database, new(to), cancel));
            case "back":
                var at = await drill.ClientsBackAsync(call, database, DrillResult.StoppedIn(run, phase)!.Value, cancel);
                return new StepResult($"a client wrote through the usual address at {Instants.Write(at)}", RunJson.Write(new DrillResult.Returned(0, 0, Instants.Write(at))));
            case "end":
                var all = await drill.SeenAsync(call.Run, database, cancel);
                await drill.EndAsync(call, database, cancel);
                return new StepResult(Measured: RunJson.Write(new DrillResult.SeenAll(0, 0, all)));
            default:
                return await ReplicaSteps.DoAsync(step, run, replicate, call, fleet, clock, cancel);
        }
    }

    /// <summary>Takes a step back; no error when there is nothing to take back.</summary>
    /// <exception cref="DriverException">A driver refuses, or cannot.</exception>
    public Task UndoAsync(Step step, CancellationToken cancel) => step.Kind switch
    {
        "stop" => drill.GoOnAsync(call, database, asked.TakesForLost(0) ? new(asked.Replica) : null, cancel),
        "markers" => drill.EndAsync(call, database, cancel),
        _ => Task.CompletedTask,
    };

    /// <summary>Whether the database runs on another host now, of which nobody was asked: who watches it has named it in the fleet.</summary>
    private StepResult TookOver(string to)
    {
        var d = fleet.DatabaseById[database];
        if (d.Host.Value != to || d.Branches.Count == 0)
        {
            return new StepResult("it has not taken over yet", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
        }

        var b = d.Branches[^1];
        return new StepResult(
            $"branch {b.Id} begins at position {b.ForkPosition}",
            RunJson.Write(new Promoted(0, 0, Instants.Write(b.ForkAt), b.ForkPosition, b.Id, b.Parent, Instants.Write(b.StartsAt), to, 0, null, [])));
    }

    private async Task<StepResult> CaughtUpAsync(int phase, string replica, CancellationToken cancel)
    {
        // One that applies late on purpose holds the rest, and applies it when it is promoted.
        var (stopped, applies) = (DrillResult.StoppedIn(run, phase)!.Value, ReplicaSteps.Known(fleet, new(replica)).DelaySeconds == 0);
        if (await drill.HoldsAllAsync(call, database, new(replica), cancel) is var (received, applied))
        {
            return received && (applied || !applies)
                ? new StepResult("it holds all that was committed", RestoreAside.Write(new RestoreAside.Measured((clock.GetCurrentInstant() - stopped).TotalSeconds, 0)))
                : new StepResult(received ? "all is received, and not yet applied" : "not all is received", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
        }

        var look = await replicate.LookAsync(call, new(replica), cancel);
        if (look.Unusable)
        {
            return new StepResult(look.HeldUpBy, Failed: true);
        }

        var holds = applies ? Instant.Min(look.ReceivedTo, look.AppliedTo) : look.ReceivedTo;
        return holds >= stopped
            ? new StepResult("it holds all that was committed", RestoreAside.Write(new RestoreAside.Measured((look.At - stopped).TotalSeconds, 0, Instants.Write(look.ReceivedTo), look.Position)))
            : new StepResult($"{PlainDuration.Of((stopped - holds).TotalSeconds)} to go{(look.HeldUpBy is { } by ? $": {by}" : "")}", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
    }

    private async Task<StepResult> CheckAsync(int phase, CancellationToken cancel)
    {
        var began = clock.GetCurrentInstant();
        var stopped = DrillResult.StopIn(run, phase)!;
        var checks = new List<CheckResult>(await drill.CheckAsync(call, database, cancel));
        var present = await drill.MarkersAsync(call, database, Instants.Parse(stopped.At), cancel);
        var missing = stopped.Markers - present.Count;
        var mayLose = asked.TakesForLost(phase);
        checks.Add(new("markers", missing <= 0 || mayLose, missing <= 0 ? $"all {stopped.Markers} markers are here" : $"{missing} of {stopped.Markers} markers are not here{(present.Last is { } last ? $"; the last is of {Instants.Write(last)}" : "")}"));
        var both = new DrillTrail(await drill.SeenAsync(call.Run, database, cancel)).BothWritable;
        checks.Add(new("one side writable", both == 0, both == 0 ? "no second in which both sides took a write" : $"both sides took writes in {both} seconds"));
        var failed = checks.Where(c => !c.Passed).ToArray();

        // What did not pass is said at the end: clients are without service, and there is no way back.
        return new StepResult(
            failed.Length == 0 ? $"{checks.Count} checks passed" : $"did not pass: {string.Join("; ", failed.Select(c => $"{c.Name}: {c.Detail}"))}",
            RunJson.Write(new DrillResult.Checked((clock.GetCurrentInstant() - began).TotalSeconds, 0, checks, present.Count, present.Last is { } l ? Instants.Write(l) : null)));
    }
}
