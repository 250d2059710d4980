using Imbrek.Core.Fleet;

namespace Imbrek.Core.Replication;

/// <summary>How a replica stands at an instant (section 7, watching). Null stands for "not known", and where nothing binds.</summary>
/// <param name="Replica">The replica.</param>
/// <param name="State">In a word.</param>
/// <param name="ReceivedLagSeconds">By how much what was received lags; null before anything is known of it, as are the next five.</param>
/// <param name="AppliedLagSeconds">By how much what was applied lags, at the worst that is known.</param>
/// <param name="BacklogBytes">Log written and not received.</param>
/// <param name="CatchUpSeconds">Until it receives in step; null also when not within 30 days.</param>
/// <param name="ReadCatchUpSeconds">Until it has applied as well; null also when not within 30 days.</param>
/// <param name="ToleratedOutageSeconds">How long it may go on receiving nothing until what it needs next is no longer kept; null when nothing binds.</param>
/// <param name="RoomSeconds">Until its own room for log is full if it receives and does not apply.</param>
/// <param name="ByDesignSeconds">What it may lose when all goes well.</param>
/// <param name="ReadByDesignSeconds">How old what is read there may be when all goes well.</param>
/// <param name="WaitMs">What a commit waits for it at least, milliseconds.</param>
/// <param name="Seed">How it would be seeded anew, the faster of two ways; null when neither ends.</param>
/// <param name="WhyBroken">Why it cannot go on; null when it can.</param>
public sealed record ReplicaFigures(
    Id<Replica> Replica,
    ReplicaState State,
    double? ReceivedLagSeconds,
    double? AppliedLagSeconds,
    double? BacklogBytes,
    double? CatchUpSeconds,
    double? ReadCatchUpSeconds,
    double? ToleratedOutageSeconds,
    double? RoomSeconds,
    double? ByDesignSeconds,
    double? ReadByDesignSeconds,
    double? WaitMs,
    Seeding.Way? Seed,
    string? WhyBroken);
