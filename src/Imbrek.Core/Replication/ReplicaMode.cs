namespace Imbrek.Core.Replication;

/// <summary>How changes come to a replica (section 7).</summary>
public enum ReplicaMode
{
    /// <summary>A commit waits until the replica has it.</summary>
    Sync,

    /// <summary>After the commit.</summary>
    Async,

    /// <summary>A commit waits, but under load the replica may fall behind and catches up.</summary>
    Burst,

    /// <summary>Log backup, copy, apply: three timed stages.</summary>
    Shipped,

    /// <summary>The array copies blocks; the replica lies on an array, not on a host.</summary>
    Array,

    /// <summary>Both sides can be written; a commit waits for both.</summary>
    BothActive,
}
