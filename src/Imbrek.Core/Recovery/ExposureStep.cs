using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A stretch of the exposure curve: from <paramref name="At"/> until the next step exposure is A − <paramref name="Latest"/>.</summary>
/// <param name="At">When the stretch begins.</param>
/// <param name="Latest">The latest recoverable instant during it; null when nothing can be restored.</param>
public readonly record struct ExposureStep(Instant At, Instant? Latest)
{
    /// <summary>Exposure at an instant of the stretch, seconds; null when nothing can be restored.</summary>
    public double? SecondsAt(Instant at) => Latest is { } latest ? (at - latest).TotalSeconds : null;
}
