using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>What one loss would mean for one database, observed.</summary>
/// <param name="Loss">The loss, resolved to a thing.</param>
/// <param name="Latest">The latest recoverable instant; null when nothing can be restored.</param>
/// <param name="Window">Figures over the window looked at.</param>
/// <param name="Path">The best way back now; null when there is none.</param>
/// <param name="NoPath">Why there is no path; null when there is one.</param>
/// <param name="CautiousServiceSeconds">Service seconds by the cautious figures; null without a path.</param>
public sealed record LossFigures(
    Loss Loss,
    Instant? Latest,
    WindowFigures Window,
    WayBack? Path,
    string? NoPath,
    double? CautiousServiceSeconds)
{
    /// <summary>What its plans will come to under this loss; null where that is not known, or no plan covers it.</summary>
    public DesignedOutlook? Designed { get; init; }

    /// <summary>Exposure at an instant, seconds, as long as nothing has changed since these figures were made.</summary>
    public double? ExposureSeconds(Instant at) => Latest is { } latest ? (at - latest).TotalSeconds : null;
}
