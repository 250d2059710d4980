namespace Imbrek.Core.Drills;

/// <summary>How a drill ends.</summary>
public enum DrillEnding
{
    /// <summary>Roles stay changed; the old side follows.</summary>
    Keep,

    /// <summary>The old side follows, and roles change back.</summary>
    Home,

    /// <summary>Replication ends: both stand alone, and clients use the new side.</summary>
    Part,
}
