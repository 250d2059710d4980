using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>
/// What a timetable will come to: a discrete-event simulation of its runs. Backups of states, and what follows runs, take slots of host
/// and store in the order they are due and share bandwidth fairly, exactly as <see cref="FairShare"/> does. Log backups, of which there may
/// be tens of millions, take no slot and are given the share they meet at their start; they do not slow down others.
/// </summary>
public sealed partial class Prediction
{
    private const long Day = 86_400_000;
    private const double SaturatedFrom = 0.97;
    private const int SaturatedSlices = 6;
    private static readonly Duration LongWait = Duration.FromMinutes(10);

    private readonly PredictionInput input;
    private readonly IPredictionSink? sink;
    private readonly FairShare network = new();
    private readonly PriorityQueue<Happening, long> queue = new();
    private readonly List<Blackout> blackouts;
    private readonly SeriesState[] series;
    private readonly Dictionary<(ClashKind, string?, string?, string), Clash> clashes = [];
    private readonly Dictionary<Id<Store>, double[]> space = [];
    private readonly Slots slots;
    private readonly Dictionary<Id<Store>, int> stores = [];
    private readonly long from;
    private readonly long to;
    private readonly LoadCurves? curves;
    private long now;
    private long number;

    private Prediction(PredictionInput input, IPredictionSink? sink)
    {
        (this.input, this.sink) = (input, sink);
        (from, to) = (input.From.ToUnixTimeMilliseconds(), input.To.ToUnixTimeMilliseconds());
        now = from;
        blackouts = [.. input.Blackouts];
        var fleet = input.Fleet;
        slots = new Slots(fleet);
        Routes.SetCapacities(network, fleet);
        network.Advance(from);
        curves = input.Curves ? new LoadCurves(fleet.StoreList.Count + fleet.HostList.Count + fleet.Links.Count, from, to) : null;
        if (curves is not null)
        {
            network.Moved = curves.Add;
        }

        var days = (int)((to - from + Day - 1) / Day) + 1;
        foreach (var s in fleet.StoreList)
        {
            stores[s.Id] = network[Routes.Of(s.Id)];
            space[s.Id] = new double[days];
        }

        var databases = new Dictionary<Id<Database>, DatabaseRun>();
        series = new SeriesState[input.Series.Count];
        for (var i = 0; i < series.Length; i++)
        {
            var s = input.Series[i];
            if (!databases.TryGetValue(s.Database.Id, out var d))
            {
                var load = input.LoadOf?.Invoke(s.Database) ?? DatabaseLoad.Stated(s.Database, input.From);
                var logs = input.LogsFrom?.Invoke(s.Database.Id).ToUnixTimeMilliseconds() ?? from;
                databases[s.Database.Id] = d = new DatabaseRun(load, fleet.Hosts[s.Database.Host], fleet.Engines[s.Database.Engine], logs) { LogTo = logs };
            }

            series[i] = new SeriesState(i, s, d, input.PaceOf?.Invoke(s) ?? 1, Way(s));
        }

        var byPlanAndDatabase = series.ToLookup(s => (s.Series.Plan.Id, s.Series.Database.Id));
        foreach (var s in series)
        {
            if (s.Series.Plan.Tasks.Any(t => t.After.Any(a => a.Task == s.Series.Task.Id)))
            {
                var all = byPlanAndDatabase[(s.Series.Plan.Id, s.Series.Database.Id)].ToArray();
                s.AfterSuccess = [.. s.Series.Plan.Following(s.Series.Task.Id, true).Select(t => Array.Find(all, a => a.Series.Task == t)!)];
                s.AfterFailure = [.. s.Series.Plan.Following(s.Series.Task.Id, false).Select(t => Array.Find(all, a => a.Series.Task == t)!)];
            }
        }
    }

    /// <summary>Runs the prediction.</summary>
    /// <param name="input">What is asked.</param>
    /// <param name="sink">Takes the runs; null when only the figures are wanted.</param>
    public static PredictionFigures Run(PredictionInput input, IPredictionSink? sink = null) => new Prediction(input, sink).Run();

    private int[] Way(Series s)
    {
        if (s.Task.Store is not { } store)
        {
            return [network[Routes.Of(s.Database.Host)]];
        }

        // No link: the run would fail; the finding says so, and here it is as if the store were near.
        return [.. (Routes.Between(input.Fleet, s.Database.Host, store) ?? [Routes.Of(s.Database.Host), Routes.Of(store)]).Select(n => network[n])];
    }

    private PredictionFigures Run()
    {
        foreach (var s in series)
        {
            s.ExpandedTo = s.Kind == TaskKind.Log ? Math.Max(from, s.Database.LogsFrom) : from;
            var task = s.Series.Task;
            s.CopyWays = [.. task.CopyTo.Take(4).Select(c =>
                (Routes.Between(input.Fleet, task.Store!.Value, c) ?? [Routes.Of(task.Store.Value), Routes.Of(c)]).Select(n => network[n]).ToArray())];
            s.Places = [.. task.Stores.Take(5).Select(store => (space[store], input.Fleet.Stores[store].WriteBytesPerSecond, (long)(task.KeepIn(store).Reach?.TotalMilliseconds ?? 0)))];
            QueueNext(s);
        }

        while (true)
        {
            var flow = Math.Ceiling(network.NextDone());
            var due = queue.TryPeek(out _, out var first) ? TimeOf(first) : long.MaxValue;
            if (Math.Min(flow, due) >= to)
            {
                break;
            }

            if (flow <= due)
            {
                now = Math.Max(now, (long)flow);
                network.Advance(now);
                continue;
            }

            now = Math.Max(now, due);
            network.Advance(now);
            var next = queue.Dequeue();
            if (next.Do is { } action)
            {
                action();
            }
            else
            {
                QueueNext(next.Series!);
                OnDue(next.Series!, next.Due, null);
            }
        }

        network.Advance(Math.Min(to, network.NextDone()));
        return Figures();
    }

    private long TimeOf(long priority) => (priority >> 22) + from;

    private void At(long time, Happening what) => queue.Enqueue(what, ((Math.Max(time, from) - from) << 22) | (number++ & 0x3FFFFF));

    private void QueueNext(SeriesState s)
    {
        while (s.Cursor == s.Due.Count)
        {
            if (s.ExpandedTo >= to || s.Series.Task.Recurrence is null)
            {
                return;
            }

            // A day of what comes often at a time, so that millions need not lie in memory at once.
            s.Due.Clear();
            s.Cursor = 0;
            var end = Math.Min(to, s.ExpandedTo + (s.Kind == TaskKind.Log ? Day : 35 * Day));
            s.Series.Expand(s.ExpandedTo, end, s.Due);
            s.ExpandedTo = end;
        }

        var due = s.Due[s.Cursor++];
        At(due, new Happening(s, due, null));
    }

    private void OnDue(SeriesState s, long due, Trigger? of)
    {
        if (blackouts.Count > 0)
        {
            if (Blackout.FirstFree(blackouts, s.Series, Instant.FromUnixTimeMilliseconds(now)) is not { } free)
            {
                LeaveOut(s, due, RunEnd.Held);
                return;
            }

            if (free.ToUnixTimeMilliseconds() > now)
            {
                if (s.CatchesUp || s.Series.Task.Missed != MissedRule.CatchUpOnce)
                {
                    LeaveOut(s, due, RunEnd.Held);
                    return;
                }

                s.CatchesUp = true;
                At(free.ToUnixTimeMilliseconds(), new Happening(null, 0, () =>
                {
                    s.CatchesUp = false;
                    OnDue(s, due, of);
                }));
                return;
            }
        }

        if (!s.IsPossible)
        {
            LeaveOut(s, due, RunEnd.Failed);
            return;
        }

        if (s.BusyUntil > now)
        {
            if (s.Series.Task.Overlap == OverlapRule.Wait && s.WaitsSince is null)
            {
                s.WaitsSince = due;
                if (s.BusyUntil != long.MaxValue)
                {
                    At(s.BusyUntil, new Happening(null, 0, () => GoOn(s)));
                }

                return;
            }

            LeaveOut(s, due, RunEnd.Overlapped);
            return;
        }

        if (s.Kind == TaskKind.Log)
        {
            BackUpLog(s, due);
        }
        else
        {
            Prepare(s, due, of);
        }
    }

    private void GoOn(SeriesState s)
    {
        if (s.WaitsSince is { } since)
        {
            s.WaitsSince = null;
            OnDue(s, since, null);
        }
    }

    private void LeaveOut(SeriesState s, long due, RunEnd why)
    {
        if (why == RunEnd.Overlapped)
        {
            Tell(ClashKind.Overlap, s, s.Database.Host.Id.Value, due, 0);
        }

        sink?.Add(new PredictedRun { Series = s.Number, End = why, Due = due, Started = now, Ended = now });
    }

    // ---- log backups: at once, with the share they meet ----
    private void BackUpLog(SeriesState s, long due)
    {
        var d = s.Database;
        var data = Math.Max(1024, d.Load.LogBetween(d.LogTo, now));
        var stored = data * s.Ratio;
        var run = new PredictedRun { Series = s.Number, Due = due, Started = now, Captured = now, CoversFrom = d.LogTo, DataBytes = data, StoredBytes = stored };
        var at = now + Seconds(s, RunPace.OverheadSeconds + (stored / network.RateFor(s.Way, s.LogCap)));
        if (!Attempts(s, ref run, ref at))
        {
            s.BusyUntil = run.Ended = at;
            Ended(s, in run, RunEnd.Failed, null);
            return;
        }

        d.LogTo = now;
        run.Available = run.Ended = at;
        AddLoad(s.Way, stored, now, at);
        for (var i = 0; i < s.CopyWays.Length; i++)
        {
            var copied = at + (long)(1000 * stored / network.RateFor(s.CopyWays[i], s.Places[i + 1].WriteRate));
            AddLoad(s.CopyWays[i], stored, at, copied);
            run.SetCopy(i, copied);
            run.Ended = Math.Max(run.Ended, copied);
        }

        s.BusyUntil = run.Ended;
        Ended(s, in run, RunEnd.Done, null);
    }

    private long Seconds(SeriesState s, double seconds) =>
        (long)Math.Max(1, 1000 * seconds * s.Pace * (input.Chance is { } c ? Draw.Factor(c.Seed, s.Number, s.Runs, c.Spread) : 1));

    /// <summary>Lets attempts fail by chance; false when all did. Moves the end on by what failed attempts and the waits between took.</summary>
    private bool Attempts(SeriesState s, ref PredictedRun run, ref long end)
    {
        s.Runs++;
        run.Attempts = 1;
        if (input.Chance is not { } chance || chance.Fails(s.Kind) is not (> 0 and var share))
        {
            return true;
        }

        var took = end - now;
        var backOff = (long)s.Series.Task.BackOff.TotalMilliseconds;
        for (; Draw.Unit(chance.Seed, s.Number, (s.Runs * 32) + run.Attempts) < share; run.Attempts++)
        {
            if (run.Attempts >= s.Series.Task.Attempts)
            {
                return false;
            }

            end += backOff + (took / 2);
            backOff *= 2;
        }

        return true;
    }

    private void AddLoad(int[] way, double bytes, double start, double end)
    {
        if (curves is not null)
        {
            foreach (var r in way)
            {
                curves.Add(r, bytes, start, end);
            }
        }
    }

    // ---- all others: slots, fair shares, what follows ----
    private void Prepare(SeriesState s, long due, Trigger? of)
    {
        var (d, kind) = (s.Database, s.Kind);
        if ((kind == TaskKind.Differential && d.FullAt is null) || (kind == TaskKind.Incremental && d.StateAt is null))
        {
            LeaveOut(s, due, RunEnd.NoBase);
            return;
        }

        s.BusyUntil = long.MaxValue;
        var waiting = new Waiting(s, new PredictedRun { Series = s.Number, Due = due }, of);
        if (!kind.TakesSlot())
        {
            Start(waiting);
            return;
        }

        slots.Ask(d.Host.Id, s.Series.Task.Store!.Value, () => Start(waiting));
    }

    private void Start(Waiting waiting)
    {
        var (s, run) = (waiting.Series, waiting.Run);
        var (d, task) = (s.Database, s.Series.Task);
        run.Started = run.Captured = now;
        if (now - run.Due > (long)LongWait.TotalMilliseconds && s.Kind.TakesSlot())
        {
            Tell(ClashKind.Queue, s, slots.HasRoom(d.Host.Id) ? task.Store!.Value.Value : d.Host.Id.Value, run.Due, (now - run.Due) / 1000.0);
        }

        var size = d.Load.SizeAt(now);
        run.DataBytes = s.Kind switch
        {
            TaskKind.Full or TaskKind.Snapshot or TaskKind.Export or TaskKind.IntegrityCheck or TaskKind.TestRestore => size,
            TaskKind.Differential => d.Load.ChangedBetween(d.FullAt!.Value, now),
            TaskKind.Incremental => d.Load.ChangedBetween(d.StateAt!.Value, now),
            TaskKind.Verify => waiting.Of?.Stored ?? d.UnverifiedBytes,
            TaskKind.CopyElsewhere => waiting.Of?.Stored ?? d.NotYetCopied.Sum(n => n.Stored),
            _ => 0,
        };
        var makes = s.Kind.Makes() is not null;
        run.StoredBytes = makes ? Math.Max(1024, run.DataBytes * s.Ratio) : run.DataBytes;
        var end = now + Seconds(s, RunPace.OverheadSeconds);
        var went = Attempts(s, ref run, ref end);
        var moved = run.StoredBytes * s.Pace * (input.Chance is { } c ? Draw.Factor(c.Seed, s.Number, -s.Runs, c.Spread) : 1);
        var done = run;
        At(end, new Happening(null, 0, () => network.Start(
            WayOf(s, waiting.Of),
            moved,
            makes ? RunPace.Cap(d.Host, d.Engine, task, run.StoredBytes, size) : double.PositiveInfinity,
            () =>
            {
                done.Available = done.Ended = now;
                if (went)
                {
                    Written(s, done, waiting.Of);
                }
                else
                {
                    Free(s);
                    s.BusyUntil = now;
                    Ended(s, in done, RunEnd.Failed, waiting.Of);
                    GoOn(s);
                }
            })));
    }

    private int[] WayOf(SeriesState s, Trigger? of) => s.Kind switch
    {
        TaskKind.Verify => [stores[of?.Series.Series.Task.Store ?? SomeStore(s)]],
        TaskKind.CopyElsewhere => [stores[of?.Series.Series.Task.Store ?? SomeStore(s)], .. s.Way[1..]],
        TaskKind.IntegrityCheck or TaskKind.CleanUp => [network[Routes.Of(s.Database.Host.Id)]],
        TaskKind.TestRestore => [stores[SomeStore(s)]],
        _ => s.Way,
    };

    private Id<Store> SomeStore(SeriesState s) =>
        s.Series.Plan.Tasks.FirstOrDefault(t => t.Kind.Makes() is not null)?.Store ?? input.Fleet.StoreList[0].Id;

    private void Written(SeriesState s, PredictedRun run, Trigger? of)
    {
        var (d, task) = (s.Database, s.Series.Task);
        Free(s);
        switch (s.Kind)
        {
            case TaskKind.Full or TaskKind.Snapshot when !task.OutsideChain:
                d.FullAt = d.StateAt = run.Captured;
                break;
            case TaskKind.Incremental when !task.OutsideChain:
                d.StateAt = run.Captured;
                break;
            case TaskKind.Verify:
                d.UnverifiedBytes = 0;
                break;
            case TaskKind.CopyElsewhere:
                foreach (var (series, captured, _) in of is null ? [.. d.NotYetCopied] : new[] { (of.Series.Number, of.Captured, of.Stored) })
                {
                    sink?.AddCopy(series, captured, s.Number, now);
                }

                Occupy(s.Places[0], run.StoredBytes, now);
                d.NotYetCopied.Clear();
                break;
        }

        var left = s.CopyWays.Length;
        if (left == 0 || !s.MakesSet)
        {
            s.BusyUntil = now;
            Ended(s, in run, RunEnd.Done, of);
            GoOn(s);
            return;
        }

        for (var i = 0; i < s.CopyWays.Length; i++)
        {
            var copy = i;
            network.Start(s.CopyWays[i], run.StoredBytes, s.Places[i + 1].WriteRate, () =>
            {
                run.Ended = now;
                run.SetCopy(copy, now);
                if (--left == 0)
                {
                    s.BusyUntil = now;
                    Ended(s, in run, RunEnd.Done, of);
                    GoOn(s);
                }
            });
        }
    }

    private void Free(SeriesState s)
    {
        if (s.Kind.TakesSlot())
        {
            slots.Release(s.Database.Host.Id, s.Series.Task.Store!.Value);
        }
    }

    private void Ended(SeriesState s, in PredictedRun run, RunEnd end, Trigger? of)
    {
        var told = run;
        told.End = end;
        sink?.Add(in told);
        var d = s.Database;
        if (end == RunEnd.Done && run.Ended - run.Due > s.Window)
        {
            Tell(ClashKind.WindowMissed, s, d.Host.Id.Value, run.Due, (run.Ended - run.Due - s.Window) / 1000.0);
        }

        if (end == RunEnd.Done && s.MakesSet)
        {
            d.UnverifiedBytes += run.StoredBytes;
            Occupy(s.Places[0], run.StoredBytes, run.Available);
            for (var i = 0; i < s.CopyWays.Length; i++)
            {
                Occupy(s.Places[i + 1], run.StoredBytes, run.Copies[i]);
            }

            if (s.IsCopiedLater)
            {
                d.NotYetCopied.Add((s.Number, run.Captured, run.StoredBytes));
            }
        }

        if (s.AfterSuccess.Length + s.AfterFailure.Length == 0)
        {
            return;
        }

        var trigger = s.MakesSet ? new Trigger(s, run.Captured, run.StoredBytes) : of;
        foreach (var next in end == RunEnd.Done ? s.AfterSuccess : s.AfterFailure)
        {
            At(run.Ended, new Happening(null, 0, () => OnDue(next, now, trigger)));
        }
    }

    private void Occupy((double[] Space, double WriteRate, long Stay) place, double bytes, long at)
    {
        var perDay = place.Space;
        Change(at, bytes);
        if (place.Stay > 0)
        {
            Change(at + place.Stay, -bytes);
        }

        void Change(long when, double by)
        {
            var day = (when - from + Day - 1) / Day;
            if (day >= 0 && day < perDay.Length)
            {
                perDay[day] += by;
            }
        }
    }

    private void Tell(ClashKind kind, SeriesState s, string place, long at, double seconds)
    {
        if (at < input.ClashesFrom?.ToUnixTimeMilliseconds())
        {
            return;
        }

        var key = (kind, s.Series.Plan.Id.Value, s.Series.Task.Id, place);
        clashes[key] = clashes.TryGetValue(key, out var known)
            ? known with
            {
                Count = known.Count + 1,
                WorstSeconds = Math.Max(known.WorstSeconds, seconds),
                Database = seconds > known.WorstSeconds ? s.Series.Database.Id.Value : known.Database,
            }
            : new Clash(kind, s.Series.Plan.Id.Value, s.Series.Task.Id, place, Instant.FromUnixTimeMilliseconds(at), 1, seconds, s.Series.Database.Id.Value);
    }

    private PredictionFigures Figures()
    {
        var fleet = input.Fleet;
        for (var r = 0; curves is not null && r < network.Count; r++)
        {
            curves.Level(r, network.CapacityOf(r));
        }

        foreach (var link in curves is null ? [] : fleet.Links)
        {
            var run = 0;
            var curve = curves!.Of(network[Routes.Of(link.One, link.Other)]);
            for (var i = 0; i < curve.Length; i++)
            {
                run = curve[i] >= SaturatedFrom * link.BytesPerSecond * LoadCurves.Slice / 1000 ? run + 1 : 0;
                if (run == SaturatedSlices)
                {
                    var name = $"{link.One}–{link.Other}";
                    var at = Instant.FromUnixTimeMilliseconds(from + ((i + 1 - SaturatedSlices) * LoadCurves.Slice));
                    var key = (ClashKind.LinkSaturated, (string?)null, (string?)null, name);
                    clashes[key] = clashes.TryGetValue(key, out var known) ? known with { Count = known.Count + 1 } : new Clash(ClashKind.LinkSaturated, null, null, name, at, 1, SaturatedSlices * LoadCurves.Slice / 1000.0, null);
                }
            }
        }

        foreach (var (store, perDay) in space)
        {
            var sum = 0.0;
            var curve = perDay.Select(p => sum += p).ToArray();
            if (fleet.Stores[store].CapacityBytes is { } capacity && Array.FindIndex(curve, b => b > capacity) is >= 0 and var day)
            {
                clashes[(ClashKind.StoreFull, null, null, store.Value)] =
                    new Clash(ClashKind.StoreFull, null, null, store.Value, Instant.FromUnixTimeMilliseconds(from + (day * Day)), 1, 0, null);
            }
        }

        return new PredictionFigures([.. clashes.Values.OrderBy(c => c.At)], curves, name => network[name]);
    }
}
