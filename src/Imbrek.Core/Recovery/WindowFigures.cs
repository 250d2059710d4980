using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>Exposure over a window (section 2).</summary>
/// <param name="From">W0.</param>
/// <param name="To">W1.</param>
/// <param name="WorstExposureSeconds">The supremum of the exposure where it is defined; null where it never is.</param>
/// <param name="WorstAt">The earliest instant at which the supremum is reached, possibly as a limit from the left; null with it.</param>
/// <param name="SecondsOverRpo">Seconds during which the exposure is over the RPO or undefined; null without an objective.</param>
/// <param name="SecondsUnprotected">Seconds during which there is nothing to restore.</param>
public sealed record WindowFigures(
    Instant From,
    Instant To,
    double? WorstExposureSeconds,
    Instant? WorstAt,
    double? SecondsOverRpo,
    double SecondsUnprotected);
