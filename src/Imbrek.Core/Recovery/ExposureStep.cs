using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A stretch of the exposure curve, until the next step: exposure rises with time where what can be reached stands, and is level where that moves.</summary>
/// <param name="At">When the stretch begins.</param>
/// <param name="Reach">How far one can get during it.</param>
public readonly record struct ExposureStep(Instant At, Reach Reach)
{
    /// <summary>Exposure at an instant of the stretch, seconds; null when nothing can be restored.</summary>
    public double? SecondsAt(Instant at) => (at - Reach.LatestAt(at))?.TotalSeconds;
}
