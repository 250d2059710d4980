using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Catalogue;

/// <summary>One backup of one database.</summary>
public sealed record BackupSet
{
    /// <summary>Its identifier, unique within its database.</summary>
    public required Id<BackupSet> Id { get; init; }

    /// <summary>The database it is of.</summary>
    public required Id<Database> Database { get; init; }

    /// <summary>Its kind.</summary>
    public required SetKind Kind { get; init; }

    /// <summary>The branch its positions lie on.</summary>
    public int Branch { get; init; } = 1;

    /// <summary>For a differential its full, for an incremental the set before; null otherwise.</summary>
    public Id<BackupSet>? Parent { get; init; }

    /// <summary>For a log: the position it starts after; null for others.</summary>
    public long? FromPosition { get; init; }

    /// <summary>The position it restores to.</summary>
    public required long ToPosition { get; init; }

    /// <summary>For a log: the instant of its first record; null for others.</summary>
    public Instant? CoversFrom { get; init; }

    /// <summary>The instant it restores to.</summary>
    public required Instant CoversTo { get; init; }

    /// <summary>When the backup finished.</summary>
    public required Instant FinishedAt { get; init; }

    /// <summary>Bytes of data it stands for, before compression.</summary>
    public required long DataBytes { get; init; }

    /// <summary>Taken aside: later differentials do not build on it.</summary>
    public bool OutsideChain { get; init; }

    /// <summary>Whether log can be applied after it (never after an export, whatever this says).</summary>
    public bool RollForward { get; init; } = true;

    /// <summary>The only hosts it can be restored on; empty means any.</summary>
    public IReadOnlyList<Id<Host>> UsableOn { get; init; } = [];

    /// <summary>The name of the key its copies are encrypted with; null when they are not.</summary>
    public string? Key { get; init; }

    /// <summary>Its copies.</summary>
    public required IReadOnlyList<BackupCopy> Copies { get; init; }
}
