using System.Text.Json;
using System.Text.Json.Nodes;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Changes on the real process: rehearsed on a copy that is thrown away, carried out on their day while the process dies, kept or turned back; and what is refused.</summary>
[Collection("ways")]
public class ChangeTests(WaysServer demo)
{
    private const string Database = "work-orders";

    private static JsonObject Script(string name, params string[] statements) => new()
    {
        ["name"] = name,
        ["engine"] = "chain-log",
        ["parts"] = new JsonArray(new JsonObject { ["name"] = "rows", ["statements"] = new JsonArray([.. statements.Select(s => (JsonNode)s)]) }),
        ["queries"] = new JsonArray(new JsonObject { ["name"] = "written", ["query"] = "count written" }),
    };

    private static JsonElement Step(JsonElement run, string kind) => run.GetProperty("steps").EnumerateArray().First(s => s.GetProperty("kind").GetString() == kind);

    private static async Task<string> BegunAsync(Session session, string path, object asked)
    {
        var (status, body) = await session.PostAsync(path, asked);
        Assert.True(status == 201, body.ToString());
        return body.GetProperty("id").GetString()!;
    }

    /// <summary>A second person agrees, and the first part may begin.</summary>
    private static async Task<string> ReadyAsync(Session admin, Session second, string id, string database)
    {
        var run = await BegunAsync(admin, $"/api/changes/{id}/begin", new { database, windowEnd = await DemoServer.AgoAsync(admin, -180), watchSeconds = 30 });
        await Eventually.Async(async () => (await admin.GetAsync($"/api/runs/{run}")).GetProperty("steps")[0].GetProperty("choices").GetArrayLength() > 0, what: () => "nobody is asked");
        Assert.Equal(409, (await admin.PostAsync($"/api/runs/{run}/approve", new { step = 1, choice = "approve" })).Status);
        Assert.Equal(204, (await second.PostAsync($"/api/runs/{run}/approve", new { step = 1, choice = "approve" })).Status);
        await AskedAsync(admin, run, "carry-out");
        return run;
    }

    private static Task AskedAsync(Session session, string run, string choice) =>
        Eventually.Async(async () => (await session.GetAsync($"/api/runs/{run}")).GetProperty("steps").EnumerateArray().Any(s => s.GetProperty("choices").EnumerateArray().Any(c => c.GetString() == choice)), what: () => $"'{choice}' cannot be chosen");

    [Fact]
    public async Task A_script_is_kept_or_refused_by_the_member_at_fault()
    {
        using var admin = await demo.AdminAsync();
        Assert.Equal(204, (await admin.PutAsync("/api/changes/tried", Script("Tried", "clear rows from 0 to 3"))).Status);
        var kept = (await admin.GetAsync("/api/changes")).GetProperty("changes").EnumerateArray().Single(c => c.GetProperty("id").GetString() == "tried");
        Assert.Equal("clear rows from 0 to 3", kept.GetProperty("change").GetProperty("parts")[0].GetProperty("statements")[0].GetString());
        foreach (var (member, value, status) in new (string, JsonNode?, int)[] { ("name", "", 400), ("engine", "nobody's", 400), ("parts", new JsonArray(), 400), ("name", "Chained log to version 15", 409) })
        {
            var wrong = Script("Another", "clear rows from 0 to 3");
            wrong[member] = value;
            Assert.Equal((status, member), Session.Fault(await admin.PutAsync("/api/changes/another", wrong)));
        }

        Assert.Equal((400, "id"), Session.Fault(await admin.PutAsync("/api/changes/a%20b", Script("Spaced", "x"))));
        Assert.Equal((400, "parts[0].statements[0]"), Session.Fault(await admin.PutAsync("/api/changes/long", Script("Long", new string('x', 20_001)))));
        Assert.Equal((400, "database"), Session.Fault(await admin.PostAsync("/api/changes/tried/rehearse", new { database = "gate-scans" })));
        Assert.Equal((400, "windowEnd"), Session.Fault(await admin.PostAsync("/api/changes/tried/begin", new { database = Database })));
        Assert.Equal((400, "windowEnd"), Session.Fault(await admin.PostAsync("/api/changes/tried/begin", new { database = Database, windowEnd = await DemoServer.AgoAsync(admin, 1) })));
        Assert.Equal((400, "watchSeconds"), Session.Fault(await admin.PostAsync("/api/changes/tried/begin", new { database = Database, windowEnd = await DemoServer.AgoAsync(admin, -60), watchSeconds = -1 })));
        Assert.Equal((404, "id"), Session.Fault(await admin.PostAsync("/api/changes/nothing/worksheet", new { database = Database })));
        Assert.Equal(System.Net.HttpStatusCode.NoContent, (await admin.Http.DeleteAsync("/api/changes/tried")).StatusCode);
        Assert.DoesNotContain((await admin.GetAsync("/api/changes")).GetProperty("changes").EnumerateArray(), c => c.GetProperty("id").GetString() == "tried");
    }

    [Fact]
    public async Task A_move_is_rehearsed_then_carried_out_and_what_the_rehearsal_measured_is_what_is_expected()
    {
        using var admin = await demo.AdminAsync();
        using var second = await Session.SignInAsync(demo.Server.Url, "approve");
        async Task<JsonElement> SheetAsync() => (await admin.PostAsync("/api/changes/to-15/worksheet", new { database = Database, windowEnd = await DemoServer.AgoAsync(admin, -180) })).Body;
        var unknown = await SheetAsync();
        Assert.Equal(JsonValueKind.Null, unknown.GetProperty("forecast").ValueKind);
        Assert.Contains("never rehearsed", unknown.GetProperty("day").GetProperty("warnings")[0].GetString(), StringComparison.Ordinal);

        // Rehearsed: a copy was changed and thrown away, the database was not.
        var rehearsal = await BegunAsync(admin, "/api/changes/to-15/rehearse", new { database = Database });
        var done = await admin.RunIsAsync(rehearsal, "done");
        var measured = done.GetProperty("change").GetProperty("measured");
        Assert.Equal(2, measured.GetProperty("parts").GetArrayLength());
        Assert.DoesNotContain(measured.GetProperty("differences").EnumerateArray(), d => d.GetProperty("broke").GetBoolean());
        Assert.Equal("15", measured.GetProperty("after").GetProperty("version").GetString());
        Assert.NotEmpty(done.GetProperty("change").GetProperty("notTested").EnumerateArray());
        Assert.Equal("14", (await admin.FleetAsync()).DatabaseById[new(Database)].Version);
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from proofs where run_id = '{rehearsal}'"));
        Assert.DoesNotContain((await admin.GetAsync("/api/copies")).GetProperty("copies").EnumerateArray(), c => c.GetProperty("run").GetString() == rehearsal);

        var forecast = (await SheetAsync()).GetProperty("forecast");
        Assert.Equal(measured.GetProperty("parts").EnumerateArray().Sum(p => p.GetProperty("seconds").GetDouble()) * measured.GetProperty("scale").GetDouble(), forecast.GetProperty("seconds").GetDouble(), 6);

        // Its day: nobody else can have it meanwhile, and a process that dies in the midst of the move does it once.
        var run = await ReadyAsync(admin, second, "to-15", Database);
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/changes/to-15/begin", new { database = Database, windowEnd = await DemoServer.AgoAsync(admin, -180) })));
        Assert.Equal(204, await admin.DecideAsync(run, "carry-out"));
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{run}"), "part").GetProperty("state").GetString() != "waiting", what: () => "no part begins");
        await demo.Server.KillAsync();
        await demo.Server.RunAsync();
        await AskedAsync(admin, run, "keep");
        Assert.Equal(204, await admin.DecideAsync(run, "keep"));
        done = await admin.RunIsAsync(run, "done");
        measured = done.GetProperty("change").GetProperty("measured");
        var d = (await admin.FleetAsync()).DatabaseById[new(Database)];
        Assert.Equal(("15", 1), (d.Version, d.Branches.Count));
        Assert.Equal(d.Branches[0].Id, measured.GetProperty("branch").GetProperty("id").GetInt32());
        Assert.InRange(measured.GetProperty("parts").EnumerateArray().Sum(p => p.GetProperty("seconds").GetDouble()), forecast.GetProperty("from").GetDouble() * 0.8, forecast.GetProperty("to").GetDouble() * 1.2);
        Assert.True(measured.GetProperty("outSeconds").GetDouble() > 0);
        Assert.Contains("bring back instants up to then alone", done.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'change' and body::text like '%{run}%'"));
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from backup_sets where database = '{Database}' and branch = {d.Branches[0].Id} and kind = 0"));

        Assert.Equal((409, "database"), Session.Fault(await admin.PostAsync("/api/changes/to-15/rehearse", new { database = Database })));

        // Instants before the move come from what was taken before it, those after from what was taken after it.
        foreach (var (at, branch) in new[] { (d.Branches[0].StartsAt.Minus(NodaTime.Duration.FromMinutes(30)), 1), (Imbrek.Core.Formats.Instants.Parse(await DemoServer.AgoAsync(admin, 0)), d.Branches[0].Id) })
        {
            var way = await admin.GetAsync($"/api/recover/{Database}?target={Imbrek.Core.Formats.Instants.Write(at)}");
            var sets = way.GetProperty("best").GetProperty("steps").EnumerateArray().Select(s => s.GetProperty("set").GetString()).ToArray();
            Assert.Equal(branch, await demo.Server.QueryAsync<int>($"select max(branch) from backup_sets where database = '{Database}' and id = '{sets[0]}'"));
            Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(distinct branch) from backup_sets where database = '{Database}' and id in ({string.Join(',', sets.Select(s => $"'{s}'"))})"));
        }
    }

    [Fact]
    public async Task What_a_change_did_while_others_wrote_is_taken_back_to_the_moment_before_it_and_what_fails_is_decided_about()
    {
        using var admin = await demo.AdminAsync();
        using var second = await Session.SignInAsync(demo.Server.Url, "approve");
        const string id = "dry-dock";
        Assert.Equal(204, (await admin.PutAsync("/api/changes/clear-all", Script("Clear all", "clear rows from 0 to 100000"))).Status);
        var run = await ReadyAsync(admin, second, "clear-all", id);
        Assert.Equal(204, await admin.DecideAsync(run, "carry-out"));
        await AskedAsync(admin, run, "keep");
        var began = Step(await admin.GetAsync($"/api/runs/{run}"), "part").GetProperty("started").GetDateTimeOffset();
        Assert.Equal(204, await admin.DecideAsync(run, "turn-back"));
        await Eventually.Async(async () => (await admin.GetAsync($"/api/runs/{run}")).GetProperty("followed").GetArrayLength() > 0, what: () => "nothing puts it back");
        var back = (await admin.GetAsync($"/api/runs/{run}")).GetProperty("followed")[0].GetProperty("id").GetString()!;
        await AskedAsync(admin, back, "put-in-place");
        Assert.Equal(204, await admin.DecideAsync(back, "put-in-place"));
        var restored = await admin.RunIsAsync(back, "done");
        Assert.Equal("turned back: it is as it was before", (await admin.RunIsAsync(run, "done")).GetProperty("run").GetProperty("note").GetString());
        var reached = restored.GetProperty("restore").GetProperty("measured").GetProperty("reached").GetDateTimeOffset();
        Assert.True(reached <= began && began - reached < TimeSpan.FromMinutes(2), $"{reached} for {began}");
        Assert.All(restored.GetProperty("restore").GetProperty("measured").GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));

        // A statement nobody knows: people are asked again, and it is left as it is.
        Assert.Equal(204, (await admin.PutAsync("/api/changes/nonsense", Script("Nonsense", "clear rows from 0 to 1", "burn it"))).Status);
        run = await ReadyAsync(admin, second, "nonsense", id);
        Assert.Equal(204, await admin.DecideAsync(run, "carry-out"));
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{run}"), "part").GetProperty("note").GetString()?.Contains("burn it", StringComparison.Ordinal) == true, what: () => "it does not say what failed");
        await AskedAsync(admin, run, "leave-it");
        Assert.Equal(204, await admin.DecideAsync(run, "leave-it"));
        Assert.StartsWith("not begun", (await admin.RunIsAsync(run, "done")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
    }
}
