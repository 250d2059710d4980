using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>
/// A copy that ends (ways, section 6): a <b>view</b>, read by people or named hosts, opened where its sets lie if its family can; or a <b>clone</b>, written to by named hosts, masked before anybody is let in. Both have an
/// owner and an end date, and are removed at that. A third is <b>left open for log</b>: nobody gets in, further log is applied to it by hand or on a schedule, until it is opened.
/// </summary>
public static class TemporaryCopy
{
    /// <summary>How many hosts may be named.</summary>
    public const int MostHosts = 20;

    /// <summary>How many statements may mask it.</summary>
    public const int MostStatements = 100;

    /// <summary>How many clones are made at once.</summary>
    public const int MostClones = 20;

    /// <summary>How far away its end may lie.</summary>
    public static readonly Duration Longest = Duration.FromDays(366);

    /// <summary>How long before its end its owner is told.</summary>
    public static readonly Duration ToldBefore = Duration.FromDays(1);

    /// <summary>What is wrong with the end of a copy; null when nothing is.</summary>
    public static string? WhatIsWrongWithEnd(Instant until, Instant now) => until <= now ? "has passed" : until > now + Longest ? $"at most {Longest.Days} days from now" : null;

    /// <summary>The steps of a view.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path, mounted or not.</param>
    /// <param name="instance">The name of the instance.</param>
    /// <param name="hosts">Who may read it beside those who look through the product.</param>
    /// <param name="until">When it ends.</param>
    /// <param name="mounted">Whether its sets are opened where they lie.</param>
    public static IReadOnlyList<Step> View(Database database, RestorePath path, string instance, IReadOnlyList<string> hosts, Instant until, bool mounted) => Steps(database, path, instance, hosts, [], until, mounted);

    /// <summary>The steps of a clone.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path.</param>
    /// <param name="instance">The name of the instance.</param>
    /// <param name="hosts">Who may use it.</param>
    /// <param name="mask">The statements that mask it; none to leave it as it is.</param>
    /// <param name="until">When it ends.</param>
    public static IReadOnlyList<Step> Clone(Database database, RestorePath path, string instance, IReadOnlyList<string> hosts, IReadOnlyList<string> mask, Instant until) => Steps(database, path, instance, hosts, mask, until, mounted: false);

    /// <summary>The shortest time between two rounds by which log is applied to what is left open for it, or a clone is refreshed, and the longest of both.</summary>
    public static readonly Duration ShortestLogRound = Duration.FromMinutes(1), ShortestRefresh = Duration.FromHours(1), LongestRound = Duration.FromDays(31);

    /// <summary>The steps of a copy that is left open for log: restored, and not opened.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path, to a state that log can be applied to.</param>
    /// <param name="instance">The name of the instance.</param>
    public static IReadOnlyList<Step> LeftOpen(Database database, RestorePath path, string instance) => RestoreAside.Ready(database, path, instance, 0, null, open: false);

    /// <summary>The steps that apply further log to it, and, if it is to be, open it.</summary>
    /// <param name="database">The database.</param>
    /// <param name="engine">Its engine.</param>
    /// <param name="host">Where it stands.</param>
    /// <param name="path">The log; null for none.</param>
    /// <param name="open">Whether it is opened: then it is checked and held like any restore, and takes no log any more.</param>
    public static IReadOnlyList<Step> FurtherLog(Database database, EngineProfile engine, Id<Host> host, RestorePath? path, bool open) => RestoreAside.Further(database, engine, host, path, open);

    /// <summary>The steps by which a clone is made anew under its name: emptied, restored to the newest, checked, masked, and let in as before. Nobody is in it meanwhile, and nothing of it can be had back, but what was set for it is set back.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path.</param>
    /// <param name="instance">The name of the instance.</param>
    /// <param name="hosts">Who may use it.</param>
    /// <param name="mask">The statements that mask it.</param>
    /// <param name="until">When it ends.</param>
    public static IReadOnlyList<Step> Refreshed(Database database, RestorePath path, string instance, IReadOnlyList<string> hosts, IReadOnlyList<string> mask, Instant until) =>
    [
        .. Clone(database, path, instance, hosts, mask, until).Select(s => s.Kind == "provision"
            ? s with { Kind = "again", Title = $"Empty {instance}: nobody is in it until it is refreshed", Undo = Undo.Nothing, NoWayBack = true }
            : s.Kind == NeededSetting.Set ? s
            : s with { Undo = Undo.Nothing }),
    ];

    private static List<Step> Steps(Database database, RestorePath path, string instance, IReadOnlyList<string> hosts, IReadOnlyList<string> mask, Instant until, bool mounted)
    {
        var steps = new List<Step>(RestoreAside.Ready(database, path, instance, 0, null, mounted));
        if (mask.Count > 0)
        {
            Add("mask", $"Mask it by {mask.Count} {(mask.Count == 1 ? "statement" : "statements")}, before anybody is let in");
        }

        Add("let-in", $"{(hosts.Count == 0 ? "Open it for reading through the product" : $"Let in {string.Join(", ", hosts)} and nobody else, tried from both")}; it stands until {Instants.Write(until)}");
        return steps;

        // What cannot be masked or closed to others is taken back as a whole: nobody is let into it.
        void Add(string kind, string title) => steps.Add(RestoreAside.Last(steps[^1].Number + 1, kind, title, path.Host.Value, [steps[^1].Number]) with { Undo = Undo.Covered, RetryRefusals = false });
    }
}

/// <summary>What a copy that ends is for.</summary>
public enum CopyUse
{
    /// <summary>Read.</summary>
    View,

    /// <summary>Written to.</summary>
    Clone,

    /// <summary>Not opened: log is applied to it.</summary>
    LeftOpen,
}
