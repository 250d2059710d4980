using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>What is wrong with a timetable.</summary>
public enum ClashKind
{
    /// <summary>Runs do not end within their window.</summary>
    WindowMissed,

    /// <summary>A run is due while the one before is still going.</summary>
    Overlap,

    /// <summary>Runs wait for a slot.</summary>
    Queue,

    /// <summary>A link moves all it can for long.</summary>
    LinkSaturated,

    /// <summary>A store holds no more.</summary>
    StoreFull,
}

/// <summary>Runs that get in each other's way, of one task or on one resource, gathered.</summary>
/// <param name="Kind">What is wrong.</param>
/// <param name="Plan">The plan; null when it is of no single one.</param>
/// <param name="Task">The task; null when it is of no single one.</param>
/// <param name="Place">The host, store or link.</param>
/// <param name="At">The first time.</param>
/// <param name="Count">How often.</param>
/// <param name="WorstSeconds">The worst lateness, wait or duration, seconds.</param>
/// <param name="Database">The database of the worst one; null when it is of none.</param>
public sealed record Clash(ClashKind Kind, string? Plan, string? Task, string Place, Instant At, int Count, double WorstSeconds, string? Database);
