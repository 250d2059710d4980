using System.Text.Json;
using Imbrek.Core.Fleet;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Databases that are made replicated from birth, on the real process and in its world.</summary>
[Collection("ways")]
public class NewDatabaseTests(WaysServer demo)
{
    private static object Asked(string id, string host = "quay-h2", string mode = "sync", string takesOver = "byHand", string? group = "gates", string? plan = null) => new
    {
        database = new
        {
            id,
            name = id,
            engine = "chain",
            host,
            recoveryHosts = new[] { "hill-h1" },
            objective = "gates",
            sizeBytes = 2_000_000_000L,
            logBytesPerSecond = 40_000,
            detectSeconds = 30,
            decideSeconds = 30,
        },
        group,
        replicas = new[] { new { id = $"{id}-hill", host = "hill-h1", mode, takesOver, promoteSeconds = 20, keepLogSeconds = 86_400 } },
        plan,
    };

    [Fact]
    public async Task One_is_made_on_all_its_hosts_named_proved_backed_up_and_goes_on_after_a_kill_with_how_long_it_stood_alone()
    {
        await using var server = await ServerProcess.StartAsync(demo: true, days: 2);
        var admin = await Session.SignInAsync(server.Url, "admin");
        await admin.PaceAsync(60);
        var model = await admin.FleetAsync();
        var (engine, objective, plan) = (model.DatabaseById[new("gate-scans")].Engine.Value, model.DatabaseById[new("gate-scans")].Objective!.Value.Value, model.PlansOf(model.DatabaseById[new("gate-scans")])[0].Id.Value);
        JsonElement Body(string id, string mode, string takesOver) => JsonSerializer.SerializeToElement(JsonSerializer.Deserialize<JsonElement>(
            JsonSerializer.Serialize(Asked(id, mode: mode, takesOver: takesOver, plan: plan)).Replace("\"chain\"", $"\"{engine}\"", StringComparison.Ordinal).Replace("\"objective\":\"gates\"", $"\"objective\":\"{objective}\"", StringComparison.Ordinal)));

        // What would be lost unasked is said before it is made.
        var sheet = (await admin.PostAsync("/api/databases/worksheet", Body("gate-faces", "async", "byItself"))).Body;
        Assert.Contains(sheet.GetProperty("findings").EnumerateArray(), f => f.GetProperty("code").GetString() == "unasked-loss");
        sheet = (await admin.PostAsync("/api/databases/worksheet", Body("gate-faces", "sync", "byItself"))).Body;
        Assert.DoesNotContain(sheet.GetProperty("findings").EnumerateArray(), f => f.GetProperty("code").GetString() == "unasked-loss");
        Assert.Equal(0, sheet.GetProperty("losses").EnumerateArray().First(l => l.GetProperty("kind").GetString() == "host").GetProperty("lostSeconds").GetDouble());
        Assert.True(sheet.GetProperty("aloneSeconds").GetDouble() > 0);

        var (status, begun) = await admin.PostAsync("/api/databases", Body("gate-faces", "sync", "byItself"));
        Assert.True(status == 201, begun.ToString());
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/databases", Body("gate-faces", "sync", "byItself"))));
        var id = begun.GetProperty("id").GetString()!;
        await Eventually.Async(async () => (await admin.GetAsync($"/api/runs/{id}")).GetProperty("steps").EnumerateArray().First(s => s.GetProperty("kind").GetString() == "copy").GetProperty("state").GetString() is "running" or "done", what: () => "nothing is copied");
        await server.KillAsync();
        await server.RunAsync();
        admin.Dispose();
        admin = await Session.SignInAsync(server.Url, "admin");
        var run = await admin.RunIsAsync(id, "done");
        Assert.Contains("replicated and proved", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Contains("there was no backup of it", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        model = await admin.FleetAsync();
        Assert.Contains(new("gate-faces"), model.Groups[new("gates")].Databases);
        Assert.Equal("inStep", (await admin.GetAsync("/api/replicas/gate-faces-hill")).GetProperty("row").GetProperty("state").GetString());
        Assert.Equal(1, await server.QueryAsync<long>("select count(*) from backup_sets where database = 'gate-faces' and kind = 0"));
        Assert.True(await server.QueryAsync<bool>("select body::jsonb -> 'result' ->> 'untilBackedUpSeconds' is not null from ledger where kind = 'new-database'"));

        // It lives: its plan takes log of it, and what is lost by a loss of its host is nothing.
        await Eventually.Async(async () => await server.QueryAsync<long>("select count(*) from backup_sets where database = 'gate-faces' and kind = 5") > 0, what: () => server.Said);
        var host = (await admin.GetAsync("/api/replicas/gate-faces-hill")).GetProperty("worth").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host");
        Assert.Equal(0, host.GetProperty("lostSeconds").GetDouble());
        admin.Dispose();
    }

    [Fact]
    public async Task One_that_cannot_be_replicated_is_taken_back_whole_and_the_fleet_can_be_changed_meanwhile()
    {
        using var admin = await demo.AdminAsync();
        var model = await admin.FleetAsync();
        var gate = model.DatabaseById[new("gate-scans")];
        JsonElement Body(object asked) => JsonSerializer.Deserialize<JsonElement>(JsonSerializer.Serialize(asked).Replace("\"chain\"", $"\"{gate.Engine}\"", StringComparison.Ordinal).Replace("\"objective\":\"gates\"", $"\"objective\":\"{gate.Objective}\"", StringComparison.Ordinal));
        var plan = model.PlansOf(gate)[0].Id.Value;
        Assert.Equal((400, "host"), Session.Fault(await admin.PostAsync("/api/databases", Body(Asked("gate-doors", host: "nowhere")))));
        Assert.Equal((400, "plan"), Session.Fault(await admin.PostAsync("/api/databases", Body(Asked("gate-doors", plan: "nothing")))));
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/databases", Body(Asked("gate-scans")))));
        await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "hillhouse", down = true });
        try
        {
            var (status, begun) = await admin.PostAsync("/api/databases", Body(Asked("gate-doors", plan: plan)));
            Assert.True(status == 201, begun.ToString());
            var run = await admin.RunIsAsync(begun.GetProperty("id").GetString()!, "failed");
            Assert.Contains("the link between", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
            Assert.DoesNotContain("could not be taken back", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        }
        finally
        {
            await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "hillhouse", down = false });
        }

        var after = await admin.FleetAsync();
        Assert.DoesNotContain(new("gate-doors"), after.DatabaseById.Keys);
        Assert.DoesNotContain(new("gate-doors"), after.Groups[new("gates")].Databases);
        Assert.DoesNotContain(new("gate-doors-hill"), after.Replicas.Keys);
        Assert.DoesNotContain(new("gate-doors"), after.Plans.Single(p => p.Id.Value == plan).Members.Databases);

        // Its name is free again.
        Assert.Equal(200, (await admin.PostAsync("/api/databases/worksheet", Body(Asked("gate-doors")))).Status);
    }
}
