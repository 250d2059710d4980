using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Copies that end: masked before anybody is let in, closed to all but the named, asked for rows; and sets opened where they lie.</summary>
public sealed class TemporaryCopyTests : LiveWorld
{
    private static readonly Id<Host> Test = new("hill-h1"), Other = new("quay-h2"), Its = new("quay-h1");

    private static (InstanceSpec Spec, RunCall Call) Open(World world, Id<Host> host)
    {
        var call = new RunCall(Guid.NewGuid(), 1);
        var spec = new InstanceSpec("copy", Customs, host, call.Run);
        lock (world.Gate)
        {
            new StandInDriver(world).Put(call, spec, world[Customs].StateAt(world.NowMs, 1), world.NowMs, 1);
        }

        return (spec, call);
    }

    [Fact]
    public async Task It_is_masked_as_a_whole_or_not_at_all_and_nobody_is_masked_behind_their_back()
    {
        var world = Live();
        Pass(world, 120);
        var (spec, call) = Open(world, Test);
        var driver = new StandInDriver(world);
        var before = (await driver.AskAsync(spec, "rows written", 100_000, default)).Rows;
        Assert.NotEmpty(before);
        var refused = await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.MaskAsync(call, spec, ["hide values", "burn it"], default)));
        Assert.Contains("\"burn it\"", refused.Message, StringComparison.Ordinal);
        Assert.Equal(before, (await driver.AskAsync(spec, "rows written", 100_000, default)).Rows);

        await AnsweredAsync(world, driver.MaskAsync(call, spec, ["hide values", "forget markers", "Clear rows  from 0 to 9;"], default));
        var after = (await driver.AskAsync(spec, "rows", 100_000, default)).Rows;
        Assert.All(after.Take(10), r => Assert.Null(r[1]));
        Assert.All(before.Where(b => int.Parse(b[0]!) > 9 && b[1] != "cancelled"), b => Assert.NotEqual(b[1], after[int.Parse(b[0]!)][1]));
        Assert.Empty((await driver.AskAsync(spec, "markers", 10, default)).Rows);

        await AnsweredAsync(world, driver.LetInAsync(call, spec, [Test], false, default));
        Assert.Contains("already", (await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.MaskAsync(call, spec, ["hide values"], default)))).Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_named_get_in_and_no_others_and_one_that_cannot_is_said()
    {
        var world = Live();
        var (spec, call) = Open(world, Test);
        var driver = new StandInDriver(world);
        var tried = (await AnsweredAsync(world, driver.LetInAsync(call, spec, [Other], false, default))).Tried;
        Assert.All(tried, t => Assert.True(t.Passed, t.ToString()));
        Assert.Equal("gets in", tried.Single(t => t.Name == $"from {Other}").Detail);
        Assert.Contains("not named", tried.Single(t => t.Name == $"from {Its}").Detail, StringComparison.Ordinal);

        world.Faults.SetHostDown(Other, true);
        Assert.Equal(DriverProblem.Unreachable, (await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.LetInAsync(call, spec, [Other], false, default)))).Problem);
        world.Faults.SetHostDown(Other, false);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Assert.Contains("link", (await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.LetInAsync(call, spec, [Other], false, default)))).Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("count rows", 1)]
    [InlineData("rows from 3 to 7", 5)]
    [InlineData("ROWS from 3 to 3 ;", 1)]
    public async Task Rows_are_answered(string query, int rows)
    {
        var world = Live();
        var (spec, _) = Open(world, Test);
        Assert.Equal(rows, (await new StandInDriver(world).AskAsync(spec, query, 100, default)).Rows.Count);
    }

    [Fact]
    public async Task What_is_more_than_asked_for_or_not_known_or_not_open_is_said()
    {
        var world = Live();
        var (spec, _) = Open(world, Test);
        var driver = new StandInDriver(world);
        var some = await driver.AskAsync(spec, "rows", 10, default);
        Assert.Equal((10, true), (some.Rows.Count, some.More));
        foreach (var query in new[] { "rows from 9999999 to 3", "drop it", "rows from 1 to", "" })
        {
            Assert.Equal(DriverProblem.Refused, (await Assert.ThrowsAsync<DriverException>(() => driver.AskAsync(spec, query, 10, default))).Problem);
        }

        Assert.Contains("not open", (await Assert.ThrowsAsync<DriverException>(() => driver.AskAsync(spec with { Owner = Guid.NewGuid() }, "rows", 10, default))).Message, StringComparison.Ordinal);
        world.Faults.SetHostDown(Test, true);
        Assert.Equal(DriverProblem.Unreachable, (await Assert.ThrowsAsync<DriverException>(() => driver.AskAsync(spec, "rows", 10, default))).Problem);
    }

    [Fact]
    public async Task A_set_opened_where_it_lies_moves_nothing_and_holds_what_a_restored_one_holds()
    {
        var world = Live();
        var full = (await AnsweredAsync(world, new StandInBackupDriver(world).TakeAsync(new(Guid.NewGuid(), 1), new TakeSpec(Customs.Value, SetKind.Full, "quay-s1", Compression.Off, null, "{database}-{time}", false, false, null), default))).Set!;
        var driver = new StandInDriver(world);
        async Task<(Moved Moved, string Rows)> RestoredAsync(bool mounted)
        {
            var call = new RunCall(Guid.NewGuid(), 1);
            var spec = new InstanceSpec($"m-{mounted}", Customs, Test, call.Run, mounted);
            await AnsweredAsync(world, driver.ProvisionAsync(call, spec, default));
            var moved = await AnsweredAsync(world, driver.RestoreSetAsync(call, spec, new(full.Id, new("quay-s1")), default));
            await AnsweredAsync(world, driver.OpenAsync(call, spec, default));
            return (moved, string.Join(";", (await driver.AskAsync(spec, "rows written", 100_000, default)).Rows.Select(r => string.Join('=', r))));
        }

        var (whole, there) = (await RestoredAsync(false), await RestoredAsync(true));
        Assert.Equal(whole.Rows, there.Rows);
        Assert.Equal(0, there.Moved.Bytes);
        Assert.True(whole.Moved.Bytes > 0 && there.Moved.Seconds < whole.Moved.Seconds / 10, $"{there.Moved.Seconds} s against {whole.Moved.Seconds} s");
    }
}
