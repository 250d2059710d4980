using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>
/// How many runs a plan comes to. What a plan costs to judge and to carry out grows with tasks × occurrences × members, and with every link
/// from task to task; so it is counted, and bounded, before anything is simulated.
/// </summary>
/// <param name="Members">How many databases the plan catches.</param>
/// <param name="StateRuns">Runs a week that take slots, of all members, those that follow others included.</param>
/// <param name="LogRuns">Log backups a week of one member.</param>
public sealed record PlanSize(int Members, double StateRuns, double LogRuns)
{
    /// <summary>The most runs a week that take slots: an hourly backup of 10,000 databases, and some.</summary>
    public const double MostStateRuns = 2_000_000;

    /// <summary>The most log backups a week of one member: one every 30 seconds.</summary>
    public const int MostLogRuns = 20_160;

    /// <summary>The most occurrences a week of any one task.</summary>
    private const int MostOccurrences = MostLogRuns;

    private const int DaysCounted = 7;

    /// <summary>Counts the runs of a plan.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="fleet">The fleet it selects from.</param>
    /// <param name="from">Where the week begins.</param>
    public static PlanSize Of(Plan plan, FleetModel fleet, Instant from)
    {
        var members = plan.Members.Of(fleet).Count;
        var runs = new Dictionary<string, double>();
        foreach (var task in plan.Tasks)
        {
            RunsOf(task);
        }

        double Sum(bool log) => plan.Tasks.Where(t => t.Kind == TaskKind.Log == log).Sum(t => runs[t.Id]);
        return new PlanSize(members, Sum(false) * members, Sum(true));

        // Links lead back to no task, so this ends; each task is counted once however many follow it.
        double RunsOf(PlanTask task)
        {
            if (!runs.TryGetValue(task.Id, out var count))
            {
                count = task.Recurrence is { } r ? Occurrences(r, from) : 0;
                count += task.After.Select(a => plan.Task(a.Task)).OfType<PlanTask>().Sum(RunsOf);
                runs[task.Id] = count;
            }

            return count;
        }
    }

    /// <summary>What is too much about a plan; null when nothing is.</summary>
    public string? WhatIsTooMuch =>
        LogRuns > MostLogRuns ? $"backs up the log of each member more often than every 30 seconds ({LogRuns:N0} times a week); what must be nearer than that is replicated"
        : StateRuns > MostStateRuns ? $"comes to {StateRuns:N0} runs a week for {Members:N0} {(Members == 1 ? "member" : "members")}; at most {MostStateRuns:N0} can be planned"
        : null;

    private static int Occurrences(Recurrence recurrence, Instant from)
    {
        var found = new List<long>();
        recurrence.InForceSince(from).Expand(from.ToUnixTimeMilliseconds(), (from + Duration.FromDays(DaysCounted)).ToUnixTimeMilliseconds(), found, MostOccurrences + 1);
        return found.Count;
    }
}
