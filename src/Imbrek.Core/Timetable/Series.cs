using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>A task of a plan on one of its members: what comes again and again.</summary>
/// <param name="Plan">The plan.</param>
/// <param name="Task">The task.</param>
/// <param name="Database">The member.</param>
/// <param name="Offset">How long after the task is due it is due on this member.</param>
public sealed record Series(Plan Plan, PlanTask Task, Database Database, Duration Offset)
{
    /// <summary>All series of a fleet's plans, those of tasks that only follow others included. A database that two plans catch is in both.</summary>
    public static IReadOnlyList<Series> Of(FleetModel fleet) => [.. fleet.Plans.SelectMany(p => Of(p, fleet))];

    /// <summary>The series of one plan.</summary>
    public static IReadOnlyList<Series> Of(Plan plan, FleetModel fleet)
    {
        var members = fleet.MembersOf(plan);
        return [.. plan.Tasks.SelectMany(task => members.Select((d, i) => new Series(plan, task, d, OffsetOf(task, d.Id, i, members.Count))))];
    }

    /// <summary>The series of one member of one of a fleet's plans.</summary>
    public static IEnumerable<Series> Of(Plan plan, Database database, FleetModel fleet)
    {
        var members = fleet.MembersOf(plan);
        var rank = plan.Tasks.Any(t => t.SpreadOver > Duration.Zero) ? members.TakeWhile(m => m.Id != database.Id).Count() : 0;
        return plan.Tasks.Select(task => new Series(plan, task, database, OffsetOf(task, database.Id, rank, members.Count)));
    }

    /// <summary>When it is due in [from, to), milliseconds of the Unix epoch, appended in order.</summary>
    public void Expand(long from, long to, List<long> into)
    {
        if (Task.Recurrence is not { } recurrence)
        {
            return;
        }

        var shift = (long)Offset.TotalMilliseconds;
        var start = into.Count;
        recurrence.Expand(from - shift, to - shift, into);
        for (var i = start; i < into.Count; i++)
        {
            into[i] += shift;
        }
    }

    /// <summary>The last time it was due before an instant, looking back a while; null when it was not.</summary>
    public long? LastBefore(long at, long lookBack)
    {
        var due = new List<long>();
        for (var span = 3_600_000L; ; span *= 6)
        {
            Expand(Math.Max(at - span, at - lookBack), at, due);
            if (due.Count > 0)
            {
                return due[^1];
            }

            if (span >= lookBack)
            {
                return null;
            }
        }
    }

    private static Duration OffsetOf(PlanTask task, Id<Database> database, int rank, int members) =>
        task.Offsets.TryGetValue(database.Value, out var own) ? own
        : task.SpreadOver > Duration.Zero && members > 1 ? Duration.FromSeconds(Math.Round(task.SpreadOver.TotalSeconds * rank / (members - 1)))
        : Duration.Zero;
}
