using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Planning;
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
    public async Task A_database_that_discards_its_log_keeps_it_without_a_hole_while_a_run_needs_it_to_through_a_death_and_no_longer()
    {
        var (hours, host, call) = (new Id<Database>("crew-hours"), new Id<Host>("quay-h3"), new RunCall(Guid.NewGuid(), 1));
        var (world, setting) = (LiveWith(hours, planned: true), LogKept.SettingOf(hours));
        Task<Taken> TakeAsync() => AnsweredAsync(world, new StandInBackupDriver(world).TakeAsync(new RunCall(Guid.NewGuid(), 1), new(hours.Value, SetKind.Log, "quay-s2", Compression.Light, null, SetNaming.Default, false, false, null), default));
        Assert.Contains("discards its log", (await Assert.ThrowsAsync<DriverException>(TakeAsync)).Message, StringComparison.Ordinal);
        var since = world.Now;
        Assert.Equal(LogKept.Discarded, await AnsweredAsync(world, new StandInDriver(world).SetAsync(call, host, setting, LogKept.Kept, default)));
        Pass(world, 900);
        var first = (await TakeAsync()).Set!;

        // What was written before it was kept is in none of it.
        Assert.InRange(first.CoversFrom!.Value, since - Duration.FromMinutes(5), since + Duration.FromMinutes(1));
        Pass(world, 900);
        world = AsIfKilled();
        Pass(world, 900);
        var second = (await TakeAsync()).Set!;
        Assert.Equal((first.ToPosition, first.CoversTo), (second.FromPosition, second.CoversFrom));
        Assert.True(second.ToPosition > second.FromPosition);
        Assert.Equal("is discarded again", await AnsweredAsync(world, new StandInDriver(world).SetBackAsync(call with { Fence = 2 }, host, setting, default)));
        await Assert.ThrowsAsync<DriverException>(TakeAsync);
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
