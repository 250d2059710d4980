using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;

namespace Imbrek.Core.Moves;

/// <summary>
/// A move by dump and load (ways, section 2): all of a database is dumped, loaded where it is to live, opened and checked against what was dumped. <b>Rehearsed</b> it is dumped while it is worked in, and thrown away with its
/// dump. <b>Carried out</b>, people say when; from then on everybody is kept out until it lives there, on a branch of its own: what the load wrote is in no log, so nothing taken before leads on. Until then it is where it was.
/// </summary>
public static class MoveByDump
{
    /// <summary>The kinds of its own steps: what it needs tried, the dump taken, loaded, removed.</summary>
    public const string Try = "try", Dump = "dump", Load = "load", Clear = "clear";

    private const double LongestDumpSeconds = 7 * 86_400;

    /// <summary>What is dumped, where it is loaded, and what that is expected to take.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Engine">Its engine.</param>
    /// <param name="Host">Where it is to live.</param>
    /// <param name="Instance">The name of the instance it is loaded into.</param>
    /// <param name="Take">What is dumped, and where to.</param>
    /// <param name="DumpSeconds">Seconds that is expected to take; null where nothing tells.</param>
    /// <param name="FetchSeconds">Seconds in which the dump can be read there.</param>
    /// <param name="Needs">Settings of the host that are changed meanwhile.</param>
    public sealed record Order(Database Database, EngineProfile Engine, Host Host, string Instance, TakeSpec Take, double? DumpSeconds, double FetchSeconds, IReadOnlyList<NeededSetting> Needs)
    {
        /// <summary>Seconds to load it, every index built.</summary>
        public double LoadSeconds => Engine.PerSetSeconds + Engine.LoadSeconds(Database.SizeBytes, FetchSeconds, Math.Min(Host.WriteBytesPerSecond, Engine.RestoreBytesPerSecond));
    }

    /// <summary>The steps of a rehearsal.</summary>
    public static IReadOnlyList<Step> Rehearsed(Order order)
    {
        var steps = new List<Step>();
        NeededSetting.AddSet(steps, order.Needs);
        AddDump(steps, order, "while it is worked in", null);
        AddProvision(steps, order);
        AddLoad(steps, order, null);
        NeededSetting.AddSetBack(steps, order.Needs, null);
        AddCheck(steps, order, null, "Check it against what was dumped");
        Add(steps, order, "discard", "Throw it away", null, Undo.Nothing, null);
        AddClear(steps, order, null);
        return steps;
    }

    /// <summary>The steps of the move itself.</summary>
    /// <param name="order">What is moved.</param>
    /// <param name="log">How the log not yet backed up is taken once everybody is out; null where none is.</param>
    /// <param name="first">The task by which the first base of the new branch is taken; null for none.</param>
    /// <param name="expectedSeconds">Seconds in which nobody can write, as they were rehearsed; null where nothing tells.</param>
    public static IReadOnlyList<Step> CarriedOut(Order order, TakeSpec? log, PlanTask? first, double? expectedSeconds)
    {
        var (steps, d, host) = (new List<Step>(), order.Database, order.Host.Id.Value);
        Add(steps, order, Try, "Try what it needs, and change nothing", null, Undo.Nothing, null);
        NeededSetting.AddSet(steps, order.Needs);
        AddProvision(steps, order);
        var hold = steps.Count + 1;
        var moved = new Step.Guard(hold, MoveByRounds.Switch);
        steps.Add(RestoreAside.Held(hold, hold - 1, [MoveByRounds.Switch, RestoreAside.ThrowAway]) with
        {
            Title = $"Hold: it still runs on {d.Host}; the switch keeps everybody out until it lives on {host}{(expectedSeconds is { } e ? $", about {PlainDuration.Of(e)} as rehearsed" : ", for how long nobody has rehearsed")}",
        });
        Add(steps, order, MoveByRounds.Out, $"Keep everybody out of {d.Name} on {d.Host}", (MoveByRounds.OutSeconds, "profile"), Undo.Own, moved);
        if (log is not null)
        {
            Add(steps, order, LogRounds.Save, "Take the log not yet backed up: up to here it can be had back from before", null, Undo.Nothing, moved);
            steps[^1] = steps[^1] with { Subject = log.Store, Work = RunJson.Write(log) };
        }

        AddDump(steps, order, "with nobody writing", moved);
        AddLoad(steps, order, moved);
        AddCheck(steps, order, moved, "Check it against what was dumped; where one does not pass it stays where it was");
        Add(steps, order, MoveByRounds.Place, $"It lives on {host} from now on: clients go there", (d.RedirectSeconds, "fleet"), Undo.Nothing, moved);

        // Refused, people are asked again; thrown away then, everybody is let in where it was.
        steps[^1] = steps[^1] with { NoWayBack = true, RetryRefusals = true, Reopens = hold };
        Add(steps, order, "name", "Name its host and the new branch in the fleet; replicas that cannot follow are named", null, Undo.Nothing, moved);
        NeededSetting.AddSetBack(steps, order.Needs, moved);
        if (first is not null)
        {
            steps.Add(RestoreAside.FirstBase(steps.Count + 1, steps.Count, "the new branch", first, d.Id, moved));
        }

        AddClear(steps, order, moved);
        var thrown = new Step.Guard(hold, RestoreAside.ThrowAway);
        steps.Add(RestoreAside.Last(steps.Count + 1, "discard", "Throw away what was brought up: it stays where it is", host, [hold], thrown));
        NeededSetting.AddSetBack(steps, order.Needs, thrown);
        return steps;
    }

    private static void AddDump(List<Step> steps, Order order, string when, Step.Guard? only)
    {
        Add(steps, order, Dump, $"Dump {order.Database.Name} into {order.Take.Store}, {when}", order.DumpSeconds is { } s ? (s, "profile") : null, Undo.Nothing, only);
        steps[^1] = steps[^1] with { Subject = order.Take.Store, Work = RunJson.Write(order.Take), TimeLimitSeconds = LongestDumpSeconds };
    }

    private static void AddProvision(List<Step> steps, Order order) =>
        Add(steps, order, "provision", $"Make an empty instance {order.Instance} on {order.Host.Id}", (order.Engine.ProvisionSeconds, "profile"), Undo.Own, null);

    private static void AddLoad(List<Step> steps, Order order, Step.Guard? only) =>
        Add(steps, order, Load, $"Load the dump on {order.Host.Id}", (order.LoadSeconds, "profile"), Undo.Covered, only);

    private static void AddCheck(List<Step> steps, Order order, Step.Guard? only, string title)
    {
        Add(steps, order, "open", "Open it for those who check it, and for nobody else", (order.Engine.OpenSeconds, "profile"), Undo.Covered, only);
        Add(steps, order, "check", title, (order.Database.CheckSeconds, "fleet"), Undo.Nothing, only);
    }

    private static void AddClear(List<Step> steps, Order order, Step.Guard? only) => Add(steps, order, Clear, $"Remove the dump from {order.Take.Store}", null, Undo.Nothing, only);

    private static void Add(List<Step> steps, Order order, string kind, string title, (double, string)? expected, Undo undo, Step.Guard? only) =>
        steps.Add(RestoreAside.Next(steps, kind, title, order.Host.Id.Value, expected, undo, only));

    /// <summary>What a run measured.</summary>
    /// <param name="DumpSeconds">Seconds the dump took.</param>
    /// <param name="LoadSeconds">Seconds the load took, with every index built.</param>
    /// <param name="CheckSeconds">Seconds to open and to check it.</param>
    /// <param name="RedirectSeconds">Seconds to send clients over, as the fleet says: nobody is sent over in a rehearsal.</param>
    /// <param name="DumpBytes">Bytes of the dump.</param>
    /// <param name="Failed">Checks that did not pass.</param>
    /// <param name="Checks">How many were made.</param>
    public sealed record Measured(double DumpSeconds, double LoadSeconds, double CheckSeconds, double RedirectSeconds, long DumpBytes, IReadOnlyList<string> Failed, int Checks)
    {
        /// <summary>Seconds in which nobody could write on its day.</summary>
        public double DowntimeSeconds => DumpSeconds + LoadSeconds + CheckSeconds + RedirectSeconds;
    }

    /// <summary>Reads it off the steps of a run; null until it is checked.</summary>
    /// <param name="run">The run.</param>
    /// <param name="redirectSeconds">Seconds to send clients over, as the fleet says.</param>
    public static Measured? MeasuredBy(Run run, double redirectSeconds)
    {
        RestoreAside.Measured? Of(string kind) => Step(kind) is { } s && run[s.Number].Measured is { } m ? RunJson.Read<RestoreAside.Measured>(m) : null;
        Step? Step(string kind) => run.Plan.Steps.FirstOrDefault(s => s.Kind == kind);
        double Took(string kind) => Step(kind) is { } s && run[s.Number] is { StartedAt: { } from, EndedAt: { } to } ? (to - from).TotalSeconds : 0;
        return Of(Dump) is { } dump && Of(Load) is { } load && Of("check")?.Checks is { } checks
            ? new(dump.Seconds, load.Seconds, Took("open") + Took("check"), redirectSeconds, dump.Bytes, [.. checks.Where(c => !c.Passed).Select(c => $"{c.Name}: {c.Detail}")], checks.Count)
            : null;
    }
}
