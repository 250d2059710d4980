using Imbrek.Core.Fleet;

namespace Imbrek.Core.Timetable;

/// <summary>What a prediction comes to beside its runs.</summary>
/// <param name="Clashes">What gets in each other's way, by time.</param>
/// <param name="Stored">Bytes in each store, day by day from the beginning.</param>
/// <param name="Curves">What each resource moves; null when not asked for.</param>
/// <param name="ResourceOf">The number of a resource in the curves, by the names of <see cref="Routes"/>.</param>
public sealed record PredictionFigures(
    IReadOnlyList<Clash> Clashes, IReadOnlyDictionary<Id<Store>, IReadOnlyList<double>> Stored, LoadCurves? Curves, Func<string, int> ResourceOf);
