using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;

namespace Imbrek.StandIn;

/// <summary>Takes, copies, reads back and removes backups in the simulated world, for whoever calls from outside.</summary>
/// <param name="world">The world.</param>
public sealed class StandInBackupDriver(World world) : IBackupDriver
{
    /// <inheritdoc/>
    public async Task<Taken> TakeAsync(RunCall call, TakeSpec spec, CancellationToken cancel)
    {
        world.Answers.Enter(call);
        if (world.Answers.Taken(call) is { } taken)
        {
            return new Taken(taken, 0, 0);
        }

        var (began, bytes, nothing) = (world.NowMs, 0L, (string?)null);
        BackupSet? set = null;
        var ended = await Await(
            call,
            (done, fail) => world.Work.Take(
                call.Run,
                spec,
                size => bytes = size.Stored,
                (made, why) =>
                {
                    (set, nothing) = (made, why);
                    if (made is not null)
                    {
                        world.Answers.Took(call.Run, made);
                    }

                    done();
                },
                fail),
            cancel);
        return new Taken(set, (ended - began) / 1000.0, set is null ? 0 : bytes, nothing);
    }

    /// <inheritdoc/>
    public async Task<Taken> CopyAsync(RunCall call, Id<Database> database, Id<BackupSet> set, Id<Store> to, double? lockSeconds, CancellationToken cancel)
    {
        world.Answers.Enter(call);
        var (began, bytes) = (world.NowMs, 0L);
        BackupSet? now = null;
        var ended = await Await(
            call,
            (done, fail) => world.Work.Copy(
                database,
                set,
                to,
                lockSeconds,
                (copied, moved) =>
                {
                    (now, bytes) = (copied, moved);
                    done();
                },
                fail),
            cancel);
        return new Taken(now, (ended - began) / 1000.0, bytes);
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<Taken>> ReadBackAsync(RunCall call, Id<Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel) =>
        LaterAsync(call, () => world.Work.ReadBack(database, copies), cancel);

    /// <inheritdoc/>
    public Task<IReadOnlyList<Taken>> RemoveAsync(RunCall call, Id<Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel) =>
        LaterAsync(call, () => world.Work.Remove(database, copies), cancel);

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> SeesAsync(Id<Database> database, CancellationToken cancel)
    {
        lock (world.Gate)
        {
            var d = world[database];
            if (world.Faults.IsDown(d.Database.Host))
            {
                throw new DriverException(DriverProblem.Unreachable, $"host {d.Database.Host} does not answer");
            }

            if (world.Faults.IsRefused(database))
            {
                throw new DriverException(DriverProblem.Refused, $"the sign-in by which {database} is backed up has expired");
            }

            world.Live(d);
            return Task.FromResult<IReadOnlyList<CheckResult>>([new("rows", true, $"{d.Image.Rows.LongCount(r => r != 0)} of {d.Image.Rows.Length} written"), new("markers", true, $"{d.Image.Markers.Count}")]);
        }
    }

    /// <inheritdoc/>
    public async Task<(string Found, Moved Moved)> CheckIntegrityAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        world.Answers.Enter(call);
        var (began, bytes) = (world.NowMs, 0L);
        var ended = await Await(
            call,
            (done, _) => world.Work.Check(database, read =>
            {
                bytes = read;
                done();
            }),
            cancel);
        return ("no damage found", new Moved((ended - began) / 1000.0, bytes));
    }

    private async Task<IReadOnlyList<Taken>> LaterAsync(RunCall call, Func<IReadOnlyList<Taken>> what, CancellationToken cancel)
    {
        world.Answers.Enter(call);
        var began = world.NowMs;
        IReadOnlyList<Taken> result = [];
        var ended = await Await(
            call,
            (done, _) => world.Work.Later(call.Run, () =>
            {
                result = what();
                done();
            }),
            cancel);
        return [.. result.Select((t, i) => i == 0 ? t with { Seconds = (ended - began) / 1000.0 } : t)];
    }

    /// <summary>Waits for work of the world; one that a newer call has taken over is told so.</summary>
    private async Task<long> Await(RunCall call, Func<Action, Action<DriverException>, BackupWork.Going> begin, CancellationToken cancel)
    {
        BackupWork.Going? going = null;
        Action<Exception> fail = _ => { };
        var ended = await world.Outsiders.Await(
            done => going = begin(
                () =>
                {
                    if (world.Answers.IsStale(call) is { } stale)
                    {
                        fail(stale);
                    }
                    else
                    {
                        done();
                    }
                },
                e => fail(e)),
            cancel,
            () =>
            {
                if (going is not null)
                {
                    world.Work.Stop(going);
                }
            },
            f => fail = f,
            urgent: false);
        return ended;
    }
}
