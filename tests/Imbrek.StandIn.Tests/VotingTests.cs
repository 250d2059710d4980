using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>What the voters of a group do by themselves when the host of a primary is gone.</summary>
public sealed class VotingTests : IDisposable
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    private static readonly Id<Database> Tickets = new("tickets");
    private static readonly Id<Host> Quay = new("quay-h1"), Hill = new("hill-h1"), North = new("north-h1");
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-voting").FullName;
    private World world = null!;
    private WorldScript script = null!;

    public void Dispose()
    {
        world.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    private void Live(ReplicaMode mode)
    {
        var whole = TarnholtFerries.Create(Now);
        Replica replica = new() { Id = new("r"), Database = Tickets, Place = new ReplicaPlace.OnHost(Hill), Mode = mode, TakesOver = TakesOver.ByItself, PromoteSeconds = 20 };
        script = whole with
        {
            Fleet = whole.Fleet.With(replicas: [replica], groups: [new(new("g"), "G", [Tickets], [Quay, Hill, North]) { NoticeSeconds = 15 }]).WithPlans([]),
            Databases = [.. whole.Databases.Where(d => d.Id == Tickets).Select(d => d with { RehearsedDaysAgo = [], TransactionsPerMinute = 60 })],
            Troubles = [],
            Incidents = [],
            Begins = Now - Duration.FromHours(1),
        };
        using (var history = new World(folder, script))
        {
            history.Advance(Now);
            history.KeepForOthers(1);
        }

        world = World.Open(folder, _ => script);
        Pass(30);
        world.TakeChanges();
    }

    private void Pass(double seconds) => world.Advance(world.Now + Duration.FromSeconds(seconds));

    private Database Known => world.Fleet.DatabaseById[Tickets];

    private string[] Told() => [.. world.TakeChanges().OfType<WorldChange.Happened>().Where(h => h.Kind == "replica").Select(h => h.Text)];

    [Fact]
    public void After_they_noticed_one_that_loses_nothing_takes_over_once_and_stays_when_the_old_host_is_back()
    {
        Live(ReplicaMode.Sync);
        world.Faults.SetHostDown(Quay, true);
        Pass(34);
        Assert.Equal(Quay, Known.Host);
        Pass(2);
        Assert.Equal((Hill, 2), (Known.Host, Assert.Single(Known.Branches).Id));
        Assert.Empty(world.Fleet.ReplicaList);
        world.Faults.SetHostDown(Quay, false);
        Pass(600);
        Assert.Equal((Hill, 1), (Known.Host, Known.Branches.Count));
        var told = Told();
        Assert.Contains(told, t => t.Contains("r takes over by itself: quay-h1 is gone, 2 of 3 voters are left", StringComparison.Ordinal));
        Assert.DoesNotContain(told, t => t.Contains("are lost", StringComparison.Ordinal));
    }

    [Fact]
    public void A_host_that_is_back_before_they_noticed_changes_nothing_and_without_a_majority_nobody_takes_over()
    {
        Live(ReplicaMode.Sync);
        world.Faults.SetHostDown(Quay, true);
        Pass(10);
        world.Faults.SetHostDown(Quay, false);
        Pass(120);
        Assert.Equal((Quay, 0), (Known.Host, Known.Branches.Count));
        world.Faults.SetHostDown(North, true);
        world.Faults.SetHostDown(Quay, true);
        Pass(120);
        Assert.Equal((Quay, 0), (Known.Host, Known.Branches.Count));
        Assert.Contains(Told(), t => t.Contains("1 of 3 voters are no majority: nobody takes over", StringComparison.Ordinal));
    }

    [Fact]
    public void One_that_can_lose_takes_over_unasked_and_what_it_lost_is_told_afterwards()
    {
        Live(ReplicaMode.Async);
        world.Faults.SetLinkDown(new("quayside"), new("hillhouse"), true);
        Pass(300);
        world.Faults.SetHostDown(Quay, true);
        Pass(60);
        Assert.Equal(Hill, Known.Host);
        Assert.Contains(Told(), t => t.EndsWith("are lost, and nobody was asked", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData(5)]
    [InlineData(20)]
    public void A_world_that_is_opened_again_before_or_after_they_decided_goes_on_with_it(double seconds)
    {
        Live(ReplicaMode.Sync);
        world.Faults.SetHostDown(Quay, true);
        Pass(seconds);
        world.KeepAndAnswer();
        world.Dispose();
        world = World.Open(folder, _ => script);
        Pass(60);
        Assert.Equal((Hill, 1), (Known.Host, Known.Branches.Count));
    }
}
