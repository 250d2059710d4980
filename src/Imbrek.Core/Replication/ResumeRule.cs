namespace Imbrek.Core.Replication;

/// <summary>How a replica that was cut off goes on.</summary>
public enum ResumeRule
{
    /// <summary>As soon as it can.</summary>
    ByItself,

    /// <summary>When a person says so.</summary>
    ByHand,
}
