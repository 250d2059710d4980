using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Moves;

/// <summary>Rounds in which what was restored elsewhere follows its database: the log not yet backed up is taken, and applied there (ways, sections 2 and 15).</summary>
public static class LogRounds
{
    /// <summary>The kinds of its steps: log taken, log applied there.</summary>
    public const string Save = "save", Round = "round";

    /// <summary>How many rounds are planned at most; more of nearly the same length say no more.</summary>
    public const int Most = 20;

    /// <summary>How the log of a database is taken for rounds; null when no plan says how.</summary>
    public static TakeSpec? LogOf(FleetModel fleet, Database database) =>
        fleet.PlansOf(database).SelectMany(p => p.Tasks).FirstOrDefault(t => t.Kind == TaskKind.Log) is { } log ? TakeSpec.Of(log, database.Id) : null;

    /// <summary>Why no log of a database can follow what was restored of it; null when it can.</summary>
    public static string? WhyNoLog(FleetModel fleet, Database database) =>
        LogOf(fleet, database) is null ? "no plan backs its log up"
        : database.LogMode == LogMode.Discarded ? $"{database.Name} discards its log: have it kept, and take a full after that, first"
        : null;

    /// <summary>Adds the two steps of a round.</summary>
    /// <param name="steps">Where to.</param>
    /// <param name="host">Where it is applied.</param>
    /// <param name="log">How the log is taken.</param>
    /// <param name="when">In words, what it is taken beside.</param>
    /// <param name="seconds">Seconds it is expected to take.</param>
    /// <param name="only">Only after this choice; null for always.</param>
    internal static void Add(List<Step> steps, string host, TakeSpec log, string when, double seconds, Step.Guard? only)
    {
        steps.Add(RestoreAside.Next(steps, Save, $"Take the log not yet backed up, {when}", log.Store, null, Undo.Nothing, only) with { Work = RunJson.Write(log) });
        steps.Add(RestoreAside.Next(steps, Round, "Apply it there", host, (seconds, "forecast"), Undo.Covered, only));
    }

    /// <summary>As of when a round looks for log: whoever took it may have a clock a moment ahead of ours, and what was told of must not be left out.</summary>
    /// <param name="saved">What was taken for the round.</param>
    /// <param name="now">The instant by our clock.</param>
    public static Instant AsOf(BackupSet saved, Instant now) => saved.Copies.Select(c => c.AvailableAt).Append(saved.CoversTo).Append(now).Max();

    /// <summary>The rounds that a run measured, each with the step that ended it: first all that was restored, then each log taken and applied.</summary>
    public static IReadOnlyList<(int Step, MoveForecast.Round Round)> MeasuredBy(Run run)
    {
        var (made, data) = (new List<(int, MoveForecast.Round)>(), 0L);
        Instant? began = null;
        foreach (var s in run.Plan.Steps)
        {
            var p = run[s.Number];
            var measured = p.Measured is { } m && s.Kind is "restore" or "logs" or Save or Round ? RunJson.Read<RestoreAside.Measured>(p.Measured!) : null;
            if (s.Kind is "provision" or Save)
            {
                (began, data) = (p.StartedAt, 0);
            }

            data += s.Kind == Save ? 0 : measured?.Bytes ?? 0;
            var ends = s.Kind == Round || (s.Kind is "restore" or "logs" && run.Plan[s.Number + 1].Kind is not ("restore" or "logs"));
            if (ends && began is { } from && p.EndedAt is { } to && p.State == StepState.Done)
            {
                made.Add((s.Number, new(data, (to - from).TotalSeconds)));
            }
        }

        return made;
    }

    /// <summary>The instant that is there, by whoever applied what; null before anything is.</summary>
    public static Instant? ReachedBy(Run run) => run.Plan.Steps.Where(s => s.Kind is "restore" or "logs" or Round).Select(s => run[s.Number].Measured).OfType<string>()
        .Select(m => RunJson.Read<RestoreAside.Measured>(m).Reached).LastOrDefault(r => r is not null) is { } reached ? Instants.Parse(reached) : null;
}
