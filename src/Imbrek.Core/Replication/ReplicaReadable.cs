namespace Imbrek.Core.Replication;

/// <summary>When a replica can be read from.</summary>
public enum ReplicaReadable
{
    /// <summary>Always.</summary>
    Always,

    /// <summary>Never, as long as it receives.</summary>
    Never,

    /// <summary>Only between two applies.</summary>
    BetweenApplies,
}
