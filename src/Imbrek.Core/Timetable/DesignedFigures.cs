using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;

namespace Imbrek.Core.Timetable;

/// <summary>What a plan will come to for one database under one loss (section 5, designed).</summary>
/// <param name="Loss">The loss, resolved to a thing.</param>
/// <param name="Window">Exposure over the predicted week; its worst is the designed figure.</param>
/// <param name="LongestRestore">The way back that takes longest in that week; null when at some time there is none.</param>
/// <param name="NoPath">Why there is none; null when there is one.</param>
public sealed record DesignedFigures(Loss Loss, WindowFigures Window, WayBack? LongestRestore, string? NoPath)
{
    /// <summary>Whether it keeps an objective.</summary>
    public bool Keeps(Objective objective) => KeepsRpo(objective) && KeepsRto(objective);

    /// <summary>Whether it keeps the recovery point objective throughout.</summary>
    public bool KeepsRpo(Objective objective) => Window.SecondsUnprotected == 0 && Window.WorstExposureSeconds <= objective.RpoSeconds;

    /// <summary>Whether it keeps the recovery time objective throughout.</summary>
    public bool KeepsRto(Objective objective) => LongestRestore?.ServiceSeconds <= objective.RtoSeconds;
}
