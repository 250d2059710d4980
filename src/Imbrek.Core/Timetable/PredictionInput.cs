using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>What a prediction is asked for.</summary>
public sealed record PredictionInput
{
    /// <summary>The fleet.</summary>
    public required FleetModel Fleet { get; init; }

    /// <summary>What runs.</summary>
    public required IReadOnlyList<Series> Series { get; init; }

    /// <summary>When it begins.</summary>
    public required Instant From { get; init; }

    /// <summary>When it ends.</summary>
    public required Instant To { get; init; }

    /// <summary>How databases live; null for what the fleet states.</summary>
    public Func<Database, DatabaseLoad>? LoadOf { get; init; }

    /// <summary>From when log backups of a database are simulated, when not from the beginning; earlier ones cannot matter to who asks.</summary>
    public Func<Id<Database>, Instant>? LogsFrom { get; init; }

    /// <summary>Times in which things do not start.</summary>
    public IReadOnlyList<Blackout> Blackouts { get; init; } = [];

    /// <summary>Actual over modelled seconds, as seen so far; null for 1.</summary>
    public Func<Series, double>? PaceOf { get; init; }

    /// <summary>From when clashes count; what is due earlier only warms up. Null for from the beginning.</summary>
    public Instant? ClashesFrom { get; init; }

    /// <summary>Whether load curves are wanted.</summary>
    public bool Curves { get; init; }

    /// <summary>What chance does; null for a world where all goes as expected.</summary>
    public Chance? Chance { get; init; }

    /// <summary>Whoever asked does not wait any more.</summary>
    public CancellationToken Cancel { get; init; }
}

/// <summary>What chance does to runs.</summary>
/// <param name="Seed">The same seed gives the same chances.</param>
/// <param name="Fails">The share of attempts that fail, 0 to 1, by kind of task.</param>
/// <param name="Spread">Standard deviation of the logarithm of durations.</param>
public sealed record Chance(ulong Seed, Func<TaskKind, double> Fails, double Spread);
