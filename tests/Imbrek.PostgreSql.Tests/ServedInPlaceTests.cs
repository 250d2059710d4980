using System.Text.Json;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A cluster that is served, put back in place.</summary>
public sealed class ServedInPlaceTests : ServedCluster
{
    [Fact]
    public async Task A_cluster_is_put_back_in_place_through_kills_and_back_again_to_its_last_minute_and_thrown_away_nothing_has_happened()
    {
        await AddAsync();
        await FullAsync("""{"id": "log", "kind": "log", "recurrence": {"words": "Sundays 02:00"}, "store": "shelf", "keep": {"forSeconds": 86400}}""");
        var before = await WalkedAsync(20);
        await WalkedAsync(10);

        // An export is a cluster of its own, and takes the place of no other: said before anybody is kept out.
        await Admin.RunIsAsync(await BegunAsync("/api/databases/harbour/copy", new { kind = "export", store = "shelf", compression = "off", key = (string?)null, why = (string?)null }), "done");
        var export = (await Admin.GetAsync("/api/databases/harbour/sets?take=500")).GetProperty("sets").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "export");
        Assert.Equal((409, "base"), Session.Fault(await Admin.PostAsync("/api/recover", new { database = "harbour", target = export.GetProperty("coversTo").GetString(), @base = export.GetProperty("id").GetString(), inPlace = true })));

        // Thrown away it is as it was. Meanwhile nobody is in it, and its log is received.
        var run = await BackAsync(before);
        await Assert.ThrowsAnyAsync<Npgsql.NpgsqlException>(() => Cluster.OpenAsync());
        Assert.All((await Admin.GetAsync($"/api/runs/{run}")).GetProperty("restore").GetProperty("measured").GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));
        Assert.Equal(204, await Admin.DecideAsync(run, "throw-away"));
        await Admin.RunIsAsync(run, "done");
        Assert.Equal(30L, await Cluster.AskAsync<long>("select count(*) from imbrek_trail"));
        Assert.Empty(Beside());

        // Put back, while the server is killed again and again.
        var all = await WalkedAsync(10);
        run = await BackAsync(before, kills: 2);
        Assert.Equal(204, await Admin.DecideAsync(run, "put-in-place"));
        await KilledAsync(2);
        await Admin.RunIsAsync(run, "done");
        Assert.Equal(20L, await Cluster.AskAsync<long>("select count(*) from imbrek_trail"));
        Assert.Empty(Beside());
        var branch = Assert.Single(await BranchesAsync());
        Assert.Equal((2, 1), (branch.Id, branch.Parent));
        Assert.InRange(before - branch.ForkAt, NodaTime.Duration.Zero, NodaTime.Duration.FromSeconds(2));
        Assert.Equal(1L, await Cluster.AskAsync<long>("select count(*) from pg_replication_slots where not temporary"));
        await WalkedAsync(3);

        // What was left and what began lie side by side: nobody could write between them.
        Assert.DoesNotContain((await Admin.GetAsync("/api/findings?database=harbour")).GetProperty("rows").EnumerateArray(), f => f.GetProperty("code").GetString() == "log-hole");

        // Back again: all that was committed before everybody was kept out.
        run = await BackAsync(all);
        Assert.Equal(204, await Admin.DecideAsync(run, "put-in-place"));
        await Admin.RunIsAsync(run, "done");
        Assert.Equal(40L, await Cluster.AskAsync<long>("select count(*) from imbrek_trail"));
        Assert.Equal([(2, 1), (3, 1)], (await BranchesAsync()).Select(b => (b.Id, b.Parent)).Order());
        Assert.Equal(2, await Server.QueryAsync<long>("select count(*) from backup_sets where kind = 0 and branch > 1"));
        await WalkedAsync(1);
        await ReceivedAsync();
        Assert.Equal(3, await Server.QueryAsync<long>("select count(*) from ledger where kind = 'restore-in-place'"));

        IEnumerable<string> Beside() => Directory.EnumerateDirectories(Path.GetDirectoryName(Cluster.Data)!, "back-*");

        async Task<IReadOnlyList<Core.Fleet.Branch>> BranchesAsync() => Core.Formats.FleetFile.Read(await Admin.Http.GetByteArrayAsync("/api/export/fleet"), "fleet").Value!.DatabaseById[new("harbour")].Branches;

        async Task<NodaTime.Instant> WalkedAsync(int commits)
        {
            await Cluster.DoAsync($"select imbrek_walk() from generate_series(1, {commits})");
            var now = NodaTime.SystemClock.Instance.GetCurrentInstant() + NodaTime.Duration.FromMilliseconds(20);
            await Eventually.Async(async () => (await Admin.GetAsync("/api/databases/harbour")).GetProperty("supposed").GetProperty("latest").GetDateTimeOffset().ToUniversalTime() > now.ToDateTimeOffset());
            return now;
        }

        async Task<string> BackAsync(NodaTime.Instant target, int kills = 0)
        {
            var (status, begun) = await Admin.PostAsync("/api/recover", new { database = "harbour", target = NodaTime.Text.InstantPattern.CreateWithInvariantCulture("uuuu'-'MM'-'dd'T'HH':'mm':'ss'.'fff'Z'").Format(target), inPlace = true });
            Assert.True(status == 201, begun.ToString());
            var id = begun.GetProperty("id").GetString()!;
            await ApprovedAsync(id, r => r.GetProperty("steps")[0].GetProperty("started").ValueKind != JsonValueKind.Null);
            await KilledAsync(kills);
            await Admin.RunIsAsync(id, "held");
            return id;
        }
    }
}
