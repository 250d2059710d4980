using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;

namespace Imbrek.Core.Moves;

/// <summary>
/// A database moves to another host by its own sets (ways, section 2): all of it is restored there and not opened, round after round of log follows while it stays open, people say when; then one more open round, everybody is
/// kept out, the last round, opened and checked, and it lives there, on a branch of its own. Until then all can be taken back, and it is where it was.
/// </summary>
public static class MoveByRounds
{
    /// <summary>What people choose at the hold to have it switched over.</summary>
    public const string Switch = "switch";

    /// <summary>The kinds of its own steps: everybody kept out, it lives there.</summary>
    public const string Out = "out", Place = "place";

    /// <summary>Seconds to stop writes and withdraw the right to write.</summary>
    internal const double OutSeconds = 2;

    /// <summary>The steps.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path to the other host, to a state that log can be applied to.</param>
    /// <param name="instance">The name of the instance that is brought up there.</param>
    /// <param name="log">How the log not yet backed up is taken.</param>
    /// <param name="forecast">What its rounds were expected to come to.</param>
    /// <param name="openSeconds">Seconds its engine takes to open.</param>
    /// <param name="first">The task by which the first base of the new branch is taken; null for none.</param>
    /// <param name="needs">Settings of the host it leaves that are changed meanwhile.</param>
    /// <param name="kept">The full that the path begins with, where log is kept for the move alone; null where it is kept anyway.</param>
    public static IReadOnlyList<Step> Steps(
        Database database, RestorePath path, string instance, TakeSpec log, MoveForecast forecast, double openSeconds, PlanTask? first, IReadOnlyList<NeededSetting> needs, LogKept? kept = null)
    {
        var host = path.Host.Value;
        var steps = new List<Step>();
        NeededSetting.AddSet(steps, needs);
        if (kept is not null)
        {
            steps.Add(kept.ToTake(steps));
        }

        steps.AddRange(RestoreAside.Ready(database, path, instance, steps.Count, null, open: false));
        foreach (var round in forecast.Rounds.Skip(1).Take(LogRounds.Most))
        {
            AddRound("while it stays open", round.Seconds, null);
        }

        var hold = steps.Count + 1;
        var switched = new Step.Guard(hold, Switch);
        steps.Add(RestoreAside.Held(hold, hold - 1, [Switch, RestoreAside.ThrowAway]) with { Title = $"Hold: it follows on {host}, and still runs on {database.Host}; the switch stops writes for about {PlainDuration.Of(forecast.DowntimeSeconds)}" });
        AddRound("while it stays open, so that the last is short", forecast.Last.Seconds, switched);
        Add(Out, $"Keep everybody out of {database.Name} on {database.Host}", (OutSeconds, "profile"), Undo.Own);
        AddRound("with nobody writing", forecast.Last.Seconds, switched);
        Add("open", "Open it there for those who check it, and for nobody else", (openSeconds, "profile"), Undo.Covered);
        Add("check", "Check it against what it was here: digest, rows, markers; where one does not pass it stays where it was", (database.CheckSeconds, "fleet"), Undo.Nothing);
        Add(Place, $"It lives on {host} from now on: clients go there", (database.RedirectSeconds, "fleet"), Undo.Nothing);

        // Refused, people are asked again; thrown away then, everybody is let in where it was.
        steps[^1] = steps[^1] with { NoWayBack = true, RetryRefusals = true, Reopens = hold };
        Add("name", "Name its host and the new branch in the fleet; replicas that cannot follow are named", null, Undo.Nothing);
        NeededSetting.AddSetBack(steps, needs, switched);
        if (first is not null)
        {
            steps.Add(RestoreAside.FirstBase(steps.Count + 1, steps.Count, "the new branch", first, database.Id, switched));
        }

        steps.Add(RestoreAside.Last(steps.Count + 1, "discard", "Throw away what was brought up: it stays where it is", host, [hold], new(hold, RestoreAside.ThrowAway)));
        NeededSetting.AddSetBack(steps, needs, new(hold, RestoreAside.ThrowAway));
        return steps;

        void AddRound(string when, double seconds, Step.Guard? only) => LogRounds.Add(steps, host, log, when, seconds, only);

        // Some of it is done while nobody may write: what takes so much longer than expected ends, and everybody is let in.
        void Add(string kind, string title, (double, string)? expected, Undo undo) => steps.Add(RestoreAside.Next(steps, kind, title, host, expected, undo, switched));
    }

    /// <summary>What a run measured of its rounds: each is its log taken and applied, the first all that was restored.</summary>
    /// <param name="run">The run.</param>
    /// <returns>The rounds in which it stayed open; the last one; and how long nobody could write, null until it lives there.</returns>
    public static (IReadOnlyList<MoveForecast.Round> Open, MoveForecast.Round? Last, double? DowntimeSeconds) MeasuredBy(Run run)
    {
        var (rounds, kept) = (LogRounds.MeasuredBy(run), run.Plan.Steps.First(s => s.Kind == Out).Number);
        return (
            [.. rounds.Where(r => r.Step < kept).Select(r => r.Round)],
            rounds.Where(r => r.Step > kept).Select(r => r.Round).LastOrDefault(),
            DowntimeOf(run));
    }

    /// <summary>Seconds in which nobody could write, from keeping them out until it lived there; null until it does.</summary>
    /// <param name="run">A run that moves, whichever way.</param>
    public static double? DowntimeOf(Run run) =>
        run[run.Plan.Steps.First(s => s.Kind == Place).Number].EndedAt is { } there && run[run.Plan.Steps.First(s => s.Kind == Out).Number].StartedAt is { } began ? (there - began).TotalSeconds : null;
}
