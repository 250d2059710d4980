using Imbrek.Core.Drivers;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Roles change in the world: what was committed, what arrived, and what whoever looks on sees.</summary>
public sealed class DrillDriverTests : LiveWorld
{
    private static readonly RunCall Run = new(Guid.CreateVersion7(), 1);

    [Theory]
    [InlineData(ReplicaMode.Async, 0)]
    [InlineData(ReplicaMode.Sync, 3600)]
    public async Task Roles_change_under_watch_nothing_is_lost_and_the_old_side_follows(ReplicaMode mode, double rewind)
    {
        var one = One with { Mode = mode, RewindSeconds = rewind, RewindTakesSeconds = 90 };
        var world = Live(one);
        var (drill, replicate) = (new StandInDrillDriver(world), new StandInReplicateDriver(world));
        var old = world.Fleet.DatabaseById[Customs].Host;
        var first = await AnsweredAsync(world, drill.BeginAsync(Run, Customs, new("hill-h1"), default));
        Assert.Equal(first, await AnsweredAsync(world, drill.BeginAsync(Run, Customs, new("hill-h1"), default)));
        Pass(world, 20);
        var stopped = await AnsweredAsync(world, drill.StopAsync(Run, Customs, null, null, default));
        Assert.InRange(stopped.Markers.Count, 15, 60);
        Assert.Equal(stopped, await AnsweredAsync(world, drill.StopAsync(Run, Customs, null, null, default)));
        Pass(world, 5);
        await AnsweredAsync(world, replicate.PromoteAsync(Run, one.Id, new("hill-h1"), null, default));
        Assert.Equal(stopped.Markers, await AnsweredAsync(world, drill.MarkersAsync(Run, Customs, stopped.At, default)));
        Assert.All(await AnsweredAsync(world, drill.CheckAsync(Run, Customs, default)), c => Assert.True(c.Passed, c.Detail));
        await AnsweredAsync(world, drill.SendClientsAsync(Run, Customs, new("hill-h1"), default));
        var back = await AnsweredAsync(world, drill.ClientsBackAsync(Run, Customs, stopped.At, default));
        Assert.True(back > stopped.At);

        // The old side has all but what came since: a copy moves only that.
        var follower = one with { Id = new("old"), Place = new ReplicaPlace.OnHost(old) };
        world.Replicas.Set(world.Fleet.With(replicas: [follower]));
        var moved = await AnsweredAsync(world, replicate.CopyAsync(Run, follower.Id, default));
        Assert.True(moved.Bytes < world.Fleet.DatabaseById[Customs].SizeBytes / 1000);
        Assert.All(await AnsweredAsync(world, replicate.ProveAsync(Run, follower.Id, default)), c => Assert.True(c.Passed, c.Detail));
        var seen = await drill.SeenAsync(Run.Run, Customs, default);
        Assert.DoesNotContain(seen, s => s is { Here: true, There: true });
        Assert.Contains(seen, s => s is { Here: false, There: false, Clients: false });
        Assert.Equal(back, seen.First(s => s.Clients && s.From > stopped.At).From);
        await AnsweredAsync(world, DoneAsync(drill.EndAsync(Run, Customs, default)));

        // Asked again by whoever took the run up, what was seen is still there.
        await AnsweredAsync(world, DoneAsync(drill.EndAsync(Run, Customs, default)));
        Pass(world, 60);
        Assert.Equal(seen.Count, (await drill.SeenAsync(Run.Run, Customs, default)).Count);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Clients_come_later_where_names_are_slow_and_an_old_primary_that_comes_back_takes_no_write(bool slow)
    {
        var (world, run) = (Live(One), new RunCall(new Guid("5f0c6a52-7f0e-4a9b-9d53-1f3a7b0f2c11"), 1));
        world.Faults.SetNamesSlow(slow);
        Pass(world, 1);
        world = Again();
        Assert.Equal(slow, world.Faults.NamesSlow);
        var (drill, replicate, customs) = (new StandInDrillDriver(world), new StandInReplicateDriver(world), world.Fleet.DatabaseById[Customs]);
        await AnsweredAsync(world, drill.BeginAsync(run, Customs, new("hill-h1"), default));
        Pass(world, 20);
        var stopped = await AnsweredAsync(world, drill.StopAsync(run, Customs, One.Id, null, default));
        world.Faults.SetHostDown(customs.Host, true);
        await AnsweredAsync(world, replicate.PromoteAsync(run, One.Id, new("hill-h1"), null, default));

        // It is up again and wants to write: it was kept out before.
        world.Faults.SetHostDown(customs.Host, false);
        Pass(world, 30);
        Assert.False(await AnsweredAsync(world, drill.TakesWritesAsync(run, Customs, customs.Host, default)));
        Assert.True(await AnsweredAsync(world, drill.TakesWritesAsync(run, Customs, new("hill-h1"), default)));
        await AnsweredAsync(world, drill.SendClientsAsync(run, Customs, new("hill-h1"), default));
        var sent = world.Now;
        var back = await AnsweredAsync(world, drill.ClientsBackAsync(run, Customs, stopped.At, default));
        Assert.DoesNotContain(await drill.SeenAsync(run.Run, Customs, default), s => s is { Here: true, There: true });

        // What a client knows of the address lives so long at most; of this run it has most of that before it.
        var lifetime = Math.Max(1, customs.RedirectSeconds);
        Assert.InRange((back - sent).TotalSeconds, slow ? lifetime : -3, ((slow ? 10 : 1) * lifetime) + 2);
    }

    [Fact]
    public async Task What_is_lost_is_what_had_not_arrived_and_who_looks_on_goes_on_after_a_restart()
    {
        var world = Live(One);
        var drill = new StandInDrillDriver(world);
        await AnsweredAsync(world, drill.BeginAsync(Run, Customs, new("hill-h1"), default));
        Pass(world, 10);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 30);
        world = Again();
        (drill, var replicate) = (new StandInDrillDriver(world), new StandInReplicateDriver(world));
        Pass(world, 15);
        var stopped = await AnsweredAsync(world, drill.StopAsync(Run, Customs, One.Id, null, default));
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 60);
        await AnsweredAsync(world, replicate.PromoteAsync(Run, One.Id, new("hill-h1"), null, default));
        var here = await AnsweredAsync(world, drill.MarkersAsync(Run, Customs, stopped.At, default));

        // The link was mended, but the source was lost with it: the 47 s since it was cut are missing.
        Assert.InRange(stopped.Markers.Count - here.Count, 40, 50);
        Assert.Equal(stopped.Markers.Count - here.Count, (stopped.Markers.Last - here.Last)!.Value.TotalSeconds);
        var seen = await drill.SeenAsync(Run.Run, Customs, default);
        Assert.Equal(seen.OrderBy(s => s.From), seen);
        Assert.All(seen.Zip(seen.Skip(1)), p => Assert.InRange((p.Second.From - p.First.To).TotalSeconds, 0, 1.1));
    }

    [Fact]
    public async Task One_that_is_called_off_writes_again_and_its_replica_receives_again()
    {
        var world = Live(One);
        var drill = new StandInDrillDriver(world);
        await AnsweredAsync(world, drill.BeginAsync(Run, Customs, new("hill-h1"), default));
        await AnsweredAsync(world, drill.StopAsync(Run, Customs, One.Id, null, default));
        Pass(world, 30);
        await AnsweredAsync(world, DoneAsync(drill.GoOnAsync(Run, Customs, One.Id, default)));
        await AnsweredAsync(world, DoneAsync(drill.GoOnAsync(Run, Customs, One.Id, default)));
        Pass(world, 60);
        Assert.InRange((world.Now - world.Replicas.Reached(One.Id).Received).TotalSeconds, 0, 1);
        Assert.True(world.CommittedSince(Customs, world.Now - Duration.FromSeconds(30)) >= 29);
        Assert.True((await drill.SeenAsync(Run.Run, Customs, default))[^1] is { Here: true, There: false, Clients: true });
        await AnsweredAsync(world, DoneAsync(drill.EndAsync(Run, Customs, default)));
        var ended = world.Now;
        Pass(world, 180);

        // The minute that passed was drawn; after it no marker comes any more.
        Assert.True(world.CommittedSince(Customs, ended + Duration.FromSeconds(60)) < 100);
    }

    private static async Task<bool> DoneAsync(Task task)
    {
        await task;
        return true;
    }
}
