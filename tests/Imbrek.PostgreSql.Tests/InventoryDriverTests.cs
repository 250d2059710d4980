using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;
using Imbrek.PostgreSql.Drivers;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A real cluster asked for what it holds.</summary>
public class InventoryDriverTests
{
    private static readonly Id<Host> Home = new("home");
    private static readonly Id<Database> Cluster = new("harbour");

    [Fact]
    public async Task A_cluster_tells_its_databases_with_their_sizes_and_what_came_or_went_in_it_is_seen()
    {
        await using var h = await Harbour.StartAsync();
        var driver = new PostgreSqlInventoryDriver(h);
        await h.Cluster.DoAsync("create database ledger");
        var first = await driver.AskAsync(Home, default);
        var cluster = Assert.Single(first.Databases, d => d.Of == Cluster);
        Assert.Equal(("15", LogMode.Kept), (cluster.Version, cluster.LogMode!.Value));
        var inside = first.Databases.Where(d => d.In == Cluster).ToArray();
        Assert.Contains("ledger", inside.Select(d => d.Name));
        Assert.All(inside, d => Assert.InRange(d.SizeBytes!.Value, 1_000_000, cluster.SizeBytes!.Value));

        await h.Cluster.DoAsync("drop database ledger");
        await h.Cluster.DoAsync("create database crossings");
        var second = await driver.AskAsync(Home, default);
        var fleet = new FleetModel([], [], [], [], [], [], [], [], [new Database { Id = Cluster, Name = "Harbour", Engine = cluster.Engine, Host = Home, SizeBytes = cluster.SizeBytes!.Value, Version = "15" }]);
        Assert.Equal(
            [(InventoryWord.New, "crossings"), (InventoryWord.Gone, "ledger")],
            InventoryComparison.Of(fleet, Home, second, first).Select(c => (c.What, c.Seen.Name)));
    }

    [Fact]
    public async Task A_cluster_that_is_stopped_is_unseen_and_not_gone()
    {
        await using var h = await Harbour.StartAsync();
        var before = await new PostgreSqlInventoryDriver(h).AskAsync(Home, default);
        await h.Cluster.DownAsync();
        var answer = await new PostgreSqlInventoryDriver(h).AskAsync(Home, default);
        Assert.Empty(answer.Databases);
        Assert.Contains(answer.Unseen, u => u.StartsWith("Harbour: ", StringComparison.Ordinal));
        var fleet = new FleetModel([], [], [], [], [], [], [], [], [new Database { Id = Cluster, Name = "Harbour", Engine = before.Databases[0].Engine, Host = Home, SizeBytes = 1 }]);
        Assert.All(InventoryComparison.Of(fleet, Home, answer, before), c => Assert.Equal(InventoryWord.NotSeen, c.What));
    }
}
