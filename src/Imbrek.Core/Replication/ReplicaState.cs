namespace Imbrek.Core.Replication;

/// <summary>How a replica stands at an instant (section 7, watching); tested in this order. That a run is seeding it, or somebody stopped it, comes with those runs.</summary>
public enum ReplicaState
{
    /// <summary>It is not there yet.</summary>
    Planned,

    /// <summary>It is no longer there.</summary>
    Ended,

    /// <summary>What it needs next is no longer kept, or it is on a branch that was left.</summary>
    Broken,

    /// <summary>It receives nothing.</summary>
    CutOff,

    /// <summary>What it has not received is more than may be lost.</summary>
    Behind,

    /// <summary>It receives as it should.</summary>
    InStep,
}
