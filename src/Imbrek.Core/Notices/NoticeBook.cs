using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Core.Notices;

/// <summary>
/// Turns what runs did into messages to the people their plans name. What has one cause is one message: the same reason with no more than
/// an hour in between, whatever task, plan or database it hit, so that 400 failures of one store are one message that says 400.
/// </summary>
/// <param name="fleet">The fleet with the plans in force.</param>
/// <param name="failing">What failed the last time it ran, before this book was opened: its first success is told too.</param>
public sealed class NoticeBook(FleetModel fleet, IEnumerable<(Id<Plan> Plan, string Task, Id<Database> Database)> failing)
{
    /// <summary>What comes again within this time is told in the same message.</summary>
    public static readonly Duration Together = Duration.FromHours(1);

    private readonly Dictionary<string, Notice> open = [];
    private readonly HashSet<Notice> changed = [];
    private readonly HashSet<(Id<Plan> Plan, string Task, Id<Database> Database)> failed = [.. failing];
    private readonly Dictionary<Id<Database>, Instant> lastSet = [];
    private readonly HashSet<(Id<Plan> Plan, Id<Database> Database)> silent = [];
    private readonly Dictionary<Guid, TaskRun> underWay = [];
    private readonly HashSet<Guid> toldLate = [];

    /// <summary>The fleet with the plans in force; what was told by earlier plans is not told again.</summary>
    public FleetModel Fleet { get; set; } = fleet;

    /// <summary>What is new or has grown since <see cref="Kept"/> was last called.</summary>
    public IReadOnlyCollection<Notice> Changed => changed;

    /// <summary>Says that all that changed was written down.</summary>
    public void Kept() => changed.Clear();

    /// <summary>Hears what time it is, and tells of databases for which nothing has come for longer than their plan says, and of runs that take too long.</summary>
    /// <param name="now">The time.</param>
    /// <param name="newestOf">The instant of a database's newest set, asked once; null when it has none.</param>
    public void Hear(Instant now, Func<Id<Database>, Instant?> newestOf)
    {
        HearOverdue(now);

        // What can no longer grow is not remembered: the next of its cause is a message of its own.
        foreach (var (cause, _) in open.Where(o => now - o.Value.Last > Together && !changed.Contains(o.Value)).ToArray())
        {
            open.Remove(cause);
        }

        foreach (var plan in Fleet.Plans.Where(p => p.Tell.Silence is not null && p.Tell.People.Count > 0))
        {
            foreach (var d in plan.Members.Of(Fleet))
            {
                if (!lastSet.TryGetValue(d.Id, out var last))
                {
                    lastSet[d.Id] = last = newestOf(d.Id) ?? now;
                }

                if (now - last <= plan.Tell.Silence)
                {
                    silent.Remove((plan.Id, d.Id));
                }
                else if (silent.Add((plan.Id, d.Id)))
                {
                    Say(plan, null, "silent", $"silent|{plan.Id}", $"{plan.Name}: nothing has come for longer than {PlainDuration.Of(plan.Tell.Silence!.Value.TotalSeconds)}", d.Id, now);
                }
            }
        }
    }

    /// <summary>Hears how a run stands; each state of it once, in the order they came.</summary>
    public void Hear(TaskRun run)
    {
        if (run.State == RunState.Running)
        {
            underWay[run.Id] = run;
        }
        else
        {
            underWay.Remove(run.Id);
        }

        var toldBefore = run.Ended is not null && toldLate.Remove(run.Id);

        if (run is { State: RunState.Done, Set: not null, Ended: { } came })
        {
            lastSet[run.Database] = came;
        }

        if (run.Ended is not { } ended || PlanOf(run) is not { Tell.People.Count: > 0 } plan)
        {
            return;
        }

        var (what, ofTask) = ((run.Plan, run.Task, run.Database), $"{run.Plan}|{run.Task}");
        if (run.State == RunState.Failed)
        {
            failed.Add(what);
            if (plan.Tell.Failure)
            {
                Say(plan, run.Task, "failed", run.Note is null ? $"failed|{ofTask}" : $"failed|{run.Note}", $"{plan.Name}: {run.Task} fails: {run.Note ?? "it does not say why"}", run.Database, ended, run.Note);
            }
        }

        if (run.State != RunState.Done)
        {
            return;
        }

        if (failed.Remove(what) && plan.Tell.Recovery)
        {
            Say(plan, run.Task, "works again", $"works again|{ofTask}", $"{plan.Name}: {run.Task} works again", run.Database, ended);
        }

        if (!toldBefore && plan.Tell.Lateness && plan.Task(run.Task)?.Window is { } window && ended - run.Due > window)
        {
            Say(plan, run.Task, "late", $"late|{ofTask}", $"{plan.Name}: {run.Task} did not end within its window", run.Database, ended);
        }

        if (run.Oddity is { } oddity)
        {
            Say(plan, run.Task, "odd", $"odd|{ofTask}", $"{plan.Name}: {run.Task} of {run.Database} is {oddity}", run.Database, ended);
        }
    }

    private void HearOverdue(Instant now)
    {
        foreach (var run in underWay.Values)
        {
            if (PlanOf(run) is { Tell: { Lateness: true, People.Count: > 0 } } plan && Overdue.Of(run, plan.Task(run.Task), now) is { } why && toldLate.Add(run.Id))
            {
                Say(plan, run.Task, "late", $"late|{run.Plan}|{run.Task}", $"{plan.Name}: {run.Task} does not end: {why}", run.Database, now);
            }
        }
    }

    private Plan? PlanOf(TaskRun run) => Fleet.Plans.FirstOrDefault(p => p.Id == run.Plan);

    private void Say(Plan plan, string? task, string kind, string cause, string subject, Id<Database> database, Instant at, string? reason = null)
    {
        if (!open.TryGetValue(cause, out var notice) || at - notice.Last > Together)
        {
            open[cause] = notice = new Notice(cause, kind, subject, reason, at);
        }

        notice.Again(plan, task, database, at);
        changed.Add(notice);
    }
}
