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
            input.Cancel.ThrowIfCancellationRequested();
            s.ExpandedTo = s.Kind == TaskKind.Log ? Math.Max(from, s.Database.LogsFrom) : from;
            var task = s.Series.Task;
            s.CopyWays = [.. task.CopyTo.Take(4).Select(c =>
                (Routes.Between(input.Fleet, task.Store!.Value, c) ?? [Routes.Of(task.Store.Value), Routes.Of(c)]).Select(n => network[n]).ToArray())];
            s.Places = [.. task.Stores.Take(5).Select(store => (space[store], input.Fleet.Stores[store].WriteBytesPerSecond, (long)(task.KeepIn(store).Reach?.TotalMilliseconds ?? 0)))];
            QueueNext(s);
        }

        for (var events = 0; ; events++)
        {
            if ((events & 0xFFF) == 0)
            {
                input.Cancel.ThrowIfCancellationRequested();
            }

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
}
