using NodaTime;

namespace Imbrek.Core.Fleet;

/// <summary>Until when a version of an engine family is supported.</summary>
/// <param name="Engine">The family.</param>
/// <param name="Version">The major version.</param>
/// <param name="SupportedUntil">The last day on which it is, everywhere.</param>
public sealed record VersionSupport(Id<EngineProfile> Engine, string Version, LocalDate SupportedUntil);

/// <summary>The version calendar (ways, section 8): until when versions are supported, and which databases must move on by when.</summary>
public sealed class VersionCalendar
{
    /// <summary>How many days before the end of support a database is named.</summary>
    public const int NearDays = 180;

    private readonly Dictionary<(Id<EngineProfile> Engine, string Version), VersionSupport> known;

    /// <summary>A calendar of versions, each once.</summary>
    /// <exception cref="ArgumentException">A version comes twice.</exception>
    public VersionCalendar(IReadOnlyList<VersionSupport> versions)
    {
        Versions = versions;
        known = versions.ToDictionary(v => (v.Engine, v.Version));
    }

    /// <summary>The versions, in the order of the file.</summary>
    public IReadOnlyList<VersionSupport> Versions { get; }

    /// <summary>Where a database stands in it.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Support">Its version.</param>
    /// <param name="DaysLeft">Days until the last supported one; below 0 when that has passed.</param>
    public sealed record Standing(Database Database, VersionSupport Support, int DaysLeft)
    {
        /// <summary>Whether it runs without support.</summary>
        public bool IsPast => DaysLeft < 0;

        /// <summary>Whether it must move on: its support has ended, or ends soon.</summary>
        public bool IsNear => DaysLeft <= NearDays;
    }

    /// <summary>Where a database stands; null when its version is not stated, or not in the calendar.</summary>
    public Standing? Of(Database database, Instant at) => database.Version is { } version && known.TryGetValue((database.Engine, version), out var support)
        ? new(database, support, Period.DaysBetween(at.InUtc().Date, support.SupportedUntil))
        : null;

    /// <summary>The newest version of a family that is supported longer than another; null when there is none.</summary>
    public VersionSupport? NextAfter(VersionSupport support) => Versions.Where(v => v.Engine == support.Engine && v.SupportedUntil > support.SupportedUntil).MaxBy(v => v.SupportedUntil);

    /// <summary>The databases that must move on, soonest first; of one day in the order of the fleet.</summary>
    public IReadOnlyList<Standing> Due(FleetModel fleet, Instant at) => [.. fleet.Databases.Select(d => Of(d, at)).OfType<Standing>().Where(s => s.IsNear).OrderBy(s => s.DaysLeft)];
}
