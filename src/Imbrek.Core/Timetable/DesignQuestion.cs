using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>What designed figures are asked for.</summary>
public sealed record DesignQuestion
{
    /// <summary>The fleet.</summary>
    public required FleetModel Fleet { get; init; }

    /// <summary>All that runs and competes.</summary>
    public required IReadOnlyList<Series> Series { get; init; }

    /// <summary>The databases figures are wanted of.</summary>
    public required IReadOnlyList<Database> Databases { get; init; }

    /// <summary>Where the week begins.</summary>
    public required Instant From { get; init; }

    /// <summary>How databases live; null for what the fleet states.</summary>
    public Func<Database, DatabaseLoad>? LoadOf { get; init; }

    /// <summary>Actual over modelled seconds, as seen so far; null for 1.</summary>
    public Func<Series, double>? PaceOf { get; init; }

    /// <summary>What chance does; null for a week where all goes as expected.</summary>
    public Chance? Chance { get; init; }

    /// <summary>Whether load curves are wanted.</summary>
    public bool Curves { get; init; }

    /// <summary>Whether restore paths are looked for.</summary>
    public bool WithRestore { get; init; } = true;

    /// <summary>Told the figures of each database as soon as they are made, from several threads; null for nobody.</summary>
    public Action<RecoverySubject, IReadOnlyList<DesignedFigures>>? Made { get; init; }

    /// <summary>How many threads may evaluate side by side, -1 for all there are: one less leaves room for who asks something in between.</summary>
    public int Threads { get; init; } = -1;

    /// <summary>Whoever asked does not wait any more.</summary>
    public CancellationToken Cancel { get; init; }
}

/// <summary>Designed figures and what they were made from.</summary>
/// <param name="Begins">Where the simulation began, before the week.</param>
/// <param name="From">Where the week begins.</param>
/// <param name="To">Where it ends.</param>
/// <param name="ByDatabase">Figures, for every loss the objective names.</param>
/// <param name="Subjects">The databases with the sets that will be there.</param>
/// <param name="Prediction">Clashes, stores and curves, from <paramref name="Begins"/> on.</param>
public sealed record DesignAnswer(
    Instant Begins,
    Instant From,
    Instant To,
    IReadOnlyDictionary<Id<Database>, IReadOnlyList<DesignedFigures>> ByDatabase,
    IReadOnlyDictionary<Id<Database>, RecoverySubject> Subjects,
    PredictionFigures Prediction);
