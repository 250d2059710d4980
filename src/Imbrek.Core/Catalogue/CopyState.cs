namespace Imbrek.Core.Catalogue;

/// <summary>What is known of the bytes of a copy.</summary>
public enum CopyState : byte
{
    /// <summary>Read back and found whole.</summary>
    Good,

    /// <summary>Written, never read back.</summary>
    Unverified,

    /// <summary>Read back and found broken; never used.</summary>
    Damaged,
}
