namespace Imbrek.Core.Timetable;

/// <summary>What a prediction comes to beside its runs.</summary>
/// <param name="Clashes">What gets in each other's way, by time.</param>
/// <param name="Curves">What each resource moves; null when not asked for.</param>
/// <param name="ResourceOf">The number of a resource in the curves, by the names of <see cref="Routes"/>.</param>
public sealed record PredictionFigures(
    IReadOnlyList<Clash> Clashes, LoadCurves? Curves, Func<string, int> ResourceOf);
