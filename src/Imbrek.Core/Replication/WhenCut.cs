namespace Imbrek.Core.Replication;

/// <summary>What the primary does while a replica receives nothing.</summary>
public enum WhenCut
{
    /// <summary>It goes on; what it writes may be lost with it.</summary>
    GoOn,

    /// <summary>Nothing may be written that is not received.</summary>
    Stop,
}
