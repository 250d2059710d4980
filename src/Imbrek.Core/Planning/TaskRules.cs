namespace Imbrek.Core.Planning;

/// <summary>What happens with occurrences that came and went while nothing could run.</summary>
public enum MissedRule
{
    /// <summary>One run makes up for all of them.</summary>
    CatchUpOnce,

    /// <summary>They are left out without a word.</summary>
    Skip,

    /// <summary>They are left out and reported.</summary>
    Report,
}

/// <summary>What happens when a task is due on a database while its run before is still going.</summary>
public enum OverlapRule
{
    /// <summary>The new one is left out, and the log says so.</summary>
    Skip,

    /// <summary>The new one waits for the end of the one before; of several that wait, one runs.</summary>
    Wait,
}

/// <summary>After which end of another task a task runs.</summary>
public enum LinkOn
{
    /// <summary>After it went well.</summary>
    Success,

    /// <summary>After it failed for good.</summary>
    Failure,

    /// <summary>After either.</summary>
    Always,
}

/// <summary>"Run me after that one."</summary>
/// <param name="Task">The task waited for, of the same plan.</param>
/// <param name="On">After which end of it.</param>
public sealed record TaskLink(string Task, LinkOn On);
