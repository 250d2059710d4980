using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A move computed before anything is touched, and carried out by rounds, on the real process.</summary>
[Collection("demo")]
public class MoveTests(DemoServer demo)
{
    [Fact]
    public async Task The_archive_never_gets_to_Hillhouse_at_its_rate_and_does_at_twice_that()
    {
        using var look = await demo.StillAsync("look");
        var asked = new { database = "plan-archive", to = "hill-h2", rate = (double?)null };
        var (status, move) = await look.PostAsync("/api/moves/worksheet", asked);
        Assert.True(status == 200, move.ToString());
        Assert.False(move.GetProperty("fits").GetBoolean());
        var (rate, remedy) = (move.GetProperty("rate").GetDouble(), move.GetProperty("remedy"));
        Assert.InRange(remedy.GetProperty("rate").GetDouble(), rate * 1.0001, rate * 2);

        var twice = (await look.PostAsync("/api/moves/worksheet", asked with { rate = rate * 2 })).Body;
        Assert.True(twice.GetProperty("fits").GetBoolean());
        Assert.InRange(twice.GetProperty("downtimeSeconds").GetDouble(), 180, 300);

        // What is said to be enough is, and a little less is not.
        var needed = remedy.GetProperty("rate").GetDouble();
        Assert.True((await look.PostAsync("/api/moves/worksheet", asked with { rate = needed * 1.00001 })).Body.GetProperty("fits").GetBoolean());
        Assert.False((await look.PostAsync("/api/moves/worksheet", asked with { rate = needed * 0.999 })).Body.GetProperty("fits").GetBoolean());

        Assert.Equal((400, "to"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { to = "nowhere" })));
        Assert.Equal((400, "to"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { to = "quay-h3" })));
        Assert.Equal((409, "to"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { to = "skerry-h1" })));
        Assert.Equal((400, "rate"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { rate = -1 })));
    }

    private static JsonElement Step(JsonElement run, string kind) => run.GetProperty("steps").EnumerateArray().Last(s => s.GetProperty("kind").GetString() == kind);

    private static async Task<string> BeginAsync(Session session, string database, string to, double window = 900)
    {
        var (status, body) = await session.PostAsync("/api/moves", new { database, to, window });
        Assert.True(status == 201, $"{status}: {body}");
        return body.GetProperty("id").GetString()!;
    }

    private static async Task<string> HostOfAsync(Session session, string database) => (await session.FleetAsync()).DatabaseById[new(database)].Host.Value;

    [Fact]
    public async Task A_database_follows_is_switched_over_and_has_lost_nothing()
    {
        using var admin = await demo.AdminAsync();
        const string id = "ticket-refunds";
        var before = (await admin.FleetAsync()).DatabaseById[new(id)].Branches.Count;
        var run = await BeginAsync(admin, id, "hill-h1");
        var held = await admin.RunIsAsync(run, "held");
        var move = held.GetProperty("move");
        Assert.True(move.GetProperty("rounds").GetArrayLength() >= 1);
        Assert.All(move.GetProperty("rounds").EnumerateArray(), r => Assert.True(r.GetProperty("seconds").GetDouble() > 0));
        Assert.True(move.GetProperty("following").GetProperty("seconds").GetDouble() < move.GetProperty("rounds")[0].GetProperty("seconds").GetDouble());
        Assert.Equal("quay-h1", await HostOfAsync(admin, id));
        var listed = Assert.Single((await admin.GetAsync("/api/copies")).GetProperty("copies").EnumerateArray(), c => c.GetProperty("run").GetString() == run);
        Assert.False(listed.GetProperty("asks").GetBoolean());

        // Meanwhile nobody else acts on it.
        Assert.Equal(409, (await admin.PostAsync("/api/moves", new { database = id, to = "hill-h2", window = 900 })).Status);

        Assert.Equal(204, await admin.DecideAsync(run, "switch"));
        var done = await admin.RunIsAsync(run, "done");
        var measured = done.GetProperty("move");
        var downtime = measured.GetProperty("downtimeSeconds").GetDouble();
        Assert.InRange(downtime, 2, 900);
        Assert.True(measured.GetProperty("last").GetProperty("seconds").GetDouble() < downtime);
        Assert.Equal(move.GetProperty("rounds").GetArrayLength() + 1, measured.GetProperty("rounds").GetArrayLength());
        Assert.StartsWith("it lives on hill-h1; nobody could write for", done.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Contains("checks passed", Step(done, "check").GetProperty("note").GetString(), StringComparison.Ordinal);

        var lives = (await admin.FleetAsync()).DatabaseById[new(id)];
        var branch = lives.Branches[^1];
        Assert.Equal((before + 1, "hill-h1", "quay-h1"), (lives.Branches.Count, lives.Host.Value, branch.LeftHost!.Value.Value));
        Assert.Contains(lives.RecoveryHosts, h => h.Value == "quay-h1");
        Assert.DoesNotContain(lives.RecoveryHosts, h => h.Value == "hill-h1");
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'move' and body::text like '%{run}%' and body::text like '%\"moved\"%'"));

        // It is written to there, backed up there, and can be had back as of an instant before the move and one after it.
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from backup_sets where database = '{id}' and branch = {branch.Id} and kind = 5") > 1);
        foreach (var minutes in new[] { 1.0, (DateTimeOffset.Parse(await DemoServer.AgoAsync(admin, 0), null) - branch.StartsAt.ToDateTimeOffset()).TotalMinutes + 10 })
        {
            var ways = await admin.GetAsync($"/api/recover/{id}?target={await DemoServer.AgoAsync(admin, minutes)}");
            Assert.NotEqual(JsonValueKind.Null, ways.GetProperty("best").ValueKind);
        }
    }

    [Theory]
    [InlineData("throw-away")]
    [InlineData("cancel")]
    public async Task Called_off_it_is_where_it_was_and_nothing_is_left_there(string how)
    {
        using var admin = await demo.AdminAsync();
        const string id = "gate-audit";
        var before = (await admin.FleetAsync()).DatabaseById[new(id)].Branches;
        var run = await BeginAsync(admin, id, "hill-h1");
        var instance = (await admin.RunIsAsync(run, "held")).GetProperty("run").GetProperty("instance").GetString()!;
        Assert.True(Directory.Exists(Path.Combine([demo.Server.World!, "instances", .. instance.Split('/')])));
        Assert.Equal(204, how == "cancel" ? (await admin.PostAsync($"/api/runs/{run}/cancel")).Status : await admin.DecideAsync(run, how));
        var ended = await admin.RunIsAsync(run, how == "cancel" ? "cancelled" : "done");
        Assert.EndsWith("it stays on quay-h1", ended.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal("quay-h1", await HostOfAsync(admin, id));
        Assert.False(Directory.Exists(Path.Combine([demo.Server.World!, "instances", .. instance.Split('/')])));
        Assert.Equal(before, (await admin.FleetAsync()).DatabaseById[new(id)].Branches);
    }

    [Fact]
    public async Task A_host_that_is_lost_on_the_way_ends_it_and_everybody_writes_where_they_wrote()
    {
        using var admin = await demo.AdminAsync();
        const string id = "cargo-customs";
        var run = await BeginAsync(admin, id, "north-h1", 3600);
        await admin.RunIsAsync(run, "held");
        Assert.Equal(204, (await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "northlight", down = true })).Status);
        try
        {
            Assert.Equal(204, await admin.DecideAsync(run, "switch"));
            await admin.RunIsAsync(run, "failed");
        }
        finally
        {
            await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "northlight", down = false });
        }

        Assert.Equal("quay-h1", await HostOfAsync(admin, id));
        var before = await DemoServer.AgoAsync(admin, 0);
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from backup_sets where database = '{id}' and kind = 5 and covers_to > '{before}'") > 0);
    }

    [Fact]
    public async Task What_does_not_fit_or_cannot_follow_is_not_begun()
    {
        using var operate = await demo.StillAsync("operate");
        using var look = await Session.SignInAsync(demo.Server.Url, "look");
        Assert.Equal(403, (await look.PostAsync("/api/moves", new { database = "berth-plan", to = "hill-h1" })).Status);
        Assert.Equal((409, "window"), Session.Fault(await operate.PostAsync("/api/moves", new { database = "berth-plan", to = "hill-h1", window = 1 })));
        Assert.Equal((409, "to"), Session.Fault(await operate.PostAsync("/api/moves", new { database = "plan-archive", to = "hill-h2", rate = 1e9 })));
        Assert.Contains("switch over", (await look.PostAsync("/api/moves/worksheet", new { database = "tickets", to = "hill-h1" })).Body.GetProperty("whyNotBegun").GetString(), StringComparison.Ordinal);
    }
}
