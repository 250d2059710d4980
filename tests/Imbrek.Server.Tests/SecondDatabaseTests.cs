using System.Text.Json;
using System.Text.Json.Nodes;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A second database of one, on the real process: under another name as it was, and elsewhere as of one instant after it was asked for; a database of the fleet that its plan backs up.</summary>
[Collection("ways")]
public class SecondDatabaseTests(WaysServer demo)
{
    private static JsonObject Asked(string id, string? target, string host) => new() { ["database"] = "gate-devices", ["id"] = id, ["target"] = target, ["host"] = host };

    private static async Task<string> BegunAsync(Session session, JsonObject asked)
    {
        var (status, body) = await session.PostAsync("/api/second-databases", asked);
        Assert.True(status == 201, body.ToString());
        return body.GetProperty("id").GetString()!;
    }

    private static JsonElement[] Names(JsonElement of) => [.. of.GetProperty("names").EnumerateArray()];

    private static string? Text(JsonElement of, string member) => of.GetProperty(member).GetString();

    [Fact]
    public async Task As_it_was_under_another_name_beside_it_with_names_that_clash_mapped_it_lives_while_the_process_dies()
    {
        using var admin = await demo.AdminAsync();
        var source = (await admin.FleetAsync()).DatabaseById[new("gate-devices")];
        var target = await DemoServer.AgoAsync(admin, 600);
        var asked = Asked("devices-as-it-was", target, source.Host.Value);

        // On its own host every name is taken; what is proposed is free, and what people say holds.
        var sheet = (await admin.PostAsync("/api/second-databases/worksheet", asked)).Body;
        Assert.Equal(JsonValueKind.Null, sheet.GetProperty("refused").ValueKind);
        Assert.All(Names(sheet).Where(n => Text(n, "from")!.Contains("gate-devices", StringComparison.Ordinal)), n => Assert.Equal((source.Name, Text(n, "from")!.Replace("gate-devices", "devices-as-it-was", StringComparison.Ordinal)), (Text(n, "takenBy"), Text(n, "to"))));
        var file = Names(sheet).First(n => Text(n, "kind") == "file");
        JsonObject Called(string to) => new() { ["kind"] = "file", ["from"] = Text(file, "from"), ["to"] = to };
        foreach (var (wrong, member) in new (JsonObject, string)[] { (Called(Text(file, "from")!), "names[0].to"), (Called(" "), "names[0].to"), (new() { ["kind"] = "account", ["from"] = "nobody", ["to"] = "x" }, "names[0].from") })
        {
            asked["names"] = new JsonArray(wrong.DeepClone());
            Assert.Equal((400, member), Session.Fault(await admin.PostAsync("/api/second-databases", asked)));
            var said = (await admin.PostAsync("/api/second-databases/worksheet", asked)).Body;
            Assert.Equal((member, Names(sheet).Length), (Text(said, "member"), Names(said).Length));
        }

        asked["names"] = new JsonArray(Called("as-it-was.pages"));
        var run = await BegunAsync(admin, asked);
        Assert.Equal(409, (await admin.PostAsync("/api/second-databases", asked)).Status);
        var held = await admin.RunIsAsync(run, "held");
        Assert.Equal("try", Text(held.GetProperty("steps")[0], "kind"));
        Assert.Equal(1, (await admin.PostAsync($"/api/copies/{run}/rows", new { query = "count rows" })).Body.GetProperty("rows").GetArrayLength());
        Assert.DoesNotContain(new("devices-as-it-was"), (await admin.FleetAsync()).DatabaseById.Keys);

        // Released, and killed at once: whoever takes it up makes it once.
        Assert.Equal(204, await admin.DecideAsync(run, "release"));
        await demo.Server.KillAsync();
        await demo.Server.RunAsync();
        var done = await admin.RunIsAsync(run, "done");
        Assert.StartsWith($"devices-as-it-was lives on {source.Host}, as gate-devices was at ", Text(done.GetProperty("run"), "note"), StringComparison.Ordinal);
        Assert.Contains("is as-it-was.pages", Text(done.GetProperty("steps").EnumerateArray().First(s => Text(s, "kind") == "make"), "note"), StringComparison.Ordinal);
        var made = (await admin.FleetAsync()).DatabaseById[new("devices-as-it-was")];
        Assert.Equal((source.Host, source.Engine, source.Objective, null), (made.Host, made.Engine, made.Objective, made.Service));
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from proofs where run_id = '{run}' and database = 'gate-devices'"));
        Assert.Equal("as-it-was.pages", await demo.Server.QueryAsync<string>($"select body::jsonb -> 'made' -> 'names' -> 0 ->> 'to' from ledger where kind = 'second-database' and body::jsonb -> 'made' ->> 'database' = 'devices-as-it-was'"));

        // It is protected, and what is restored of it is what it is: its plan took its first full, and a restore is checked.
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>("select count(*) from backup_sets where database = 'devices-as-it-was'") > 0, what: () => "it is not backed up");
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/second-databases", asked)));
        string restored = "";
        await Eventually.Async(
            async () =>
            {
                var (status, body) = await admin.PostAsync("/api/recover", new { database = "devices-as-it-was", target = await DemoServer.AgoAsync(admin, 0), rehearse = true });
                restored = status == 201 ? Text(body, "id")! : "";
                return status == 201;
            },
            what: () => "it cannot be restored");
        var proved = await admin.RunIsAsync(restored, "done");
        Assert.All(proved.GetProperty("restore").GetProperty("measured").GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));
    }

    [Fact]
    public async Task Elsewhere_it_follows_until_it_has_caught_up_and_is_as_of_an_instant_after_it_was_asked_for()
    {
        using var admin = await demo.AdminAsync();
        var began = DateTimeOffset.Parse(await DemoServer.AgoAsync(admin, 0), System.Globalization.CultureInfo.InvariantCulture);
        var asked = Asked("devices-elsewhere", null, "hill-h1");
        asked["sizeBytes"] = 1;
        Assert.Equal((400, "sizeBytes"), Session.Fault(await admin.PostAsync("/api/second-databases", asked)));
        asked["sizeBytes"] = (await admin.FleetAsync()).DatabaseById[new("gate-devices")].SizeBytes + 1_000_000_000;
        var sheet = (await admin.PostAsync("/api/second-databases/worksheet", asked)).Body;
        Assert.True(sheet.GetProperty("rounds").GetArrayLength() >= 2, sheet.ToString());
        Assert.Equal(JsonValueKind.Null, sheet.GetProperty("reaches").ValueKind);
        asked["host"] = null;
        Assert.Equal((400, "host"), Session.Fault(await admin.PostAsync("/api/second-databases", asked)));
        asked["host"] = "hill-h1";
        var run = await BegunAsync(admin, asked);
        var held = await admin.RunIsAsync(run, "held");
        var second = held.GetProperty("second");
        Assert.Equal(second.GetProperty("forecast").GetProperty("rounds").GetArrayLength() + 1, second.GetProperty("rounds").GetArrayLength());
        var measured = held.GetProperty("restore").GetProperty("measured");
        Assert.True(measured.GetProperty("reached").GetDateTimeOffset() > began, measured.ToString());
        Assert.All(measured.GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));

        // Thrown away nothing of it is there, and its name is free.
        Assert.Equal(204, await admin.DecideAsync(run, "throw-away"));
        await admin.RunIsAsync(run, "done");
        Assert.DoesNotContain(new("devices-elsewhere"), (await admin.FleetAsync()).DatabaseById.Keys);

        run = await BegunAsync(admin, asked);
        await admin.RunIsAsync(run, "held");
        Assert.Equal(204, await admin.DecideAsync(run, "release"));
        await admin.RunIsAsync(run, "done");
        var made = (await admin.FleetAsync()).DatabaseById[new("devices-elsewhere")];
        Assert.Equal(("hill-h1", asked["sizeBytes"]!.GetValue<long>()), (made.Host.Value, made.SizeBytes));
    }

    [Fact]
    public async Task One_that_discards_its_log_keeps_it_until_the_copy_has_caught_up_and_no_longer()
    {
        await using var server = await ServerProcess.StartAsync(demo: true, days: 2);
        using var admin = await Session.SignInAsync(server.Url, "admin");
        await admin.PaceAsync(600);
        var asked = Asked("hours-elsewhere", null, "hill-h1");
        (asked["database"], asked["settings"]) = ("crew-hours", "now");
        var sheet = (await admin.PostAsync("/api/second-databases/worksheet", asked)).Body;
        Assert.Equal((null, "quay-s2"), (Text(sheet, "refused"), Text(sheet.GetProperty("first"), "store")));
        Assert.Equal("log of crew-hours", Text(sheet.GetProperty("settings").GetProperty("needs")[0], "setting"));
        var unanswered = asked.DeepClone().AsObject();
        unanswered["settings"] = null;
        Assert.Equal((409, "settings"), Session.Fault(await admin.PostAsync("/api/second-databases", unanswered)));

        // Killed while its full is taken or restored: it goes on with that one.
        var run = await BegunAsync(admin, asked);
        await Eventually.Async(async () => await server.QueryAsync<long>("select count(*) from backup_sets where database = 'crew-hours' and outside_chain") > 0, what: () => "no full is taken");
        await server.KillAsync();
        await server.RunAsync();
        var held = await admin.RunIsAsync(run, "held");
        var steps = held.GetProperty("steps").EnumerateArray().ToArray();
        Assert.Equal("is discarded again", Text(steps.Single(s => Text(s, "kind") == "set-back"), "note"));
        Assert.All(held.GetProperty("restore").GetProperty("measured").GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));
        Assert.Equal(1, await server.QueryAsync<long>("select count(*) from backup_sets where database = 'crew-hours' and outside_chain"));
        var reached = held.GetProperty("restore").GetProperty("measured").GetProperty("reached").GetDateTimeOffset();
        Assert.True(reached > steps.Single(s => Text(s, "kind") == "provision").GetProperty("ended").GetDateTimeOffset());

        // What is held needs nothing of its source any more: its next log task finds that it discards its log.
        await Eventually.Async(async () => await server.QueryAsync<long>($"select count(*) from runs where database = 'crew-hours' and task = 'log' and state = 5 and note like '%discards its log%' and due > '{reached.UtcDateTime:o}'") > 0, what: () => "its log is kept");
        Assert.Equal(204, await admin.DecideAsync(run, "release"));
        await admin.RunIsAsync(run, "done");
        Assert.Equal("hill-h1", (await admin.FleetAsync()).DatabaseById[new("hours-elsewhere")].Host.Value);
    }

    [Fact]
    public async Task What_cannot_be_is_said_with_its_member_and_only_who_operates_begins_one()
    {
        using var admin = await demo.AdminAsync();
        var target = await DemoServer.AgoAsync(admin, 300);
        foreach (var (change, status, member) in new (Action<JsonObject>, int, string)[]
        {
            (a => a["id"] = "", 400, "id"),
            (a => a["id"] = "a b", 400, "id"),
            (a => a["id"] = "tickets", 409, "id"),
            (a => a["target"] = DemoServer.AgoAsync(admin, -60).Result, 400, "target"),
            (a => a["host"] = "nowhere", 400, "host"),
            (a => a["plan"] = "nothing", 400, "plan"),
            (a => a["objective"] = "nothing", 400, "objective"),
            (a => a["query"] = new string('x', 3_000), 400, "query"),
            (a => a["sizeBytes"] = 1_000_000_000_000_000, 409, "host"),
            (a => a["names"] = new JsonArray(Enumerable.Range(0, 1_001).Select(_ => (JsonNode?)null).ToArray()), 400, "names"),
            (a => a["names"] = new JsonArray((JsonNode?)null), 400, "names[0].from"),
        })
        {
            var asked = Asked("devices-third", target, "quay-h2");
            change(asked);
            var answer = await admin.PostAsync("/api/second-databases", asked);
            Assert.True((status, member) == Session.Fault(answer), $"{member}: {answer}");
        }

        using var look = await demo.StillAsync("look");
        Assert.Equal(403, (await look.PostAsync("/api/second-databases", Asked("devices-third", target, "quay-h2"))).Status);
        Assert.Equal(200, (await look.PostAsync("/api/second-databases/worksheet", Asked("devices-third", target, "quay-h2"))).Status);
    }
}
