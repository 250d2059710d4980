using Imbrek.Core.Fleet;

namespace Imbrek.Core.Planning;

/// <summary>How a group of databases is protected.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="Members">Which databases it is for.</param>
/// <param name="Tasks">What is done to each of them.</param>
/// <param name="Tell">Who is told of what.</param>
public sealed record Plan(Id<Plan> Id, string Name, Selection Members, IReadOnlyList<PlanTask> Tasks, TellRule Tell)
{
    /// <summary>The task of a name; null when there is none.</summary>
    public PlanTask? Task(string id) => Tasks.FirstOrDefault(t => t.Id == id);

    /// <summary>
    /// The store a task works in: the one it writes to; of one that reads sets, that of the first task that makes some; null for what
    /// concerns only the host.
    /// </summary>
    public Id<Store>? StoreOf(PlanTask task) =>
        task.Store ?? (task.Kind is TaskKind.Verify or TaskKind.CopyElsewhere or TaskKind.TestRestore ? Tasks.FirstOrDefault(t => t.Kind.Makes() is not null)?.Store : null);

    /// <summary>The tasks that follow a task after an end of it.</summary>
    public IEnumerable<PlanTask> Following(string task, bool success) =>
        Tasks.Where(t => t.After.Any(a => a.Task == task && (a.On == LinkOn.Always || a.On == LinkOn.Success == success)));
}
