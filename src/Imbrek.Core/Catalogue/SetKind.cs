namespace Imbrek.Core.Catalogue;

/// <summary>The kinds of backup set of section 2.</summary>
public enum SetKind : byte
{
    /// <summary>Everything, as of one position.</summary>
    Full,

    /// <summary>The storage's picture of one position.</summary>
    Snapshot,

    /// <summary>Rows written out; restored by loading and indexing; no log can follow.</summary>
    Export,

    /// <summary>What changed since exactly one full.</summary>
    Differential,

    /// <summary>What changed since the set before.</summary>
    Incremental,

    /// <summary>The log between two positions.</summary>
    Log,
}
