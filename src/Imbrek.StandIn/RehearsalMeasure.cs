using Imbrek.Core.Drivers;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What a rehearsed restore measured.</summary>
/// <param name="StartedAt">When it began.</param>
/// <param name="Target">The instant wanted.</param>
/// <param name="Reached">The instant reached.</param>
/// <param name="Loss">The loss that was supposed.</param>
/// <param name="Host">Where it was restored.</param>
/// <param name="PlannedSeconds">What the path promised.</param>
/// <param name="ActualSeconds">Until it was open.</param>
/// <param name="Checks">What was checked.</param>
public sealed record RehearsalMeasure(
    Instant StartedAt,
    Instant Target,
    Instant Reached,
    Loss Loss,
    Id<Host> Host,
    double PlannedSeconds,
    double ActualSeconds,
    IReadOnlyList<CheckResult> Checks)
{
    /// <summary>What it proves of a database.</summary>
    /// <param name="d">The database.</param>
    /// <param name="fleet">Its fleet.</param>
    /// <param name="at">When it was over.</param>
    public Proof ProofOf(Database d, FleetModel fleet, Instant at) =>
        new(at, (Target - Reached).TotalSeconds, d.ServiceSeconds(ActualSeconds), Checks.All(c => c.Passed), d.SizeBytes, d.Version, Loss.StandsFor(d, fleet));
}
