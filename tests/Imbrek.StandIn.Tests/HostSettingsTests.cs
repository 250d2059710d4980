using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Settings of the world's hosts: as the fleet states them, changed while a run needs it, as they were once none does, through every death.</summary>
public sealed class HostSettingsTests : LiveWorld
{
    private const string Loading = "bulk loading";
    private static readonly Id<Host> Off = new("hill-h2"), Other = new("hill-h1");

    [Fact]
    public async Task It_is_set_back_with_the_last_who_needs_it_and_a_stale_call_changes_nothing()
    {
        var world = Live();
        var (one, two) = (new RunCall(Guid.NewGuid(), 2), new RunCall(Guid.NewGuid(), 1));
        Task<string> SetAsync(RunCall call, string value = "on") => AnsweredAsync(world, new StandInDriver(world).SetAsync(call, Off, Loading, value, default));
        Task<string> BackAsync(RunCall call) => AnsweredAsync(world, new StandInDriver(world).SetBackAsync(call, Off, Loading, default));
        string? Now() => new HostSettings(world).Now(Off, Loading);

        Assert.Equal(("off", "nothing was changed"), (Now(), await BackAsync(one)));
        Assert.Equal(("off", "off"), (await SetAsync(one), await SetAsync(two)));
        Assert.Contains("another run needs", (await Assert.ThrowsAsync<DriverException>(() => SetAsync(two, "slow"))).Message, StringComparison.Ordinal);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => SetAsync(one with { Fence = 1 }))).Problem);

        // Its process dies: who takes it up finds it as it is, and is told again what it was.
        world = AsIfKilled();
        one = one with { Fence = 3 };
        Assert.Equal(("on", "off"), (Now(), await SetAsync(one)));
        Assert.Equal(("stays on: another run needs it", "on"), (await BackAsync(one), Now()));
        Assert.Equal(("is off again", "off"), (await BackAsync(two), Now()));
        Assert.Equal(("is off again", "off"), (await BackAsync(two), Now()));
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => SetAsync(one with { Fence = 2 }))).Problem);
        Assert.Equal("off", Now());

        // What nobody states is in nobody's way, and is left as it was.
        Assert.Equal("on", await AnsweredAsync(world, new StandInDriver(world).SetAsync(one, Other, "never heard of", "on", default)));
        world.Faults.SetHostDown(Off, true);
        Assert.Equal(DriverProblem.Unreachable, (await Assert.ThrowsAsync<DriverException>(() => SetAsync(one))).Problem);
    }

    [Fact]
    public void Nothing_is_loaded_or_moved_away_where_it_is_not_set()
    {
        var world = Live();
        var settings = new HostSettings(world);
        Assert.Contains("bulk loading is off on hill-h2, and must be on for a try", Assert.Throws<DriverException>(() => settings.MustBe(Off, [new(Loading, "on")], "for a try")).Message, StringComparison.Ordinal);
        settings.MustBe(Other, [new(Loading, "on"), new("never heard of", "on")], "for a try");
        settings.Set(new(Guid.NewGuid(), 1), Off, Loading, "on");
        settings.MustBe(Off, [new(Loading, "on")], "for a try");
    }
}
