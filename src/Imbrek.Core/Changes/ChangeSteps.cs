using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;

namespace Imbrek.Core.Changes;

/// <summary>The steps of a rehearsal of a change, and of a change day (ways, section 10). Both carry out the same parts.</summary>
public static class ChangeSteps
{
    /// <summary>What people choose when all is ready, and again where a part could not be carried out.</summary>
    public const string CarryOut = "carry-out", LeaveIt = "leave-it";

    /// <summary>What people choose once they have looked.</summary>
    public const string Keep = "keep";

    /// <summary>At both: the database is put back to the moment before.</summary>
    public const string TurnBack = "turn-back";

    /// <summary>The kinds of step that are told apart.</summary>
    public const string Before = "look-before", After = "look-after", Part = "part", Watch = "watch";

    private const double HandSeconds = 2, LongestPartSeconds = 86_400;

    /// <summary>Which part of the change a step carries out.</summary>
    /// <param name="Number">From 1.</param>
    public sealed record PartWork(int Number);

    /// <summary>A rehearsal: restored aside and checked, looked at, changed, looked at again, thrown away. Nobody is asked.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path of the copy.</param>
    /// <param name="instance">Its name.</param>
    /// <param name="change">The change.</param>
    /// <param name="forecast">What other rehearsals say; null without any.</param>
    public static IReadOnlyList<Step> Rehearsal(Database database, RestorePath path, string instance, Change change, ChangeForecast? forecast)
    {
        var (steps, host) = (new List<Step>(RestoreAside.Ready(database, path, instance, 0, null)), path.Host.Value);
        Add(Before, LookTitle(change, "before"), s => s with { ExpectedSeconds = database.CheckSeconds, ExpectedFrom = "fleet" });
        for (var i = 0; i < change.Parts.Count; i++)
        {
            Add(Part, PartTitle(change.Parts[i]), s => Timed(s, change, i, forecast));
        }

        Add(After, LookTitle(change, "after"), s => s with { ExpectedSeconds = database.CheckSeconds, ExpectedFrom = "fleet" });
        return [.. steps, RestoreAside.Last(steps.Count + 1, "discard", "Throw the copy away", host, [steps.Count])];

        void Add(string kind, string title, Func<Step, Step> with) =>
            steps.Add(with(RestoreAside.Last(steps.Count + 1, kind, title, host, [steps.Count]) with { Undo = Undo.Covered, RetryRefusals = false }));
    }

    /// <summary>A change day: a second person agrees; looked at, everybody kept out where that is needed, a fresh recovery point; then people begin it; looked at again, kept or turned back, a new full, watched for a while.</summary>
    /// <param name="database">The database.</param>
    /// <param name="change">The change.</param>
    /// <param name="saves">How the recovery point is taken.</param>
    /// <param name="first">The task by which the new full is taken; null for none.</param>
    /// <param name="forecast">What rehearsals say; null without any.</param>
    /// <param name="watchSeconds">How long it is watched afterwards.</param>
    /// <param name="windowSeconds">Until the window ends; nobody agrees to it afterwards.</param>
    public static IReadOnlyList<Step> Day(Database database, Change change, TakeSpec saves, PlanTask? first, ChangeForecast? forecast, double watchSeconds, double windowSeconds)
    {
        var (steps, host) = (new List<Step>(), database.Host.Value);
        var before = Add(Before, LookTitle(change, "before"), [], s => s with { NeedsApproval = true, DecideWithinSeconds = Math.Min(Step.ApprovalSeconds, windowSeconds), Owner = "approve", ExpectedSeconds = database.CheckSeconds, ExpectedFrom = "fleet" });
        var ground = before;
        if (change.IsOutage)
        {
            ground = Add("out", $"Keep everybody out of {database.Name}", [ground], s => s with { Undo = Undo.Own, ExpectedSeconds = HandSeconds, ExpectedFrom = "profile" });
        }

        var point = Add("point", $"Take a fresh recovery point: {(saves.OutsideChain ? $"a {saves.Kind.ToString().ToLowerInvariant()} outside the chain" : "the log not yet backed up")}, into {saves.Store}", [ground], s => s with
        {
            Subject = saves.Store,
            TimeLimitSeconds = LongestPartSeconds,
            Work = RunJson.Write(saves),
        });
        var go = Ask("All is ready: begin it", point, [CarryOut, LeaveIt, TurnBack]);
        ground = go;
        for (var i = 0; i < change.Parts.Count; i++)
        {
            ground = Add(Part, PartTitle(change.Parts[i]), [ground], s => Timed(s, change, i, forecast) with { Only = new(go, CarryOut), Reopens = go, NoWayBack = true });
            if (change.Parts[i].UpgradesTo is { } version)
            {
                ground = Add("name", $"Say in the fleet that it runs version {version}, on a branch of its own", [ground], s => s with { Only = new(go, CarryOut), Reopens = go });
            }
        }

        var after = Add(After, LookTitle(change, "after"), [ground], s => s with { Only = new(go, CarryOut), Reopens = go, ExpectedSeconds = database.CheckSeconds, ExpectedFrom = "fleet" });
        var keep = Ask("Keep it, or turn back", after, [Keep, TurnBack], new(go, CarryOut));
        var kept = keep;
        if (change.IsOutage)
        {
            kept = Add("let-in", "Let everybody in", [keep], s => s with { Only = new(keep, Keep), ExpectedSeconds = HandSeconds, ExpectedFrom = "profile", Attempts = 4, RetryRefusals = true });
            Add("let-in", "Let everybody in: it stays as it stands", [go], s => s with { Only = new(go, LeaveIt), ExpectedSeconds = HandSeconds, ExpectedFrom = "profile", Attempts = 4, RetryRefusals = true });
        }

        if (first is not null)
        {
            Add("base", $"Take a new {first.Kind.Makes()!.Value.ToString().ToLowerInvariant()} into {first.Store}", [kept], s => s with
            {
                Subject = first.Store!.Value.Value,
                Only = new(keep, Keep),
                TimeLimitSeconds = LongestPartSeconds,
                Attempts = 4,
                Work = RunJson.Write(TakeSpec.Of(first, database.Id)),
            });
        }

        if (watchSeconds > 0)
        {
            Add(Watch, $"Watch it for {PlainDuration.Of(watchSeconds)}: response times against those before", [kept], s => s with { Only = new(keep, Keep), ExpectedSeconds = watchSeconds, ExpectedFrom = "as asked", TimeLimitSeconds = null });
        }

        var back = "Put it back in place to the moment before, by a run of its own";
        Add(TurnBack, back, [go], s => s with { Only = new(go, TurnBack), Reopens = go, TimeLimitSeconds = null });
        Add(TurnBack, back, [keep], s => s with { Only = new(keep, TurnBack), Reopens = keep, TimeLimitSeconds = null });
        return steps;

        int Add(string kind, string title, int[] afterSteps, Func<Step, Step> with)
        {
            steps.Add(with(RestoreAside.Last(steps.Count + 1, kind, title, host, afterSteps) with { RetryRefusals = false }));
            return steps.Count;
        }

        int Ask(string title, int afterStep, string[] choices, Step.Guard? only = null)
        {
            steps.Add(RestoreAside.Held(steps.Count + 1, afterStep, choices) with { Title = title, Only = only });
            return steps.Count;
        }
    }

    private static Step Timed(Step s, Change change, int index, ChangeForecast? forecast) => s with
    {
        TimeLimitSeconds = LongestPartSeconds,
        Attempts = 1,
        ExpectedSeconds = forecast?.Parts[index],
        ExpectedFrom = forecast is null ? null : "rehearsed",
        Work = RunJson.Write(new PartWork(index + 1)),
    };

    private static string LookTitle(Change change, string when) => $"Look at it {when}: rows of every table{(change.Queries.Count == 0 ? "" : $", {change.Queries.Count} named {(change.Queries.Count == 1 ? "query" : "queries")}")}, errors in its log where that can be read";

    private static string PartTitle(ChangePart p) => p.UpgradesTo is { } version ? $"{p.Name}: move to version {version}" : $"{p.Name}: {p.Statements.Count} {(p.Statements.Count == 1 ? "statement" : "statements")}";
}
