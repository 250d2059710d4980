using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>How a group of databases is protected.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="Members">Which databases it is for.</param>
/// <param name="Tasks">What is done to each of them.</param>
/// <param name="Tell">Who is told of what.</param>
public sealed record Plan(Id<Plan> Id, string Name, Selection Members, IReadOnlyList<PlanTask> Tasks, TellRule Tell)
{
    /// <summary>How many of its next times a task's longest gap is looked for in: three days of one that is due every five minutes.</summary>
    private const int GapsLookedAt = 1000;

    /// <summary>The task of a name; null when there is none.</summary>
    public PlanTask? Task(string id) => Tasks.FirstOrDefault(t => t.Id == id);

    /// <summary>
    /// The store a task works in: the one it writes to; of one that reads sets, that of the first task that makes some; null for what
    /// concerns only the host.
    /// </summary>
    public Id<Store>? StoreOf(PlanTask task) =>
        task.Store ?? (task.Kind is TaskKind.Verify or TaskKind.CopyElsewhere or TaskKind.TestRestore ? Tasks.FirstOrDefault(t => t.Kind.Makes() is not null)?.Store : null);

    /// <summary>
    /// The longest time between two runs of a task in the days to come, by its recurrence, or by that of what it follows; the shortest where it follows several. Null when it is not due twice.
    /// </summary>
    /// <param name="task">The task; one of this plan.</param>
    /// <param name="from">From when.</param>
    public Duration? LongestGap(PlanTask task, Instant from)
    {
        var seen = new HashSet<string>();
        return Gap(task);

        Duration? Gap(PlanTask t)
        {
            if (!seen.Add(t.Id))
            {
                return null;
            }

            var due = t.Recurrence?.NextAfter(from, GapsLookedAt) ?? [];
            Duration? longest = null;
            for (var i = 1; i < due.Count; i++)
            {
                longest = longest is { } l ? Duration.Max(l, due[i] - due[i - 1]) : due[i] - due[i - 1];
            }

            return t.After.Select(a => Task(a.Task)).OfType<PlanTask>().Select(Gap).Append(longest).Min();
        }
    }

    /// <summary>The tasks that follow a task after an end of it.</summary>
    public IEnumerable<PlanTask> Following(string task, bool success) =>
        Tasks.Where(t => t.After.Any(a => a.Task == task && (a.On == LinkOn.Always || a.On == LinkOn.Success == success)));
}
