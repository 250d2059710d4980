namespace Imbrek.Core.Fleet;

/// <summary>What belongs to an instance and is in none of its databases (ways, section 9).</summary>
public enum InstancePart
{
    /// <summary>Accounts, and what they may do.</summary>
    Accounts,

    /// <summary>Scheduled jobs.</summary>
    Jobs,

    /// <summary>Certificates.</summary>
    Certificates,

    /// <summary>Keys that its databases or their backups are encrypted with.</summary>
    Keys,

    /// <summary>Settings of the engine.</summary>
    Settings,

    /// <summary>The machine itself.</summary>
    Image,
}
