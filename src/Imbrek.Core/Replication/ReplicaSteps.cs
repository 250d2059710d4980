using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>The steps by which a replica comes to be worth something, whatever run they are of, and how each is carried out through a driver.</summary>
public static class ReplicaSteps
{
    /// <summary>It is in step when it lacks no more than this, or no more than by design.</summary>
    private const double InStepSeconds = 2;

    private const double LookAgainSeconds = 5;

    /// <summary>Carries a step out; null when it is another kind of step.</summary>
    /// <param name="step">The step; its subject is the replica.</param>
    /// <param name="run">The run it is of.</param>
    /// <param name="driver">The driver.</param>
    /// <param name="call">Who calls.</param>
    /// <param name="fleet">The fleet, in which the replica is named.</param>
    /// <param name="clock">The product's clock.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">The driver refuses or cannot, or the replica is no longer in the fleet.</exception>
    public static async Task<StepResult?> DoAsync(Step step, Run run, IReplicateDriver driver, RunCall call, FleetModel fleet, IClock clock, CancellationToken cancel)
    {
        switch (step.Kind)
        {
            case "copy":
                return Of(await driver.CopyAsync(call, new(step.Subject!), cancel));
            case "catch-up":
                var replica = Known(fleet, new(step.Subject!));
                var look = await driver.LookAsync(call, replica.Id, cancel);
                if (look.Unusable)
                {
                    return new StepResult(look.HeldUpBy, Failed: true);
                }

                var lacks = (look.At - look.ReceivedTo).TotalSeconds;
                if (lacks > Math.Max(InStepSeconds, (ByDesign.LossSeconds(fleet, replica) ?? 0) + InStepSeconds))
                {
                    return new StepResult($"{PlainDuration.Of(lacks)} behind{(look.HeldUpBy is { } by ? $": {by}" : "")}", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
                }

                return new StepResult($"in step: {PlainDuration.Of(lacks)} behind", RestoreAside.Write(new RestoreAside.Measured(
                    run[step.Number].StartedAt is { } began ? (look.At - began).TotalSeconds : 0, 0, Instants.Write(look.ReceivedTo), look.Position)));
            case "prove":
                var started = clock.GetCurrentInstant();
                var checks = await driver.ProveAsync(call, new(step.Subject!), cancel);
                return Of(checks, (clock.GetCurrentInstant() - started).TotalSeconds);
            default:
                return null;
        }
    }

    /// <summary>A replica as a fleet has it.</summary>
    /// <exception cref="DriverException">It is no longer there.</exception>
    public static Replica Known(FleetModel fleet, Id<Replica> id) =>
        fleet.Replicas.TryGetValue(id, out var r) ? r : throw new DriverException(DriverProblem.Refused, $"replica {id} is no longer in the fleet");

    /// <summary>A step result of what a driver measured.</summary>
    public static StepResult Of(Moved m, string? note = null) =>
        new(note, RestoreAside.Write(new RestoreAside.Measured(m.Seconds, m.Bytes, m.Reached is { } r ? Instants.Write(r) : null, m.Position)));

    /// <summary>A step result of checks: it has failed when one did not pass.</summary>
    public static StepResult Of(IReadOnlyList<CheckResult> checks, double seconds = 0)
    {
        string[] bad = [.. checks.Where(c => !c.Passed).Select(c => $"{c.Name}: {c.Detail}")];
        return new StepResult(bad.Length == 0 ? $"{checks.Count} checks passed" : string.Join("; ", bad), RestoreAside.Write(new RestoreAside.Measured(seconds, 0, Checks: checks)), Failed: bad.Length > 0);
    }
}
