using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>
/// Runs plans in the world: what is due becomes a run, waits for pauses, slots and the run before by the task's rules, is tried as often
/// as the task allows, and sets off what follows it. What each run does is <see cref="TaskWork"/>'s.
/// </summary>
internal sealed class PlanRunner
{
    private const int LikeRuns = 40;

    private readonly World world;
    private readonly TaskWork work;
    private readonly Dictionary<(Id<Plan>, string, Id<Database>), Line> lines = [];
    private readonly Dictionary<Guid, Order> orders = [];
    private readonly Dictionary<Guid, Order> later = [];
    private readonly List<long> due = [];
    private readonly Slots slots;
    private int generation;

    public PlanRunner(World world)
    {
        (this.world, work, slots) = (world, new TaskWork(world, order => Tell(order, RunState.Running, null)), new Slots(world.Fleet));
    }

    /// <summary>Times in which things do not start.</summary>
    public IReadOnlyList<Blackout> Blackouts { get; private set; } = [];

    /// <summary>The runs that are not over, for whoever must begin them again.</summary>
    public IEnumerable<Order> Open => orders.Values.Concat(later.Values).Concat(lines.Values.SelectMany(l => new[] { l.Next, l.Held }).OfType<Order>());

    /// <summary>Takes over the fleet's plans from now on; runs under way go on as they began.</summary>
    public void Load()
    {
        generation++;
        var before = lines.ToDictionary();
        lines.Clear();
        var logged = new HashSet<Id<Database>>();
        foreach (var series in Series.Of(world.Fleet).Where(s => world.Has(s.Database.Id)))
        {
            var key = (series.Plan.Id, series.Task.Id, series.Database.Id);
            var line = before.GetValueOrDefault(key) ?? new Line();
            line.Series = series;
            lines[key] = line;
            if (series.Task.Kind == TaskKind.Log)
            {
                logged.Add(series.Database.Id);
            }

            ScheduleNext(line, world.Now);
        }

        foreach (var d in world.Databases)
        {
            d.KeepLog(logged.Contains(d.Database.Id));
        }
    }

    /// <summary>Changes the pauses.</summary>
    public void Pause(IReadOnlyList<Blackout> blackouts) => Blackouts = blackouts;

    /// <summary>
    /// Takes up a run that is not over: one that somebody asked for, now or at a time, or one that a restart cut off. One that is known
    /// already goes on as it is.
    /// </summary>
    public void TakeUp(WorldState.OpenRun open)
    {
        var due = Instant.FromUnixTimeMilliseconds(open.Due);
        var id = TaskRun.IdOf(new(open.Plan), open.Task, new(open.Database), due, open.After, open.AskedBy);
        if (Open.Any(o => o.Id == id))
        {
            return;
        }

        if (!lines.TryGetValue((new(open.Plan), open.Task, new(open.Database)), out var line))
        {
            world.Changed(new WorldChange.RunChanged(world.Now, new TaskRun
            {
                Id = id,
                Plan = new(open.Plan),
                Task = open.Task,
                Kind = Enum.Parse<TaskKind>(open.Kind),
                Database = new(open.Database),
                Due = due,
                State = RunState.Cancelled,
                Ended = world.Now,
                Attempts = open.Attempts,
                Note = "its task is no longer in the plan",
                After = open.After,
                AskedBy = open.AskedBy,
            }));
            return;
        }

        var aside = open.OutsideChain && !line.Series.Task.OutsideChain;
        var series = aside ? Aside(line.Series) : line.Series;
        var trigger = open.After is { } after ? new Trigger(after, open.AfterSet is null ? null : new Id<BackupSet>(open.AfterSet)) : null;
        var order = new Order(series, due, trigger, open.AskedBy) { Attempts = Math.Max(0, open.Attempts - 1), Set = open.Set is null ? null : new Id<BackupSet>(open.Set) };
        if (due <= world.Now)
        {
            Ask(aside ? new Line { Series = series } : line, order);
            return;
        }

        // At its time it is taken up anew, by the plan of then.
        later[id] = order;
        world.Schedule(open.Due, () =>
        {
            if (later.Remove(id))
            {
                TakeUp(open);
            }
        });
    }

    /// <summary>Ends a run; false when it is over already.</summary>
    public bool Cancel(Guid run, string who)
    {
        if (Open.FirstOrDefault(o => o.Id == run) is not { } order)
        {
            return false;
        }

        work.Stop(order);
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

        public Order? Running { get; set; }

        public Order? Next { get; set; }

        public Order? Held { get; set; }

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
        world.Schedule(at, () =>
        {
            if (made == generation)
            {
                ScheduleNext(line, Instant.FromUnixTimeMilliseconds(at));
                Ask(line, new Order(line.Series, Instant.FromUnixTimeMilliseconds(at), null, null));
            }
        });
    }

    /// <summary>What is due: held back, left out, or on its way to start.</summary>
    private void Ask(Line line, Order order)
    {
        order.Line = line;
        if (order.AskedBy is null && Blackouts.Count > 0 && Blackout.FirstFree(Blackouts, line.Series, world.Now) is var free && free != world.Now)
        {
            Hold(line, order, free);
            return;
        }

        if (line.Running is not null)
        {
            if (line.Series.Task.Overlap == OverlapRule.Wait && line.Next is null)
            {
                line.Next = order;
                Tell(order, RunState.Waiting, "the one before is still going");
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
            Tell(order, RunState.Waiting, "waits for a slot");
        }
    }

    private void Hold(Line line, Order order, Instant? free)
    {
        if (line.Series.Task.Missed != MissedRule.CatchUpOnce || line.Held is not null || free is null)
        {
            End(order, RunState.LeftOut, line.Series.Task.Missed == MissedRule.Report ? "missed during a pause" : "left out during a pause");
            return;
        }

        line.Held = order;
        Tell(order, RunState.Waiting, "waits for the end of a pause");
        world.Schedule(free.Value.ToUnixTimeMilliseconds(), () =>
        {
            if (line.Held == order)
            {
                line.Held = null;
                Ask(line, order);
            }
        });
    }

    private void Start(Order order)
    {
        order.Waits = false;
        order.Started ??= world.Now;
        order.Attempts++;
        work.Begin(order, Ended);
        if (orders.ContainsKey(order.Id))
        {
            // Told after it began: only then it is known how much it is about.
            Tell(order, RunState.Running, null);
        }
    }

    private void Ended(Order order, TaskOutcome outcome)
    {
        if (outcome is TaskOutcome.Fails { CanRetry: true } fails && order.Attempts < order.Task.Attempts)
        {
            var wait = order.Task.BackOff.TotalMilliseconds * (1 << Math.Min(order.Attempts - 1, 10));
            Tell(order, RunState.Running, $"attempt {order.Attempts} failed: {fails.Why}");
            world.Schedule(world.NowMs + (long)wait, () =>
            {
                if (orders.ContainsKey(order.Id))
                {
                    order.Attempts++;
                    work.Begin(order, Ended);
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
                world.Tell(order.Database.Id, "failed", $"{PlanName(order)} failed: {failed.Why}");
                End(order, RunState.Failed, failed.Why);
                break;
            case TaskOutcome.Nothing nothing:
                End(order, RunState.LeftOut, nothing.Why);
                break;
        }
    }

    private static string PlanName(Order order) => $"{order.Task.Id} of {order.Series.Plan.Name}";

    private void Compare(Order order)
    {
        if (order.Task.Kind.Makes() is null)
        {
            return;
        }

        // A log's size follows the hour; its like are the log backups of the same hour, by bytes for each second they cover.
        var log = order.Task.Kind == TaskKind.Log;
        var like = order.Line!.Like(log ? order.Due.InUtc().Hour : 0);
        var (bytes, seconds) = (order.StoredBytes / (log ? Math.Max(1, order.CoversSeconds) : 1), (world.Now - order.Started!.Value).TotalSeconds);
        order.Oddity = OutlierTest.Of(bytes, seconds, like.Bytes, like.Seconds);
        like.Bytes.Enqueue(bytes);
        like.Seconds.Enqueue(seconds);
        if (like.Bytes.Count > LikeRuns)
        {
            like.Bytes.Dequeue();
            like.Seconds.Dequeue();
        }
    }

    private void FreeSlot(Order order)
    {
        if (order.HasSlot)
        {
            order.HasSlot = false;
            slots.Release(order.Database.Host, order.Task.Store!.Value);
        }
    }

    private void End(Order order, RunState state, string? note)
    {
        var line = order.Line!;
        orders.Remove(order.Id);
        Tell(order, state, note);
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
            var trigger = order.Set is { } set ? new Trigger(order.Id, set) : order.Trigger is { } t ? t with { Run = order.Id } : null;
            foreach (var task in order.Series.Plan.Following(order.Task.Id, state == RunState.Done))
            {
                if (lines.TryGetValue((order.Series.Plan.Id, task.Id, order.Database.Id), out var follower))
                {
                    Ask(follower, new Order(follower.Series, world.Now, trigger ?? new Trigger(order.Id, null), null));
                }
            }
        }
    }

    private void Tell(Order order, RunState state, string? note)
    {
        var over = state is not (RunState.Waiting or RunState.Running);
        if (world.InHistory && !over)
        {
            return;
        }

        world.Changed(new WorldChange.RunChanged(world.Now, new TaskRun
        {
            Id = order.Id,
            Plan = order.Series.Plan.Id,
            Task = order.Task.Id,
            Kind = order.Task.Kind,
            Database = order.Database.Id,
            Due = order.Due,
            State = state,
            Started = order.Started,
            Ended = over ? world.Now : null,
            Attempts = order.Attempts,
            DataBytes = order.DataBytes,
            StoredBytes = order.StoredBytes,
            ExpectedSeconds = double.IsFinite(order.ExpectedSeconds) ? order.ExpectedSeconds : 0,
            Set = order.Set,
            Note = note,
            Oddity = order.Oddity,
            After = order.Trigger?.Run,
            AskedBy = order.AskedBy,
        }));
    }
}
