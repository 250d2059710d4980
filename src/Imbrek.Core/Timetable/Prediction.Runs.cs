using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>What a run does once it is due: log backups at once, with the share they meet; all others through slots and fair shares, and what follows them.</summary>
public sealed partial class Prediction
{
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
        var end = now + Seconds(s, s.Kind.Ships() is { } step ? Shipping(s.Series.Database, step) : RunPace.OverheadSeconds);
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

    /// <summary>How long a stage of the database's shipped replicas takes, seconds.</summary>
    private double Shipping(Database database, ShippingStep step) => input.Fleet.ReplicasOf(database.Id).Max(r => r.Stages?[step].TakesSeconds) ?? 0;

    private int[] WayOf(SeriesState s, Trigger? of) => s.Kind switch
    {
        TaskKind.Verify => [stores[of?.Series.Series.Task.Store ?? SomeStore(s)]],
        TaskKind.CopyElsewhere => [stores[of?.Series.Series.Task.Store ?? SomeStore(s)], .. s.Way[1..]],
        TaskKind.IntegrityCheck or TaskKind.CleanUp or TaskKind.ShipBackup or TaskKind.ShipCopy or TaskKind.ShipApply => [network[Routes.Of(s.Database.Host.Id)]],
        TaskKind.TestRestore => [stores[SomeStore(s)]],
        _ => s.Way,
    };

    private Id<Store> SomeStore(SeriesState s) => s.Series.Plan.StoreOf(s.Series.Task) ?? input.Fleet.StoreList[0].Id;

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
}
