namespace Imbrek.Core.Runs;

/// <summary>What takes a step back.</summary>
public enum Undo
{
    /// <summary>It leaves nothing that would have to be taken back.</summary>
    Nothing,

    /// <summary>Its kind knows how.</summary>
    Own,

    /// <summary>It goes when what it stands on is taken back.</summary>
    Covered,
}
