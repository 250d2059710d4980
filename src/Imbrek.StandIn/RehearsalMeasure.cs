using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What a rehearsed restore measured.</summary>
/// <param name="StartedAt">When it began.</param>
/// <param name="Target">The instant wanted.</param>
/// <param name="Reached">The instant reached.</param>
/// <param name="Host">Where it was restored.</param>
/// <param name="PlannedSeconds">What the path promised.</param>
/// <param name="ActualSeconds">Until it was open.</param>
/// <param name="Checks">What was checked.</param>
public sealed record RehearsalMeasure(
    Instant StartedAt,
    Instant Target,
    Instant Reached,
    Id<Host> Host,
    double PlannedSeconds,
    double ActualSeconds,
    IReadOnlyList<CheckResult> Checks);
