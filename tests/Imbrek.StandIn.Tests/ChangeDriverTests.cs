using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Changes in the world: on a copy, on the database itself while others write or are kept out, and a move to another version, across which no log leads.</summary>
public sealed class ChangeDriverTests : LiveWorld
{
    private static readonly NamedQuery[] Queries = [new("written", "count written"), new("nonsense", "who am I")];

    private static readonly ChangeTarget Itself = new(Customs, null);

    private static ChangePart Part(params string[] statements) => new("tables", null, statements);

    private static RunCall Call() => new(Guid.NewGuid(), 1);

    private static Task<ChangeLook> LookAsync(World world, ChangeTarget target) => AnsweredAsync(world, new StandInChangeDriver(world).LookAsync(Call(), target, Queries, default));

    private static Task<PartDone> DoAsync(World world, RunCall call, ChangeTarget target, ChangePart part, int number = 1) =>
        AnsweredAsync(world, new StandInChangeDriver(world).DoAsync(call, target, number, 0, part, default));

    [Fact]
    public async Task Statements_are_committed_among_those_of_others_once_and_the_state_at_any_instant_still_follows_from_the_seed()
    {
        var world = Live();
        Pass(world, 600);
        var call = Call();
        var done = await DoAsync(world, call, Itself, Part("set rows from 3 to 9 to 77", "clear rows from 5 to 5"));
        Assert.Equal(2, done.Statements.Count);
        Assert.Equal(done.Seconds, done.Statements.Sum(s => s.Seconds), 9);
        var again = await DoAsync(world, call, Itself, Part("set rows from 3 to 9 to 77", "clear rows from 5 to 5"));
        Assert.Equal((done.Seconds, 2), (again.Seconds, again.Statements.Count));
        Pass(world, 1);
        lock (world.Gate)
        {
            var d = world[Customs];
            world.Live(d);
            Assert.Equal(2, d.Image.Markers.Count(m => m.Name.StartsWith("tables ", StringComparison.Ordinal)));
            Assert.Equal(0u, d.Image.Rows[5]);
            Assert.Equal(d.StateAt(world.NowMs).Digest(), d.Image.Digest());
        }

        // Many, at instants between and beside those of others: what is drawn again is the same.
        for (var i = 0; i < 30; i++)
        {
            await DoAsync(world, Call(), Itself, Part($"set rows from {i} to {i + 3} to {i}"));
            Pass(world, 7);
        }

        Pass(world, 120);
        lock (world.Gate)
        {
            world.Live(world[Customs]);
            Assert.Equal(world[Customs].StateAt(world.NowMs).Digest(), world[Customs].Image.Digest());
        }
    }

    [Fact]
    public async Task Nothing_is_begun_of_a_part_with_a_statement_that_cannot_be()
    {
        var world = Live();
        Pass(world, 60);
        var before = await LookAsync(world, Itself);
        var refused = await Assert.ThrowsAsync<DriverException>(() => DoAsync(world, Call(), Itself, Part("clear rows from 0 to 9", "drop it")));
        Assert.Contains("\"drop it\"", refused.Message, StringComparison.Ordinal);
        Assert.Equal(DriverProblem.Refused, refused.Problem);
        Assert.Contains(before.Queries, q => q is { Name: "nonsense", Answer: null, Error: not null });
        lock (world.Gate)
        {
            Assert.DoesNotContain(world[Customs].Image.Markers, m => m.Name.StartsWith("tables", StringComparison.Ordinal));
        }
    }

    [Fact]
    public async Task A_move_to_another_version_waits_until_everybody_is_out_begins_a_branch_and_makes_it_slow_until_statistics_are_collected()
    {
        var world = Live();
        async Task<bool> LetInAsync()
        {
            await new StandInReplicateDriver(world).LetInAsync(Call(), Customs, default);
            return true;
        }

        Pass(world, 600);
        var move = new ChangePart("move", "15", []);
        var refused = await Assert.ThrowsAsync<DriverException>(() => DoAsync(world, Call(), Itself, move));
        Assert.Contains("kept out", refused.Message, StringComparison.Ordinal);
        var fence = new StandInReplicateDriver(world);
        await AnsweredAsync(world, fence.FenceAsync(Call(), Customs, default));
        var before = await LookAsync(world, Itself);
        var call = Call();
        var moved = await DoAsync(world, call, Itself, move);
        Assert.Equal(("15", 2), (moved.Version, moved.Branch!.Id));
        Assert.Equal("15", world.Fleet.DatabaseById[Customs].Version);
        Assert.Equal(moved.Branch, (await DoAsync(world, call, Itself, move)).Branch);

        // It is no earlier version's, and no move goes back.
        Assert.Contains("not later", (await Assert.ThrowsAsync<DriverException>(() => DoAsync(world, Call(), Itself, new("back", "14", [])))).Message, StringComparison.Ordinal);
        Pass(world, 60);
        var slow = await LookAsync(world, Itself);
        Assert.Equal("15", slow.Version);
        Assert.Contains(LookComparison.Of(before, slow, others: false), d => d.Broke && d.What == "query written");
        await DoAsync(world, Call(), Itself, Part("collect statistics"));
        Assert.DoesNotContain(LookComparison.Of(before, await LookAsync(world, Itself), others: true), d => d.Broke);
        await AnsweredAsync(world, LetInAsync());
        Pass(world, 3600);
        lock (world.Gate)
        {
            var d = world[Customs];
            world.Live(d);
            Assert.Equal(d.StateAt(world.NowMs).Digest(), d.Image.Digest());

            // What the move itself wrote is in no log: none from before leads on.
            Assert.True(d.LogFrom.Position > moved.Branch.ForkPosition);
        }
    }

    [Fact]
    public async Task Put_back_to_before_a_move_it_runs_the_version_before_on_a_branch_that_leaves_the_first()
    {
        var world = Live();
        Pass(world, 600);
        await AnsweredAsync(world, new StandInReplicateDriver(world).FenceAsync(Call(), Customs, default));
        var (at, was) = (world.NowMs, world.Fleet.DatabaseById[Customs]);
        await DoAsync(world, Call(), Itself, new("move", "15", []));
        Pass(world, 60);
        var call = Call();
        var spec = new InstanceSpec("back", Customs, was.Host, call.Run);
        lock (world.Gate)
        {
            new StandInDriver(world).Put(call, spec, world[Customs].StateAt(at, 1), at, 1);
        }

        var placed = await AnsweredAsync(world, new StandInDriver(world).PlaceAsync(call, spec, default));
        var now = world.Fleet.DatabaseById[Customs];
        Assert.Equal((was.Version, was.Version, 1, 3), (now.Version, placed.Version, placed.Branch.Parent, placed.Branch.Id));
        Pass(world, 600);
        lock (world.Gate)
        {
            var d = world[Customs];
            world.Live(d);
            Assert.False(d.NoStatistics);
            Assert.Equal(d.StateAt(world.NowMs).Digest(), d.Image.Digest());
            Assert.DoesNotContain(d.Image.Markers, m => m.Name.StartsWith("move to version", StringComparison.Ordinal));
        }
    }

    [Fact]
    public async Task On_a_copy_the_same_is_done_and_nothing_of_it_reaches_the_database()
    {
        var world = Live();
        Pass(world, 600);
        var call = Call();
        var spec = new InstanceSpec("copy", Customs, new("hill-h1"), call.Run);
        lock (world.Gate)
        {
            new StandInDriver(world).Put(call, spec, world[Customs].StateAt(world.NowMs, 1), world.NowMs, 1);
        }

        var aside = new ChangeTarget(Customs, spec);
        var before = await LookAsync(world, aside with { Aside = spec });
        var first = await AnsweredAsync(world, new StandInChangeDriver(world).DoAsync(call, aside, 1, 0, new("move", "15", []), default));
        Assert.Equal(("15", null), (first.Version, first.Branch));
        await AnsweredAsync(world, new StandInChangeDriver(world).DoAsync(call, aside, 2, 0, Part("clear rows from 0 to 400"), default));
        var after = await AnsweredAsync(world, new StandInChangeDriver(world).LookAsync(call, aside, Queries, default));
        Assert.Equal("15", after.Version);
        Assert.NotEqual(before.Tables.Single(t => t.Name == "rows").Rows, after.Tables.Single(t => t.Name == "rows").Rows);
        Assert.NotEqual("15", (await LookAsync(world, Itself)).Version);
    }
}
