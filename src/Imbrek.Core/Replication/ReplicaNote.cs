using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>What is known of a replica beside its lag: what its watcher says holds it up, and what people and runs have done with it. Nothing of it is in the open files.</summary>
public sealed record ReplicaNote
{
    /// <summary>A replica of which nothing is noted.</summary>
    public static ReplicaNote None { get; } = new();

    /// <summary>What kept it from receiving or applying when it was last looked at, in words; null when nothing did.</summary>
    public string? HeldUpBy { get; init; }

    /// <summary>Why it cannot be used until it is mended or seeded; null when it can.</summary>
    public string? Unusable { get; init; }

    /// <summary>Since when what its watcher says has been so; null when it says nothing.</summary>
    public Instant? Since { get; init; }

    /// <summary>Who holds it; null when nobody does.</summary>
    public string? HeldBy { get; init; }

    /// <summary>The host it is watched from; null when its watcher does not say.</summary>
    public Id<Host>? WatchedFrom { get; init; }

    /// <summary>Whether a run is bringing it into being, or back.</summary>
    public bool Seeding { get; init; }
}
