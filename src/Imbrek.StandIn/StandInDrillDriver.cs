using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Replication;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>Changes roles in the simulated world and looks on from outside, for whoever calls.</summary>
/// <param name="world">The world.</param>
public sealed class StandInDrillDriver(World world) : IDrillDriver
{
    private const double HandSeconds = 2, LookSeconds = 0.5, NoticedWithinSeconds = 3;

    /// <inheritdoc/>
    public async Task<Instant> BeginAsync(RunCall call, Id<Database> database, Id<Host> there, CancellationToken cancel)
    {
        var first = await DoAsync(call, HandSeconds, () => world.Drills.Begin(call.Run, database, there), cancel);
        if (first >= world.NowMs)
        {
            await world.After(((first - world.NowMs) / 1000.0) + 1, cancel);
        }

        return Instant.FromUnixTimeMilliseconds(first);
    }

    /// <inheritdoc/>
    public Task<WritesStopped> StopAsync(RunCall call, Id<Database> database, Id<Replica>? lostTo, Instant? at, CancellationToken cancel) => DoAsync(
        call,
        at is { } then ? Math.Max(HandSeconds, (then - world.Now).TotalSeconds) : HandSeconds,
        () =>
        {
            var d = world[database];
            world.Live(d);
            var already = d.StoppedAt(StandInReplicateDriver.KeptOut);
            if (already is null)
            {
                world.Replicas.Around(() =>
                {
                    d.Stop(world.NowMs, StandInReplicateDriver.KeptOut);
                    if (lostTo is { } lost && world.Replicas.Find(lost) is { } r)
                    {
                        r.Feed.Held = true;
                    }
                });
            }

            var stoppedAt = already ?? world.NowMs;
            return new WritesStopped(
                Instant.FromUnixTimeMilliseconds(stoppedAt),
                lostTo is null ? $"the database on {d.Database.Host} takes no more writes" : $"{d.Database.Host} is cut off: it takes no more writes, and nothing of it reaches {lostTo}",
                world.Drills.Markers(call.Run, database, stoppedAt));
        },
        cancel);

    /// <inheritdoc/>
    public Task<WritesStopped> ProvokeAsync(RunCall call, Id<Database> database, CancellationToken cancel) => DoAsync(
        call,
        HandSeconds,
        () =>
        {
            var d = world[database];
            world.Live(d);

            // Asked again it is told when it was: it is not stopped once more.
            if (world.Answers.Told(call) is not { } told)
            {
                told = world.NowMs.ToString(CultureInfo.InvariantCulture);
                world.Replicas.Around(() => d.Stop(world.NowMs, Voting.Provoked));
                world.Replicas.Voting.Notice(d);
                world.Answers.Tell(call.Run, told);
            }

            var at = long.Parse(told, CultureInfo.InvariantCulture);
            return new WritesStopped(Instant.FromUnixTimeMilliseconds(at), "its engine was stopped; nobody helps", world.Drills.Markers(call.Run, database, at));
        },
        cancel);

    /// <inheritdoc/>
    public Task GoOnAsync(RunCall call, Id<Database> database, Id<Replica>? lostTo, CancellationToken cancel) => DoAsync(
        call,
        HandSeconds,
        () =>
        {
            var d = world[database];
            world.Live(d);
            world.Replicas.Around(() =>
            {
                d.GoOn(world.NowMs, StandInReplicateDriver.KeptOut);
                if (lostTo is { } lost && world.Replicas.Find(lost) is { } r)
                {
                    (r.Feed.Held, r.Feed.WaitsForWord) = (false, false);
                }
            });
            return 0;
        },
        cancel);

    /// <inheritdoc/>
    public Task<bool> TakesWritesAsync(RunCall call, Id<Database> database, Id<Host> host, CancellationToken cancel) => DoAsync(call, LookSeconds, () => world.Drills.TakesWrites(database, host), cancel);

    /// <inheritdoc/>
    public Task<MarkersPresent> MarkersAsync(RunCall call, Id<Database> database, Instant? upTo, CancellationToken cancel) =>
        DoAsync(call, LookSeconds, () => world.Drills.Markers(call.Run, database, upTo?.ToUnixTimeMilliseconds()), cancel);

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, Id<Database> database, CancellationToken cancel) => DoAsync<IReadOnlyList<CheckResult>>(
        call,
        Math.Max(LookSeconds, world[database].Database.CheckSeconds * Draw.Factor(world.Seed, call.Run.GetHashCode(), 7, 0.05)),
        () =>
        {
            var d = world[database];
            world.Live(d);
            var (found, should) = (d.Image.Digest(), d.StateAtPosition(d.Image.Position, d.Branch).Digest());
            return [new("integrity", found == should, found == should ? $"all {d.Image.Pages} pages are what was committed up to {d.Image.Position}" : $"at position {d.Image.Position} it holds {found[..16]}…, {should[..16]}… was committed")];
        },
        cancel);

    /// <inheritdoc/>
    public Task<Moved> SendClientsAsync(RunCall call, Id<Database> database, Id<Host> host, CancellationToken cancel) => DoAsync(
        call,
        HandSeconds,
        () =>
        {
            world.Drills.SendClients(call.Run, host);
            return new Moved(HandSeconds, 0);
        },
        cancel);

    /// <inheritdoc/>
    public async Task<Instant> ClientsBackAsync(RunCall call, Id<Database> database, Instant since, CancellationToken cancel)
    {
        while (true)
        {
            var seen = await DoAsync(call, 0, () => world.Drills.Seen(call.Run), cancel);
            if (seen.Where(s => s.Clients && s.From > since).Select(s => (Instant?)s.From).FirstOrDefault() is { } at)
            {
                return at;
            }

            // So short that no second fell into it.
            if (seen.Count > 0 && seen[^1] is { Clients: true } last && last.To > since + Duration.FromSeconds(NoticedWithinSeconds))
            {
                return since;
            }

            await world.After(1, cancel);
        }
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<DrillSpan>> SeenAsync(Guid run, Id<Database> database, CancellationToken cancel)
    {
        lock (world.Gate)
        {
            return Task.FromResult(world.Drills.Seen(run));
        }
    }

    /// <inheritdoc/>
    public Task EndAsync(RunCall call, Id<Database> database, CancellationToken cancel) => DoAsync(
        call,
        LookSeconds,
        () =>
        {
            world.Drills.End(call.Run, database);
            return 0;
        },
        cancel);

    private Task<T> DoAsync<T>(RunCall call, double seconds, Func<T> what, CancellationToken cancel) => world.Answers.ActAsync(call, seconds, what, cancel);
}
