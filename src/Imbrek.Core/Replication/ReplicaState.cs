namespace Imbrek.Core.Replication;

/// <summary>How a replica stands at an instant (section 7, watching); tested in this order. Of a run that seeds it, or of somebody who holds it, the open files say nothing.</summary>
public enum ReplicaState
{
    /// <summary>It is not there yet.</summary>
    Planned,

    /// <summary>It is no longer there.</summary>
    Ended,

    /// <summary>A run is bringing it into being, or back.</summary>
    Seeding,

    /// <summary>Somebody stopped it.</summary>
    Held,

    /// <summary>What it needs next is no longer kept, it is on a branch that was left, or it cannot be used any more.</summary>
    Broken,

    /// <summary>It receives nothing.</summary>
    CutOff,

    /// <summary>What it has not received is more than may be lost.</summary>
    Behind,

    /// <summary>It receives as it should.</summary>
    InStep,
}
