using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Notices;

/// <summary>
/// Turns what runs did into messages to the people their plans name. What has one cause is one message: the same reason in the same hour,
/// whatever database it hit, so that 400 failures of one store are one message that says 400.
/// </summary>
internal sealed class NoticeBook(FleetModel fleet)
{
    private static readonly Duration Together = Duration.FromHours(1);

    private readonly Dictionary<string, Message> open = [];
    private readonly HashSet<(string Plan, string Task, string Database)> failed = [];
    private readonly Dictionary<string, Instant> lastSet = [];
    private readonly HashSet<(string Plan, string Database)> silent = [];
    private readonly Dictionary<Guid, TaskRun> underWay = [];
    private readonly HashSet<Guid> toldLate = [];

    private sealed class Message
    {
        public long? Row { get; set; }

        public bool Changed { get; set; }

        public required string Key { get; init; }

        public required string Kind { get; init; }

        public required IReadOnlyList<string> People { get; init; }

        public required string Subject { get; init; }

        public required Instant First { get; init; }

        public Instant Last { get; set; }

        public int Count { get; set; }

        public HashSet<string> Databases { get; } = [];
    }

    /// <summary>Hears what time it is, and tells of databases for which nothing has come for longer than their plan says, and of runs that take too long.</summary>
    /// <param name="now">The time.</param>
    /// <param name="newestOf">The instant of a database's newest set, asked once; null when it has none.</param>
    public void Hear(Instant now, Func<Id<Core.Fleet.Database>, Instant?> newestOf)
    {
        HearOverdue(now);
        foreach (var plan in fleet.Plans.Where(p => p.Tell.Silence is not null && p.Tell.People.Count > 0))
        {
            foreach (var d in plan.Members.Of(fleet))
            {
                if (!lastSet.TryGetValue(d.Id.Value, out var last))
                {
                    lastSet[d.Id.Value] = last = newestOf(d.Id) ?? now;
                }

                if (now - last <= plan.Tell.Silence)
                {
                    silent.Remove((plan.Id.Value, d.Id.Value));
                }
                else if (silent.Add((plan.Id.Value, d.Id.Value)))
                {
                    Say(plan, "silent", $"silent|{plan.Id}", $"{plan.Name}: nothing has come for longer than {Core.Recovery.PlainDuration.Of(plan.Tell.Silence!.Value.TotalSeconds)}", d.Id.Value, now);
                }
            }
        }
    }

    private void HearOverdue(Instant now)
    {
        foreach (var run in underWay.Values)
        {
            if (fleet.Plans.FirstOrDefault(p => p.Id == run.Plan) is { Tell: { Lateness: true, People.Count: > 0 } } plan
                && Overdue.Of(run, plan.Task(run.Task), now) is { } why && toldLate.Add(run.Id))
            {
                Say(plan, "late", $"late|{run.Plan}|{run.Task}", $"{plan.Name}: {run.Task} does not end: {why}", run.Database.Value, now);
            }
        }
    }

    /// <summary>Hears how a run stands.</summary>
    public void Hear(TaskRun run)
    {
        if (run.State == TaskRunState.Running)
        {
            underWay[run.Id] = run;
        }
        else
        {
            underWay.Remove(run.Id);
        }

        if (run.Ended is not { } ended || fleet.Plans.FirstOrDefault(p => p.Id == run.Plan) is not { } plan || plan.Tell.People.Count == 0)
        {
            return;
        }

        if (run is { State: TaskRunState.Done, Set: not null })
        {
            lastSet[run.Database.Value] = ended;
        }

        var what = (run.Plan.Value, run.Task, run.Database.Value);
        switch (run.State)
        {
            case TaskRunState.Failed:
                failed.Add(what);
                if (plan.Tell.Failure)
                {
                    Say("failed", run.Note ?? "failed", $"{plan.Name}: {run.Task} fails: {run.Note}");
                }

                break;
            case TaskRunState.Done when failed.Remove(what) && plan.Tell.Recovery:
                Say("works again", "", $"{plan.Name}: {run.Task} works again");
                break;
        }

        if (run.State == TaskRunState.Done && plan.Tell.Lateness && plan.Task(run.Task)?.Window is { } window && ended - run.Due > window && !toldLate.Remove(run.Id))
        {
            Say("late", "", $"{plan.Name}: {run.Task} did not end within its window");
        }

        if (run.State == TaskRunState.Done && run.Oddity is { } oddity)
        {
            Say("odd", "", $"{plan.Name}: {run.Task} of {run.Database} is {oddity}");
        }

        // The same cause counts as one over all plans whose people are the same.
        void Say(string kind, string cause, string subject) => this.Say(
            plan, kind, cause.Length > 0 ? $"{kind}|{string.Join(',', plan.Tell.People)}|{cause}" : $"{kind}|{run.Plan}|{run.Task}", subject, run.Database.Value, ended);
    }

    private void Say(Plan plan, string kind, string key, string subject, string database, Instant at)
    {
        if (!open.TryGetValue(key, out var message) || at - message.Last > Together)
        {
            open[key] = message = new Message { Key = key, Kind = kind, People = plan.Tell.People, Subject = subject, First = at };
        }

        message.Last = at;
        message.Count++;
        message.Changed = true;
        message.Databases.Add(database);
        Finished.Add(message);
    }

    private HashSet<Message> Finished { get; } = [];

    /// <summary>Writes what is new or has grown; inside the caller's transaction.</summary>
    public async Task WriteAsync(ImbrekContext data, CancellationToken cancel)
    {
        foreach (var m in Finished.Where(m => m.Changed))
        {
            m.Changed = false;
            var row = m.Row is { } id ? await data.Notices.SingleOrDefaultAsync(n => n.Id == id, cancel) : null;
            if (row is null)
            {
                // Another process may have opened the message before this one led.
                row = await data.Notices.Where(n => n.GroupKey == m.Key && n.LastAt >= m.First - Together && n.LastAt <= m.First).OrderByDescending(n => n.LastAt).FirstOrDefaultAsync(cancel);
                m.Count += row?.Count ?? 0;
            }

            if (row is null)
            {
                row = new NoticeRow { FirstAt = m.First, GroupKey = m.Key, Kind = m.Kind, People = [.. m.People], Subject = m.Subject };
                data.Notices.Add(row);
            }

            row.LastAt = m.Last;
            row.Count = m.Count;
            row.Databases = [.. row.Databases.Union(m.Databases).Order(StringComparer.Ordinal)];
            await data.SaveChangesAsync(cancel);
            m.Row = row.Id;
        }

        Finished.Clear();
    }
}
