namespace Imbrek.Core.Replication;

/// <summary>Who lets a replica take over.</summary>
public enum TakesOver
{
    /// <summary>A person does.</summary>
    ByHand,

    /// <summary>Nobody: it is only read from.</summary>
    Never,

    /// <summary>It does so unasked, when a majority of the voters agrees (section 7).</summary>
    ByItself,
}
