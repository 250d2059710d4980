namespace Imbrek.Core.Drills;

/// <summary>The kinds of drill (section 11).</summary>
public enum DrillKind
{
    /// <summary>A chain of sets gives the database back aside, checked and timed.</summary>
    RestoreTest,

    /// <summary>Both sides are alive: writes stop, the target catches up, then roles change. Nothing is lost.</summary>
    Switchover,

    /// <summary>The source is taken for lost: what was not received is lost, and said before.</summary>
    Forced,

    /// <summary>The primary is stopped and nobody helps: voters, target and clients do it by themselves.</summary>
    Automatic,

    /// <summary>All of a site is taken for lost at one instant, for all databases on it.</summary>
    SiteLoss,

    /// <summary>The way home: the old primary follows, then roles change again. Nothing is lost.</summary>
    Failback,
}
