using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;

namespace Imbrek.Core.Recovery;

/// <summary>
/// A second database is made of one (ways, section 15): <b>under another name</b>, as it was at an instant; or a <b>copy elsewhere</b>, as of one instant after it was asked for, by what is restored and then follows in rounds
/// of log until it has caught up. Checked and held; released it is a database of its own, with names of its own, in the fleet, with a plan and a first base.
/// </summary>
public static class SecondDatabase
{
    /// <summary>The kinds of its own steps: what it needs is tried, it is made, named in the fleet, kept.</summary>
    public const string Try = "try", Make = "make", Name = "name", Keep = "keep";

    private const double MakeSeconds = 8;

    /// <summary>How a copy follows until it has caught up.</summary>
    /// <param name="Log">How the log not yet backed up is taken.</param>
    /// <param name="Forecast">What its rounds are expected to come to.</param>
    /// <param name="OpenSeconds">Seconds its engine takes to open.</param>
    /// <param name="Needs">Settings of the host of its source that are changed until it has caught up.</param>
    /// <param name="Kept">The full that the path begins with, where log is kept for the copy alone; null where it is kept anyway.</param>
    public sealed record Following(TakeSpec Log, MoveForecast Forecast, double OpenSeconds, IReadOnlyList<NeededSetting> Needs, LogKept? Kept);

    /// <summary>A round that is as short as this has caught up, seconds.</summary>
    public const double CaughtUpSeconds = 60;

    /// <summary>The figures by which a copy follows: those of a move that has caught up when a round takes a minute, that keeps nobody out, and whose first round is the path.</summary>
    /// <param name="move">The figures of a move.</param>
    /// <param name="path">The path to its host.</param>
    public static MoveQuestion FiguresOf(MoveQuestion move, RestorePath path) =>
        move with { Window = CaughtUpSeconds, Metadata = 0, Check = 0, Most = LogRounds.Most - 1, FirstRound = path.ProvisionSeconds + path.Steps.Sum(s => s.Seconds) };

    /// <summary>The steps.</summary>
    /// <param name="source">The database it is made of.</param>
    /// <param name="made">It, as it will stand in the fleet.</param>
    /// <param name="path">The path to its host; to a state that log can be applied to, where it follows.</param>
    /// <param name="instance">The name of the instance in which it is restored.</param>
    /// <param name="names">What its files and accounts are called there.</param>
    /// <param name="follows">How it follows until it has caught up; null where it is as it was at an instant.</param>
    /// <param name="plan">The plan that names it from then on; null where one catches it anyway, or none does.</param>
    /// <param name="first">The task by which its first base is taken; null for none.</param>
    public static IReadOnlyList<Step> Steps(Database source, Database made, RestorePath path, string instance, IReadOnlyList<MappedName> names, Following? follows, string? plan, PlanTask? first)
    {
        var host = path.Host.Value;
        var other = names.Count(n => n.From != n.To);
        var steps = new List<Step>
        {
            RestoreAside.Last(1, Try, $"Try what {made.Id} needs on {host}: its name, engine and room, and {names.Count} names of files and accounts{(other == 0 ? "" : $", {other} of them others than before")}", host, []) with { Attempts = 2, RetryRefusals = false },
        };
        NeededSetting.AddSet(steps, follows?.Needs ?? []);
        if (follows?.Kept is { } kept)
        {
            steps.Add(kept.ToTake(steps));
        }

        steps.AddRange(RestoreAside.Ready(source, path, instance, steps.Count, null, open: follows is null));
        if (follows is not null)
        {
            foreach (var round in follows.Forecast.Rounds.Skip(1).Append(follows.Forecast.Last))
            {
                LogRounds.Add(steps, host, follows.Log, $"while {source.Name} stays open", round.Seconds, null);
            }

            // It has caught up: from here on nothing of its source is needed.
            NeededSetting.AddSetBack(steps, follows.Needs, null);
            Add("open", "Open it for those who check it, and for nobody else", (follows.OpenSeconds, "profile"), Undo.Covered, null);
            Add("check", "Check digest, rows and markers", (source.CheckSeconds, "fleet"), Undo.Nothing, null);
        }

        var hold = steps.Count + 1;
        var released = new Step.Guard(hold, RestoreAside.Release);
        steps.Add(RestoreAside.Held(hold, hold - 1, [RestoreAside.Release, RestoreAside.ThrowAway]));
        Add(Make, $"Make {made.Id} of it on {host}, a database of its own", (MakeSeconds, "profile"), Undo.Covered, released);

        // Refused, people are asked again; taken back with what was restored.
        steps[^1] = steps[^1] with { Reopens = hold };
        Add(Name, $"Name {made.Id} in the fleet", null, Undo.Own, released);
        Add(Keep, $"It stays from here on{(plan is null ? "" : $": plan {plan} names it")}", null, Undo.Nothing, released);
        steps[^1] = steps[^1] with { NoWayBack = true };
        if (first is not null)
        {
            steps.Add(RestoreAside.FirstBase(steps.Count + 1, steps.Count, $"{made.Id}", first, made.Id, released));
        }

        steps.Add(RestoreAside.Last(steps.Count + 1, "discard", "Throw it away", host, [hold], new(hold, RestoreAside.ThrowAway)));
        return steps;

        void Add(string kind, string title, (double, string)? expected, Undo undo, Step.Guard? only) => steps.Add(RestoreAside.Next(steps, kind, title, host, expected, undo, only));
    }
}
