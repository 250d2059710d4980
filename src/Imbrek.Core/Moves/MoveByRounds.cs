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
    private const double OutSeconds = 2;

    /// <summary>The steps.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path to the other host, to a state that log can be applied to.</param>
    /// <param name="instance">The name of the instance that is brought up there.</param>
    /// <param name="log">How the log not yet backed up is taken.</param>
    /// <param name="forecast">What its rounds were expected to come to.</param>
    /// <param name="openSeconds">Seconds its engine takes to open.</param>
    /// <param name="first">The task by which the first base of the new branch is taken; null for none.</param>
    public static IReadOnlyList<Step> Steps(Database database, RestorePath path, string instance, TakeSpec log, MoveForecast forecast, double openSeconds, PlanTask? first)
    {
        var host = path.Host.Value;
        var steps = new List<Step>(RestoreAside.Ready(database, path, instance, 0, null, open: false));
        foreach (var round in forecast.Rounds.Skip(1).Take(LogRounds.Most))
        {
            AddRound("while it stays open", round.Seconds, null);
        }

        var hold = steps.Count + 1;
        var switched = new Step.Guard(hold, Switch);
        steps.Add(RestoreAside.Held(hold, hold - 1, [Switch, RestoreAside.ThrowAway]) with { Title = $"Hold: it follows on {host}, and still runs on {database.Host}; the switch stops writes for about {PlainDuration.Of(forecast.DowntimeSeconds)}" });
        AddRound("while it stays open, so that the last is short", forecast.Last.Seconds, switched);
        Add(Out, $"Keep everybody out of {database.Name} on {database.Host}", OutSeconds, switched, Undo.Own);
        AddRound("with nobody writing", forecast.Last.Seconds, switched);
        Add("open", "Open it there for those who check it, and for nobody else", openSeconds, switched, Undo.Covered);
        Add("check", "Check it against what it was here: digest, rows, markers; where one does not pass it stays where it was", database.CheckSeconds, switched, Undo.Nothing);
        Add(Place, $"It lives on {host} from now on: clients go there", database.RedirectSeconds, switched, Undo.Nothing, noWayBack: true);

        // Refused, people are asked again; thrown away then, everybody is let in where it was.
        steps[^1] = steps[^1] with { Reopens = hold };
        Add("name", "Name its host and the new branch in the fleet; replicas that cannot follow are named", null, switched, Undo.Nothing);
        if (first is not null)
        {
            steps.Add(RestoreAside.Last(steps.Count + 1, "base", $"Take the first {first.Kind.Makes()!.Value.ToString().ToLowerInvariant()} of the new branch into {first.Store}", first.Store!.Value.Value, [steps.Count], switched) with
            {
                TimeLimitSeconds = 86_400,
                RetryRefusals = false,
                Work = RunJson.Write(TakeSpec.Of(first, database.Id)),
            });
        }

        steps.Add(RestoreAside.Last(steps.Count + 1, "discard", "Throw away what was brought up: it stays where it is", host, [hold], new(hold, RestoreAside.ThrowAway)));
        return steps;

        void AddRound(string when, double seconds, Step.Guard? only) => LogRounds.Add(steps, host, log, when, seconds, only);

        void Add(string kind, string title, double? seconds, Step.Guard? only, Undo undo, bool noWayBack = false) => steps.Add(RestoreAside.Last(steps.Count + 1, kind, title, host, [steps.Count], only) with
        {
            ExpectedSeconds = seconds,
            ExpectedFrom = seconds is null ? null : kind is "check" or Place ? "fleet" : "profile",
            Undo = undo,
            NoWayBack = noWayBack,
            RetryRefusals = noWayBack,

            // Some of it is done while nobody may write: what takes so much longer than expected ends, and everybody is let in.
            TimeLimitSeconds = RestoreAside.Limit(seconds ?? 0),
        });
    }

    /// <summary>What a run measured of its rounds: each is its log taken and applied, the first all that was restored.</summary>
    /// <param name="run">The run.</param>
    /// <returns>The rounds in which it stayed open; the last one; and how long nobody could write, null until it lives there.</returns>
    public static (IReadOnlyList<MoveForecast.Round> Open, MoveForecast.Round? Last, double? DowntimeSeconds) MeasuredBy(Run run)
    {
        var (rounds, kept) = (LogRounds.MeasuredBy(run), run.Plan.Steps.First(s => s.Kind == Out).Number);
        var placed = run.Plan.Steps.First(s => s.Kind == Place);
        return (
            [.. rounds.Where(r => r.Step < kept).Select(r => r.Round)],
            rounds.Where(r => r.Step > kept).Select(r => r.Round).LastOrDefault(),
            run[placed.Number].EndedAt is { } there && run[kept].StartedAt is { } began ? (there - began).TotalSeconds : null);
    }
}
