namespace Imbrek.Core.Drills;

/// <summary>Kinds and endings of drills as they are said to people.</summary>
public static class DrillWords
{
    /// <summary>A kind, at the beginning of a sentence.</summary>
    public static string Of(DrillKind kind) => kind switch
    {
        DrillKind.RestoreTest => "Restore test",
        DrillKind.Switchover => "Switchover",
        DrillKind.Forced => "Forced failover",
        DrillKind.Automatic => "Automatic failover",
        DrillKind.SiteLoss => "Loss of a site",
        _ => "Failback",
    };

    /// <summary>What becomes of the roles.</summary>
    public static string Of(DrillEnding ending) => ending switch
    {
        DrillEnding.Home => "roles change back",
        DrillEnding.Part => "replication ends",
        _ => "roles stay changed",
    };
}
