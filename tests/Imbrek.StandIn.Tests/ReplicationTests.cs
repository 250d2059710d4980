using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Replicas in the world: what travels is bytes, links are shared, and what happens while nothing comes follows the replica.</summary>
public sealed class ReplicationTests : IDisposable
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    private static readonly Id<Database> Tickets = new("tickets");
    private static readonly Id<Site> Quay = new("quayside"), Hill = new("hillhouse"), North = new("northlight");
    private static readonly Replica Async = new() { Id = new("r"), Database = Tickets, Place = new ReplicaPlace.OnHost(new("hill-h1")), Mode = ReplicaMode.Async };
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-replication").FullName;
    private readonly List<World> open = [];

    public void Dispose()
    {
        open.ForEach(w => w.Dispose());
        Directory.Delete(folder, recursive: true);
    }

    private static WorldScript Script(IReadOnlyList<Replica> replicas, IReadOnlyList<ReplicaGroup>? groups = null, double? rate = null)
    {
        var whole = TarnholtFerries.Create(Now);
        var ids = replicas.Select(r => r.Database).ToHashSet();
        return whole with
        {
            Fleet = whole.Fleet.With(whole.Fleet.Databases.Select(d => d with { LogBytesPerSecond = rate ?? d.LogBytesPerSecond }), replicas, groups ?? []).WithPlans([]),
            Databases = [.. whole.Databases.Where(d => ids.Contains(d.Id)).Select(d => d with { RehearsedDaysAgo = [], TransactionsPerMinute = 20 })],
            Troubles = [],
            Incidents = [],
            Begins = Now - Duration.FromHours(2),
        };
    }

    /// <summary>A world that has lived its history and goes on live.</summary>
    private World Live(WorldScript script)
    {
        var own = Path.Combine(folder, open.Count.ToString(System.Globalization.CultureInfo.InvariantCulture));
        using (var history = new World(own, script))
        {
            history.Advance(Now);
            history.KeepForOthers(1);
        }

        return Again(own, script);
    }

    private World Again(string own, WorldScript script)
    {
        var world = World.Open(own, _ => script);
        open.Add(world);
        return world;
    }

    private static void Pass(World world, double seconds) => world.Advance(world.Now + Duration.FromSeconds(seconds));

    private static double LagOf(World world, string replica = "r") => (world.Now - world.Replicas.Reached(new(replica)).Received).TotalSeconds;

    [Theory]
    [InlineData(ReplicaMode.Sync, 0, 0)]
    [InlineData(ReplicaMode.Async, 0.0009, 0.0011)]
    [InlineData(ReplicaMode.Burst, 0.0009, 0.0011)]
    public void In_step_it_lags_by_half_a_round_trip_or_not_at_all_and_holds_the_same_bytes(ReplicaMode mode, double least, double most)
    {
        var world = Live(Script([Async with { Mode = mode }]));
        Pass(world, 600);
        Assert.InRange(LagOf(world), least, most);
        var compared = world.Replicas.Compare(new("r"));
        Assert.True(compared.Position > 2000);
        Assert.True(compared.Same, $"{compared}");
    }

    [Fact]
    public void What_is_written_in_the_replica_itself_is_found_by_comparing_and_by_nothing_else_also_after_a_restart()
    {
        var script = Script([Async]);
        var world = Live(script);
        Pass(world, 60);
        world.Faults.Diverge(new("r"));
        Pass(world, 300);
        Assert.False(world.Replicas.Compare(new("r")).Same);
        Assert.DoesNotContain(world.Replicas.TakeSamples(), s => s.HeldUpBy is not null);
        world.KeepAndAnswer();
        open.Remove(world);
        world.Dispose();
        Assert.False(Again(Path.Combine(folder, "0"), script).Replicas.Compare(new("r")).Same);
    }

    [Theory]
    [InlineData(20)]
    [InlineData(200)]
    public void Catching_up_takes_what_was_forecast(double cutMinutes)
    {
        var world = Live(Script([Async], rate: 20_000_000));
        world.Faults.SetLinkSlow(Quay, Hill, 60_000_000);
        world.Faults.SetLinkDown(Quay, Hill, true);
        var stood = world.Replicas.Reached(new("r")).Received;
        Pass(world, cutMinutes * 60);
        Assert.Equal(stood, world.Replicas.Reached(new("r")).Received);
        var flow = LogFlow.Of(world.Fleet.DatabaseById[Tickets])!;
        var forecast = flow.CatchUp(world.Now, 0, flow.Between(world.Now, -(world.Now - stood).TotalSeconds, 0), 60_000_000)!.Value;
        world.Faults.SetLinkDown(Quay, Hill, false);
        var back = world.Now;
        while (LagOf(world) > 2)
        {
            Pass(world, 1);
            Assert.True(world.Now - back < Duration.FromHours(12));
        }

        Assert.InRange((world.Now - back).TotalSeconds / forecast, 0.8, 1.2);
        Assert.True(world.Replicas.Compare(new("r")).Same);
    }

    [Fact]
    public void A_link_is_shared_with_what_is_copied_over_it()
    {
        double SecondsToCatchUp(bool beside)
        {
            // Beside it another replica has as much to catch up.
            var world = Live(Script(beside ? [Async, Async with { Id = new("beside"), Place = new ReplicaPlace.OnHost(new("hill-h2")) }] : [Async], rate: 20_000_000));
            world.Faults.SetLinkSlow(Quay, Hill, 120_000_000);
            world.Faults.SetLinkDown(Quay, Hill, true);
            Pass(world, 1800);
            world.Faults.SetLinkDown(Quay, Hill, false);
            var back = world.Now;
            while (LagOf(world) > 2)
            {
                Pass(world, 1);
            }

            return (world.Now - back).TotalSeconds;
        }

        var ratio = SecondsToCatchUp(beside: true) / SecondsToCatchUp(beside: false);
        Assert.InRange(ratio, 1.6, 3.2);
    }

    [Fact]
    public void A_chained_replica_never_has_more_than_its_feeder_and_one_held_by_its_link_nothing_new()
    {
        var world = Live(Script([Async, Async with { Id = new("far"), From = new("r"), Place = new ReplicaPlace.OnHost(new("north-h1")) }], rate: 20_000_000));
        var random = new Random(5);
        for (var i = 0; i < 300; i++)
        {
            if (random.Next(6) == 0)
            {
                world.Faults.SetLinkDown(Quay, random.Next(2) == 0 ? Hill : North, random.Next(2) == 0);
                world.Faults.SetLinkDown(Hill, North, random.Next(3) == 0);
            }

            Pass(world, random.Next(1, 90));
            var (near, far) = (world.Replicas.Reached(new("r")), world.Replicas.Reached(new("far")));
            Assert.True(far.Received <= near.Received, $"{far} is beyond {near}");
            Assert.True(far.Applied <= far.Received && near.Applied <= near.Received && near.Received <= world.Now);
        }
    }

    [Fact]
    public void Cut_off_the_primary_goes_on_after_a_while_or_stops_writing_as_the_replica_says()
    {
        Replica going = Async with { Mode = ReplicaMode.Sync, CutAfterSeconds = 20 }, stopping = going with { WhenCut = WhenCut.Stop };
        foreach (var replica in new[] { going, stopping })
        {
            var world = Live(Script([replica]));
            world.Faults.SetLinkDown(Quay, Hill, true);
            var cut = world.Now;
            Pass(world, 1800);
            var lag = LagOf(world);
            var before = world.Replicas.Reached(new("r")).Received;
            if (replica.WhenCut == WhenCut.Stop)
            {
                // Nothing was committed: nothing is missing.
                Assert.Equal(0, lag);
                Assert.Equal(0, world.CommittedSince(Tickets, cut));
            }
            else
            {
                Assert.Equal(cut + Duration.FromSeconds(20), before);
                Assert.Equal(0, world.CommittedSince(Tickets, cut, cut + Duration.FromSeconds(20)));
                Assert.True(world.CommittedSince(Tickets, cut) > 100);
            }

            world.Faults.SetLinkDown(Quay, Hill, false);
            Pass(world, 120);
            Assert.Equal(0, LagOf(world));
            Assert.True(world.CommittedSince(Tickets, world.Now - Duration.FromSeconds(110)) > 5);
            Assert.True(world.Replicas.Compare(new("r")).Same);
        }
    }

    [Fact]
    public void It_goes_on_by_itself_or_waits_for_a_word()
    {
        var world = Live(Script([Async with { Resume = ResumeRule.ByHand }]));
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 300);
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 300);
        Assert.InRange(LagOf(world), 599, 601);
        Assert.Contains("waits to be told", world.Replicas.TakeSamples()[^1].HeldUpBy, StringComparison.Ordinal);
    }

    [Fact]
    public void Log_that_its_source_no_longer_keeps_is_gone_also_when_the_link_is_back()
    {
        var world = Live(Script([Async with { KeepLogSeconds = 900 }]));
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 1000);
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 1000);
        Assert.InRange(LagOf(world), 1999, 2001);
        Assert.Contains("no longer keeps", world.Replicas.TakeSamples()[^1].HeldUpBy, StringComparison.Ordinal);
    }

    [Fact]
    public void A_volume_for_log_that_was_full_has_made_it_unusable_for_good()
    {
        var world = Live(Script([Async with { LogRoomBytes = 400_000_000 }], rate: 1_000_000));
        world.Faults.SetApplyStopped(new("r"), true);
        Pass(world, 200);
        Assert.True(world.Replicas.Reached(new("r")).Received > world.Now - Duration.FromSeconds(1));
        Pass(world, 600);
        var stood = world.Replicas.Reached(new("r")).Received;
        world.Faults.SetApplyStopped(new("r"), false);
        Pass(world, 600);
        Assert.Equal(stood, world.Replicas.Reached(new("r")).Received);
        Assert.Contains("must be mended", world.Replicas.TakeSamples()[^1].HeldUpBy, StringComparison.Ordinal);
    }

    [Fact]
    public void A_source_that_keeps_all_log_stops_when_its_own_volume_is_full_and_writes_again_when_there_is_room()
    {
        var script = Script([Async], rate: 1_000_000);
        script = script with { Fleet = script.Fleet.With(script.Fleet.Databases.Select(d => d with { LogRoomBytes = 600_000_000 })) };
        var world = Live(script);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 1200);
        Assert.Equal(0, world.CommittedSince(Tickets, world.Now - Duration.FromSeconds(300)));
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 300);
        Assert.True(world.CommittedSince(Tickets, world.Now - Duration.FromSeconds(200)) > 10);
        Assert.True(world.Replicas.Compare(new("r")).Same);
    }

    [Fact]
    public void A_reader_or_a_stop_holds_what_is_applied_and_a_delay_holds_it_back()
    {
        var world = Live(Script([Async with { DelaySeconds = 300 }]));
        Pass(world, 60);
        Assert.InRange((world.Now - world.Replicas.Reached(new("r")).Applied).TotalSeconds, 300, 301);
        world.Faults.SetReader(new("r"), 600);
        Pass(world, 500);
        Assert.InRange((world.Now - world.Replicas.Reached(new("r")).Applied).TotalSeconds, 799, 801);
        Assert.Contains("reader", world.Replicas.TakeSamples()[^1].HeldUpBy, StringComparison.Ordinal);
        Assert.InRange(LagOf(world), 0, 0.1);
        Pass(world, 300);
        Assert.InRange((world.Now - world.Replicas.Reached(new("r")).Applied).TotalSeconds, 300, 301);
    }

    [Fact]
    public void What_is_shipped_lags_by_no_more_than_its_stages_and_is_read_between_two_applies()
    {
        var stages = new ShippingStages(new(300, 5), new(300, 8), new(300, 20), 7200, 3600);
        var world = Live(Script([Async with { Mode = ReplicaMode.Shipped, Stages = stages, Readable = ReplicaReadable.BetweenApplies, WatchSeconds = 30 }]));
        var (worst, least) = (0.0, double.MaxValue);

        // What was under way when the world was opened is done again with the next cycle.
        Pass(world, 1200);
        for (var i = 0; i < 400; i++)
        {
            Pass(world, 17);
            (worst, least) = (Math.Max(worst, LagOf(world)), Math.Min(least, LagOf(world)));
            Assert.True((world.Now - world.Replicas.Reached(new("r")).Applied).TotalSeconds <= stages.Backup.AtWorstSeconds + stages.Copy.AtWorstSeconds + stages.Apply.AtWorstSeconds + 2);
        }

        Assert.InRange(worst, 500, stages.Backup.AtWorstSeconds + stages.Copy.AtWorstSeconds + 2);
        Assert.InRange(least, 8, 400);
        Assert.True(world.Replicas.Compare(new("r")).Same);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 8000);
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 1200);
        Assert.Contains("no longer keeps", world.Replicas.TakeSamples()[^1].HeldUpBy, StringComparison.Ordinal);
    }

    [Fact]
    public void Volumes_of_one_group_on_an_array_stop_at_one_instant()
    {
        Replica Volume(string database) => new()
        {
            Id = new(database),
            Database = new(database),
            Place = new ReplicaPlace.OnArray(new("hill-a1"), [new("hill-h1")]),
            Mode = ReplicaMode.Array,
        };
        var world = Live(Script(
            [Volume("crew-roster"), Volume("crew-certificates")],
            [new(new("crew"), "Crew", [new("crew-roster"), new("crew-certificates")], [])],
            rate: 20_000_000));
        world.Faults.SetLinkSlow(Quay, Hill, 90_000_000);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 1800);
        world.Faults.SetLinkDown(Quay, Hill, false);
        for (var i = 0; i < 40; i++)
        {
            Pass(world, 7);
            Assert.Equal(world.Replicas.Reached(new("crew-roster")), world.Replicas.Reached(new("crew-certificates")));
        }

        Assert.True(world.Replicas.Compare(new("crew-roster")).Same && world.Replicas.Compare(new("crew-certificates")).Same);
    }

    [Fact]
    public void A_wrong_clock_makes_what_is_known_worth_less_never_more()
    {
        var world = Live(Script([Async with { Mode = ReplicaMode.Sync }]));
        foreach (var ahead in new[] { 90.0, -90 })
        {
            world.Faults.SetClock(new("quay-h1"), ahead);
            Pass(world, 60);
            var sample = world.Replicas.TakeSamples()[^1];
            Assert.False(sample.InStep);
            Assert.InRange((sample.At - sample.ReceivedTo).TotalSeconds, 90, 91);
        }
    }

    [Fact]
    public void A_world_that_is_opened_again_goes_on_with_the_same_bytes_where_it_was_behind_too()
    {
        var script = Script([Async, Async with { Id = new("late"), DelaySeconds = 900, Place = new ReplicaPlace.OnHost(new("hill-h2")) }], rate: 20_000_000);
        var world = Live(script);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 900);
        world.Faults.SetLinkSlow(Quay, Hill, 80_000_000);
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 100);
        world.KeepAndAnswer();
        var (before, late) = (world.Replicas.Reached(new("r")), world.Replicas.Reached(new("late")));
        open.Remove(world);
        world.Dispose();
        var again = Again(Path.Combine(folder, "0"), script);
        Assert.InRange((again.Replicas.Reached(new("r")).Received - before.Received).TotalSeconds, -0.1, 0.1);
        Assert.Equal(late.Applied, again.Replicas.Reached(new("late")).Applied);
        Pass(again, 3600);
        Assert.InRange(LagOf(again), 0, 2);
        Assert.True(again.Replicas.Compare(new("r")).Same && again.Replicas.Compare(new("late")).Same);
    }

    [Fact]
    public void A_replica_that_is_new_in_a_world_holds_nothing_and_one_taken_out_is_looked_at_no_more()
    {
        var world = Live(Script([Async]));
        world.Replicas.Set(world.Fleet.With(replicas: [Async with { Id = new("new") }]));
        Pass(world, 60);
        var samples = world.Replicas.TakeSamples();
        Assert.DoesNotContain(samples, s => s.Replica == Async.Id && s.At > Now + Duration.FromSeconds(1));
        Assert.All(samples.Where(s => s.Replica.Value == "new"), s => Assert.Contains("not seeded", s.HeldUpBy, StringComparison.Ordinal));
    }
}
