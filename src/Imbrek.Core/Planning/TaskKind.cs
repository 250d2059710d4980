using Imbrek.Core.Catalogue;
using Imbrek.Core.Replication;

namespace Imbrek.Core.Planning;

/// <summary>What a task of a plan does.</summary>
public enum TaskKind
{
    /// <summary>Takes a full.</summary>
    Full,

    /// <summary>Takes a differential on the newest full of the chain.</summary>
    Differential,

    /// <summary>Takes an incremental on the newest set of the chain.</summary>
    Incremental,

    /// <summary>Backs up the log since the last log backup.</summary>
    Log,

    /// <summary>Takes a snapshot.</summary>
    Snapshot,

    /// <summary>Writes the rows out.</summary>
    Export,

    /// <summary>Reads the database itself for damage.</summary>
    IntegrityCheck,

    /// <summary>Reads copies back and compares checksums: the set just made when linked to a backup, all that were never read otherwise.</summary>
    Verify,

    /// <summary>Copies sets to a further store: the set just made when linked to a backup, all that are not yet there otherwise.</summary>
    CopyElsewhere,

    /// <summary>Removes what the plan's retention no longer keeps.</summary>
    CleanUp,

    /// <summary>Restores the newest backup aside, checks and measures it, and throws it away.</summary>
    TestRestore,

    /// <summary>Backs up, at the source, the log that is shipped to replicas; what it made is kept there for as long as the task keeps.</summary>
    ShipBackup,

    /// <summary>Copies what was backed up for them to the side of shipped replicas, and keeps it there for as long as the task keeps.</summary>
    ShipCopy,

    /// <summary>Has shipped replicas apply what was copied to them.</summary>
    ShipApply,
}

/// <summary>What kinds of task have in common.</summary>
public static class TaskKinds
{
    /// <summary>The kind of set a task makes; null when it makes none.</summary>
    public static SetKind? Makes(this TaskKind kind) => kind switch
    {
        TaskKind.Full => SetKind.Full,
        TaskKind.Differential => SetKind.Differential,
        TaskKind.Incremental => SetKind.Incremental,
        TaskKind.Log => SetKind.Log,
        TaskKind.Snapshot => SetKind.Snapshot,
        TaskKind.Export => SetKind.Export,
        _ => null,
    };

    /// <summary>The stage of a shipped replica that a task carries out; null when it carries out none.</summary>
    public static ShippingStep? Ships(this TaskKind kind) => kind switch
    {
        TaskKind.ShipBackup => ShippingStep.Backup,
        TaskKind.ShipCopy => ShippingStep.Copy,
        TaskKind.ShipApply => ShippingStep.Apply,
        _ => null,
    };

    /// <summary>Whether it makes a set that others build on or that stands for itself: a full, snapshot, export, differential or incremental.</summary>
    public static bool MakesState(this TaskKind kind) => kind.Makes() is { } set && set != SetKind.Log;

    /// <summary>Whether a run takes one of the slots of its host and store. Log backups never wait for one: what waits is lost.</summary>
    public static bool TakesSlot(this TaskKind kind) => kind.MakesState();
}
