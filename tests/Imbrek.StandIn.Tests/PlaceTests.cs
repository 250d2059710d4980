using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>What was restored takes the place of its database: it lives on from there on a branch of its own, once, whoever asks again.</summary>
public sealed class PlaceTests : LiveWorld
{
    private static readonly Id<Host> Its = new("quay-h1");

    private static Task<Promotion> PlaceAsync(World world, RunCall call, InstanceSpec instance) => AnsweredAsync(world, new StandInDriver(world).PlaceAsync(call, instance, default));

    private static InstanceSpec Restored(World world, RunCall call, Instant to, int branch = 1)
    {
        var instance = new InstanceSpec($"back-{call.Run:n}"[..12], Customs, Its, call.Run);
        lock (world.Gate)
        {
            new StandInDriver(world).Put(call, instance, world[Customs].StateAt(to.ToUnixTimeMilliseconds(), branch), to.ToUnixTimeMilliseconds(), branch);
        }

        return instance;
    }

    private static string Digest(World world, Instant? at = null, int? branch = null)
    {
        lock (world.Gate)
        {
            world.Live(world[Customs]);
            return at is { } t ? world[Customs].StateAt(t.ToUnixTimeMilliseconds(), branch).Digest() : world[Customs].Image.Digest();
        }
    }

    [Fact]
    public async Task It_holds_what_was_restored_and_what_comes_after_and_replicas_that_hold_more_no_longer_follow()
    {
        var world = Live(One);
        Pass(world, 600);
        var (call, then) = (new RunCall(Guid.NewGuid(), 1), world.Now - Duration.FromMinutes(30));
        var instance = Restored(world, call, then);
        await AnsweredAsync(world, new StandInReplicateDriver(world).FenceAsync(call, Customs, default));
        var placed = await PlaceAsync(world, call, instance);
        Assert.Equal((2, 1, Its), (placed.Branch.Id, placed.Branch.Parent, placed.Host));
        Assert.InRange((then - placed.Branch.ForkAt).TotalSeconds, 0, 60);
        Assert.InRange(placed.LostSeconds, 1740, 1860);
        Assert.True(placed.LostTransactions > 300);
        Assert.Equal(["r"], placed.Left.Select(l => l.Replica.Value));
        Assert.Equal(Digest(world, then, 1), Digest(world));

        // Clients are in again, and what they write is on the new branch.
        Pass(world, 300);
        Assert.NotEqual(Digest(world, then, 1), Digest(world));
        var lives = Digest(world);

        // Asked again, also by another process after a restart, it says the same and does nothing; the instance is gone.
        world = Again();
        Assert.Equal(lives, Digest(world));
        var again = await PlaceAsync(world, call with { Fence = 2 }, instance);
        Assert.Equal(placed.Branch, again.Branch);
        Assert.Null(new StandInDriver(world).Take(instance));
        Assert.Single(world.Fleet.DatabaseById[Customs].Branches);
    }

    [Fact]
    public async Task It_can_be_put_back_to_what_it_was_before_on_the_branch_that_was_left()
    {
        var world = Live();
        Pass(world, 60);
        var first = new RunCall(Guid.NewGuid(), 1);
        var before = world.Now;
        var was = Digest(world);
        await PlaceAsync(world, first, Restored(world, first, before - Duration.FromMinutes(20)));
        Pass(world, 600);
        Assert.NotEqual(was, Digest(world));
        var second = new RunCall(Guid.NewGuid(), 1);
        var placed = await PlaceAsync(world, second, Restored(world, second, before));
        Assert.Equal((3, 1), (placed.Branch.Id, placed.Branch.Parent));
        Assert.Equal(was, Digest(world));
        Pass(world, 120);
        var lives = Digest(world);
        Assert.Equal(lives, Digest(Again()));
    }

    [Fact]
    public async Task Nothing_that_is_not_there_or_lies_on_another_host_is_put_in_place()
    {
        var world = Live();
        var call = new RunCall(Guid.NewGuid(), 1);
        var lives = Digest(world);
        var elsewhere = new InstanceSpec("elsewhere", Customs, new("hill-h1"), call.Run);
        lock (world.Gate)
        {
            new StandInDriver(world).Put(call, elsewhere, world[Customs].StateAt(Now.ToUnixTimeMilliseconds()), Now.ToUnixTimeMilliseconds(), 1);
        }

        await Assert.ThrowsAsync<DriverException>(() => PlaceAsync(world, call, elsewhere));
        await Assert.ThrowsAsync<DriverException>(() => PlaceAsync(world, call, new InstanceSpec("nothing", Customs, Its, call.Run)));
        Assert.NotNull(new StandInDriver(world).Take(elsewhere));
        Assert.Equal((lives, 0), (Digest(world, Now), world.Fleet.DatabaseById[Customs].Branches.Count));
    }
}
