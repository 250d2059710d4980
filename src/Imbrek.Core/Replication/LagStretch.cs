using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>
/// A span over which the lag of a replica stayed within what is stated (section 7): at every instant A of it the replica had received all that was committed
/// up to A − received lag, and applied all up to A − applied lag, but nothing after A − applied least lag.
/// </summary>
/// <param name="Replica">The replica.</param>
/// <param name="Branch">The branch it followed.</param>
/// <param name="From">Its first instant.</param>
/// <param name="To">Its last instant.</param>
/// <param name="ReceivedLag">The most by which what was received lagged.</param>
/// <param name="AppliedLag">The most by which what was applied lagged.</param>
/// <param name="AppliedLeastLag">The least by which what was applied lagged.</param>
/// <param name="PendingBytes">The most log that was received and not applied, bytes.</param>
/// <param name="ReceivedPosition">The position received by its end; null when not stated.</param>
public sealed record LagStretch(
    Id<Replica> Replica,
    int Branch,
    Instant From,
    Instant To,
    Duration ReceivedLag,
    Duration AppliedLag,
    Duration AppliedLeastLag,
    long PendingBytes,
    long? ReceivedPosition);
