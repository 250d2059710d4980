using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>One set restored on the way.</summary>
/// <param name="Set">The set.</param>
/// <param name="Kind">Its kind.</param>
/// <param name="Store">The store its fastest usable copy lies in.</param>
/// <param name="Seconds">How long it should take.</param>
/// <param name="StopsAt">Where a log is stopped, when it is the last or stopped at a fork; null otherwise.</param>
/// <param name="Learned">What the seconds were learned from; null when they are the profile's.</param>
public sealed record PathStep(
    Id<BackupSet> Set,
    SetKind Kind,
    Id<Store> Store,
    double Seconds,
    Instant? StopsAt,
    LearnedPace? Learned)
{
    /// <summary>Bytes of that copy.</summary>
    public long StoredBytes { get; init; }
}
