using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>What <see cref="RunRules"/> have others do and keep.</summary>
public interface IRunActions
{
    /// <summary>An attempt of a run begins. Its end is told by <see cref="RunRules.Ended"/>.</summary>
    void Start(Occurrence run);

    /// <summary>What goes on of a run is broken off: somebody ended it.</summary>
    void Stop(Occurrence run);

    /// <summary>A run that was to be taken up has ended unstarted.</summary>
    void Gone(OpenRun run, string note);

    /// <summary>How a run stands from now on.</summary>
    void Tell(Occurrence run, RunState state, string? note);
}

/// <summary>
/// The rules of running (section 9): what is due becomes a run, waits for pauses, slots and the run before by the task's rules, is tried as
/// often as the task allows, and sets off what follows it. A state machine: what happened goes in, what is to be done comes out through
/// <see cref="IRunActions"/>, time is that of its agenda. It is told when runs end; what they do is others' business.
/// </summary>
/// <param name="agenda">Its time, and what is due when.</param>
/// <param name="actions">What it has done.</param>
/// <param name="acts">On which databases there is somebody to act; what is due on others never becomes a run.</param>
public sealed class RunRules(Agenda agenda, IRunActions actions, Func<Id<Database>, bool> acts)
{
    private const int LikeRuns = 40;

    /// <summary>Of what was missed in a long absence no more than this is told for a task on a database.</summary>
    private const int MostMissedTold = 10;

    private readonly Dictionary<(Id<Plan>, string, Id<Database>), Line> lines = [];
    private readonly Dictionary<Guid, Occurrence> orders = [];
    private readonly Dictionary<Guid, Occurrence> later = [];
    private readonly List<long> due = [];
    private Slots slots = new(FleetModel.Empty);
    private int generation;

    private Instant Now => Instant.FromUnixTimeMilliseconds(agenda.Now);

    /// <summary>Times in which things do not start.</summary>
    public IReadOnlyList<Blackout> Blackouts { get; private set; } = [];

    /// <summary>The runs that are not over, for whoever must begin them again.</summary>
    public IEnumerable<Occurrence> Open => orders.Values.Concat(later.Values).Concat(lines.Values.SelectMany(l => new[] { l.Next, l.Held }).OfType<Occurrence>());

    /// <summary>Takes over a fleet with its plans from now on; runs under way go on as they began.</summary>
    public void Load(FleetModel fleet)
    {
        generation++;
        var before = lines.ToDictionary();
        lines.Clear();
        slots = slots.Of(fleet);
        foreach (var series in Series.Of(fleet).Where(s => acts(s.Database.Id)))
        {
            var key = (series.Plan.Id, series.Task.Id, series.Database.Id);
            var line = before.GetValueOrDefault(key) ?? new Line();
            line.Series = series;
            lines[key] = line;
            ScheduleNext(line, Now);
        }
    }

    /// <summary>Changes the pauses.</summary>
    public void Pause(IReadOnlyList<Blackout> blackouts) => Blackouts = blackouts;

    /// <summary>
    /// Takes up a run that is not over: one that somebody asked for, now or at a time, or one that a restart cut off. One that is known
    /// already goes on as it is.
    /// </summary>
    public void TakeUp(OpenRun open)
    {
        var due = Instant.FromUnixTimeMilliseconds(open.Due);
        var id = open.Id;
        if (Knows(id))
        {
            return;
        }

        if (!lines.TryGetValue((new(open.Plan), open.Task, new(open.Database)), out var line))
        {
            if (!open.UnderWay)
            {
                actions.Gone(open, "its task is no longer in the plan");
            }

            return;
        }

        var aside = open.OutsideChain && !line.Series.Task.OutsideChain;
        var series = aside ? Aside(line.Series) : line.Series;
        var trigger = open.After is { } after ? new Occurrence.Followed(after, open.AfterSet is null ? null : new Id<BackupSet>(open.AfterSet)) : null;
        var order = new Occurrence(series, due, trigger, open.AskedBy) { Attempts = open.UnderWay ? open.Attempts : Math.Max(0, open.Attempts - 1), Set = open.Set is null ? null : new Id<BackupSet>(open.Set) };
        var own = aside ? new Line { Series = series } : line;
        if (open.UnderWay)
        {
            GoesOn(own, order);
            return;
        }

        if (due <= Now)
        {
            Ask(own, order);
            return;
        }

        // At its time it is taken up anew, by the plan of then.
        later[id] = order;
        agenda.Schedule(open.Due, () =>
        {
            if (later.Remove(id))
            {
                TakeUp(open);
            }
        });
    }

    /// <summary>
    /// What was due while nobody decided, from an instant until now: one run makes up for all where the task says so, otherwise each is left out.
    /// </summary>
    /// <param name="since">The last instant for which it was decided, milliseconds.</param>
    public void CatchUp(long since)
    {
        var missed = new List<long>();
        foreach (var line in lines.Values.ToArray())
        {
            missed.Clear();
            line.Series.Expand(since + 1, agenda.Now, missed);
            var once = line.Series.Task.Missed == MissedRule.CatchUpOnce && missed.Count > 0 ? 1 : 0;
            foreach (var due in missed.Take(missed.Count - once).TakeLast(MostMissedTold))
            {
                var left = new Occurrence(line.Series, Instant.FromUnixTimeMilliseconds(due), null, null) { Line = line };
                End(left, RunState.LeftOut, "it was due while nobody decided what starts");
            }

            if (once == 1)
            {
                Ask(line, new Occurrence(line.Series, Instant.FromUnixTimeMilliseconds(missed[^1]), null, null));
            }
        }
    }

    /// <summary>Whether a run is known here and not over.</summary>
    public bool Knows(Guid run) => orders.ContainsKey(run) || later.ContainsKey(run) || lines.Values.Any(l => l.Next?.Id == run || l.Held?.Id == run);

    /// <summary>A run that is known here and not over; null when it is not.</summary>
    public Occurrence? Find(Guid run) => orders.GetValueOrDefault(run) ?? later.GetValueOrDefault(run) ?? lines.Values.SelectMany(l => new[] { l.Next, l.Held }).FirstOrDefault(o => o?.Id == run);

    /// <summary>Ends a run; false when it is over already.</summary>
    public bool Cancel(Guid run, string who)
    {
        if (Find(run) is not { } order)
        {
            return false;
        }

        actions.Stop(order);
        later.Remove(run);
        order.Line ??= new Line { Series = order.Series };
        End(order, RunState.Cancelled, $"ended by {who}");
        return true;
    }

    /// <summary>The same, with sets that stand aside.</summary>
    private static Series Aside(Series series) => series with { Task = series.Task with { OutsideChain = true } };

    /// <summary>A task on a database with what must be known of its runs.</summary>
    internal sealed class Line
    {
        public Series Series { get; set; } = null!;

        public Occurrence? Running { get; set; }

        public Occurrence? Next { get; set; }

        public Occurrence? Held { get; set; }

        private readonly Dictionary<int, (Queue<double> Bytes, Queue<double> Seconds)> like = [];

        /// <summary>What earlier runs of an hour were like.</summary>
        public (Queue<double> Bytes, Queue<double> Seconds) Like(int hour) => like.TryGetValue(hour, out var known) ? known : like[hour] = (new(), new());
    }

    private void ScheduleNext(Line line, Instant after)
    {
        if (line.Series.Task.Recurrence is null)
        {
            return;
        }

        // Most recur soon; what does not is looked for further on.
        var from = after.ToUnixTimeMilliseconds() + 1;
        due.Clear();
        for (var span = 3_600_000L; due.Count == 0 && span < 400 * 86_400_000L; span *= 30)
        {
            line.Series.Expand(from, from + span, due);
        }

        if (due.Count == 0)
        {
            return;
        }

        var (at, made) = (due[0], generation);
        agenda.Schedule(at, () =>
        {
            if (made == generation)
            {
                ScheduleNext(line, Instant.FromUnixTimeMilliseconds(at));
                Ask(line, new Occurrence(line.Series, Instant.FromUnixTimeMilliseconds(at), null, null));
            }
        });
    }

    /// <summary>What is due: held back, left out, or on its way to start.</summary>
    private void Ask(Line line, Occurrence order)
    {
        order.Line = line;
        if (order.AskedBy is null && Blackouts.Count > 0 && Blackout.FirstFree(Blackouts, line.Series, Now) is var free && free != Now)
        {
            Hold(line, order, free);
            return;
        }

        if (line.Running is not null)
        {
            if (line.Series.Task.Overlap == OverlapRule.Wait && line.Next is null)
            {
                line.Next = order;
                actions.Tell(order, RunState.Waiting, "the one before is still going");
            }
            else
            {
                End(order, RunState.LeftOut, "the one before was still going");
            }

            return;
        }

        line.Running = order;
        orders[order.Id] = order;
        if (!order.Task.Kind.TakesSlot())
        {
            Start(order);
            return;
        }

        order.Waits = true;
        slots.Ask(order.Database.Host, order.Task.Store!.Value, () =>
        {
            order.HasSlot = true;
            if (orders.ContainsKey(order.Id))
            {
                Start(order);
            }
            else
            {
                FreeSlot(order);
            }
        });
        if (order.Waits)
        {
            actions.Tell(order, RunState.Waiting, "waits for a slot");
        }
    }

    /// <summary>One that somebody carries out already: it is where it would be, and starts nothing.</summary>
    private void GoesOn(Line line, Occurrence order)
    {
        order.Line = line;
        order.Started = order.Due;
        line.Running ??= order;
        orders[order.Id] = order;
        if (order.Task.Kind.TakesSlot())
        {
            order.HasSlot = true;
            slots.Take(order.Database.Host, order.Task.Store!.Value);
        }
    }

    private void Hold(Line line, Occurrence order, Instant? free)
    {
        if (line.Series.Task.Missed != MissedRule.CatchUpOnce || line.Held is not null || free is null)
        {
            End(order, RunState.LeftOut, line.Series.Task.Missed == MissedRule.Report ? "missed during a pause" : "left out during a pause");
            return;
        }

        line.Held = order;
        actions.Tell(order, RunState.Waiting, "waits for the end of a pause");
        agenda.Schedule(free.Value.ToUnixTimeMilliseconds(), () =>
        {
            if (line.Held == order)
            {
                line.Held = null;
                Ask(line, order);
            }
        });
    }

    private void Start(Occurrence order)
    {
        order.Waits = false;
        order.Started ??= Now;
        order.Attempts++;
        actions.Start(order);
        if (orders.ContainsKey(order.Id))
        {
            // Told after it began: only then it is known how much it is about.
            actions.Tell(order, RunState.Running, null);
        }
    }

    /// <summary>An attempt of a run ended: it is tried again, or is over and sets off what follows.</summary>
    public void Ended(Occurrence order, TaskOutcome outcome)
    {
        if (!orders.ContainsKey(order.Id))
        {
            return;
        }

        if (outcome is TaskOutcome.Fails { CanRetry: true } fails && order.Attempts < order.Task.Attempts)
        {
            var wait = Retry.PauseSeconds(order.Task.BackOff.TotalSeconds, order.Attempts) * 1000;
            actions.Tell(order, RunState.Running, $"attempt {order.Attempts} failed: {fails.Why}");
            agenda.Schedule(agenda.Now + (long)wait, () =>
            {
                if (orders.ContainsKey(order.Id))
                {
                    order.Attempts++;
                    actions.Start(order);
                }
            });
            return;
        }

        switch (outcome)
        {
            case TaskOutcome.Goes goes:
                Compare(order);
                End(order, RunState.Done, goes.Note);
                break;
            case TaskOutcome.Fails failed:
                End(order, RunState.Failed, failed.Why);
                break;
            case TaskOutcome.Nothing nothing:
                End(order, RunState.LeftOut, nothing.Why);
                break;
        }
    }

    private void Compare(Occurrence order)
    {
        if (order.Task.Kind.Makes() is null)
        {
            return;
        }

        // A log's size follows the hour; its like are the log backups of the same hour, by bytes for each second they cover.
        var log = order.Task.Kind == TaskKind.Log;
        var like = order.Line!.Like(log ? order.Due.InUtc().Hour : 0);
        var (bytes, seconds) = (order.StoredBytes / (log ? Math.Max(1, order.CoversSeconds) : 1), (Now - order.Started!.Value).TotalSeconds);
        order.Oddity = OutlierTest.Of(bytes, seconds, like.Bytes, like.Seconds);
        like.Bytes.Enqueue(bytes);
        like.Seconds.Enqueue(seconds);
        if (like.Bytes.Count > LikeRuns)
        {
            like.Bytes.Dequeue();
            like.Seconds.Dequeue();
        }
    }

    private void FreeSlot(Occurrence order)
    {
        if (order.HasSlot)
        {
            order.HasSlot = false;
            slots.Release(order.Database.Host, order.Task.Store!.Value);
        }
    }

    private void End(Occurrence order, RunState state, string? note)
    {
        var line = order.Line!;
        orders.Remove(order.Id);
        actions.Tell(order, state, note);
        FreeSlot(order);
        line.Next = line.Next == order ? null : line.Next;
        line.Held = line.Held == order ? null : line.Held;
        if (line.Running == order)
        {
            line.Running = null;
            if (line.Next is { } next)
            {
                line.Next = null;
                Ask(line, next);
            }
        }

        if (state is RunState.Done or RunState.Failed)
        {
            var trigger = order.Set is { } set ? new Occurrence.Followed(order.Id, set) : order.Trigger is { } t ? t with { Run = order.Id } : null;
            foreach (var task in order.Series.Plan.Following(order.Task.Id, state == RunState.Done))
            {
                if (lines.TryGetValue((order.Series.Plan.Id, task.Id, order.Database.Id), out var follower))
                {
                    Ask(follower, new Occurrence(follower.Series, Now, trigger ?? new Occurrence.Followed(order.Id, null), null));
                }
            }
        }
    }
}
