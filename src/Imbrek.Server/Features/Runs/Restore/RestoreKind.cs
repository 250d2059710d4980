using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>A restore aside: rebuilt, checked, held until somebody has looked, then released or thrown away.</summary>
internal sealed class RestoreKind(Drivers drivers, FleetState fleet, IClock clock) : RestoringKind(drivers, fleet, clock)
{
    public const string KindName = "restore";

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var released = end.State == RunState.Done && Chosen(run.Run) == RestoreAside.Release;
        return Conclude(run, end, released ? "released; clients are let in" : "checked, then thrown away", keepsClaim: released, now);
    }

    /// <summary>What people chose at the hold; null before.</summary>
    private static string? Chosen(Run run) => run.Plan.Steps.LastOrDefault(s => s.IsHold) is { } hold ? run[hold.Number].Choice : null;
}
