using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;

namespace Imbrek.Core.Planning;

/// <summary>
/// Which databases a plan is for: those named, and those that fit every criterion stated (of several values of one criterion, any);
/// never those left out by name.
/// </summary>
public sealed record Selection
{
    /// <summary>Databases in it by name.</summary>
    public IReadOnlyList<Id<Database>> Databases { get; init; } = [];

    /// <summary>Criterion: their service.</summary>
    public IReadOnlyList<Id<Service>> Services { get; init; } = [];

    /// <summary>Criterion: a tag of theirs.</summary>
    public IReadOnlyList<string> Tags { get; init; } = [];

    /// <summary>Criterion: their engine family.</summary>
    public IReadOnlyList<Id<EngineProfile>> Engines { get; init; } = [];

    /// <summary>Criterion: their objective.</summary>
    public IReadOnlyList<Id<Objective>> Objectives { get; init; } = [];

    /// <summary>Databases left out by name.</summary>
    public IReadOnlyList<Id<Database>> Except { get; init; } = [];

    /// <summary>Whether a criterion is stated.</summary>
    public bool HasRule => Services.Count + Tags.Count + Engines.Count + Objectives.Count > 0;

    /// <summary>Whether a database is in it.</summary>
    public bool Catches(Database database) =>
        !Except.Contains(database.Id) && (Databases.Contains(database.Id) || (HasRule
            && (Services.Count == 0 || (database.Service is { } s && Services.Contains(s)))
            && (Tags.Count == 0 || database.Tags.Any(t => Tags.Contains(t)))
            && (Engines.Count == 0 || Engines.Contains(database.Engine))
            && (Objectives.Count == 0 || (database.Objective is { } o && Objectives.Contains(o)))));

    /// <summary>The databases it catches, in the order of the fleet.</summary>
    public IReadOnlyList<Database> Of(FleetModel fleet)
    {
        if (HasRule)
        {
            return [.. fleet.Databases.Where(Catches)];
        }

        var (named, except) = (Databases.ToHashSet(), Except.ToHashSet());
        return [.. fleet.Databases.Where(d => named.Contains(d.Id) && !except.Contains(d.Id))];
    }
}
