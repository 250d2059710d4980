using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Nodes;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Copies in use, on the real process: a view of which rows are taken out, clones closed to all but the named, and their ends.</summary>
[Collection("ways")]
public class CopyTests(WaysServer demo)
{
    private static async Task<string> InAsync(Session session, double days) => await DemoServer.AgoAsync(session, -days * 1440);

    private static async Task<JsonElement?> OneAsync(Session session, string run) =>
        (await session.GetAsync("/api/copies")).GetProperty("copies").EnumerateArray().Where(c => c.GetProperty("run").GetString() == run).Select(c => (JsonElement?)c).FirstOrDefault();

    private static async Task<string[]> MadeAsync(Session session, object asked)
    {
        var (status, body) = await session.PostAsync("/api/copies", asked);
        Assert.True(status == 201, body.ToString());
        return [.. body.GetProperty("ids").EnumerateArray().Select(i => i.GetString()!)];
    }

    [Fact]
    public async Task Of_four_hundred_gigabytes_last_night_rows_are_taken_out_without_moving_them()
    {
        using var admin = await demo.AdminAsync();
        var asked = new { database = "tickets", @as = "view", target = await DemoServer.AgoAsync(admin, 600), until = await InAsync(admin, 1) };
        var sheet = (await admin.PostAsync("/api/copies/worksheet", asked)).Body;
        Assert.Equal((true, 0L), (sheet.GetProperty("mounted").GetBoolean(), sheet.GetProperty("roomBytes").GetInt64()));
        var aside = (await admin.GetAsync($"/api/recover/tickets?target={asked.target}")).GetProperty("compared").EnumerateArray().ToDictionary(w => w.GetProperty("way").GetString() + w.GetProperty("replica"));
        Assert.True(sheet.GetProperty("seconds").GetDouble() < aside["aside"].GetProperty("usableSeconds").GetDouble() / 2);
        Assert.Equal(sheet.GetProperty("movedBytes").GetInt64(), aside["view"].GetProperty("movedBytes").GetInt64());

        var run = Assert.Single(await MadeAsync(admin, asked));
        var done = await admin.RunIsAsync(run, "done");
        Assert.StartsWith("stands on ", done.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.All(done.GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("kind").GetString() == "restore"), s => Assert.Equal(JsonValueKind.Null, s.GetProperty("measuredBytes").ValueKind == JsonValueKind.Number && s.GetProperty("measuredBytes").GetInt64() == 0 ? JsonValueKind.Null : s.GetProperty("measuredBytes").ValueKind));

        // What was opened where it lies proves nothing of how long a restore takes.
        Assert.Equal(0, await demo.Server.QueryAsync<long>($"select count(*) from proofs where run_id = '{run}'"));
        var rows = (await admin.PostAsync($"/api/copies/{run}/rows", new { query = "rows written from 0 to 400" })).Body;
        Assert.Equal(["row", "value"], rows.GetProperty("columns").EnumerateArray().Select(c => c.GetString()));
        Assert.Equal((409, "query"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/rows", new { query = "drop it" })));
        Assert.Equal((400, "query"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/rows", new { query = " " })));
        var file = await (await admin.Http.PostAsJsonAsync($"/api/copies/{run}/rows.csv", new { query = "rows written" })).Content.ReadAsStringAsync();
        Assert.StartsWith("row,value\r\n", file, StringComparison.Ordinal);
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'rows-taken' and body::text like '%{run}%'"));

        // Its sets stay as long as it stands.
        var set = done.GetProperty("steps").EnumerateArray().First(s => s.GetProperty("kind").GetString() == "restore").GetProperty("title").GetString()!.Split(' ')[2].TrimEnd(',');
        Assert.True((await OneAsync(admin, run))!.Value.GetProperty("mounted").GetBoolean());
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from backup_sets where id = '{set}' and database = 'tickets'"));
        await admin.RemoveAsync(run);
        Assert.Null(await OneAsync(admin, run));
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/rows", new { query = "count rows" })));
    }

    [Fact]
    public async Task Two_masked_clones_are_for_their_host_alone_and_end_on_their_day_while_one_whose_mask_fails_lets_nobody_in()
    {
        using var admin = await demo.AdminAsync();
        var until = await InAsync(admin, 1.0 / 24);
        var asked = new { database = "berth-plan", @as = "clone", count = 2, hosts = (string[])["hill-h2"], mask = (string[])["hide values"], until, name = "berth-test", everySeconds = (double?)null };
        foreach (var (wrong, member) in new (object, string)[]
        {
            (asked with { hosts = [] }, "hosts"),
            (asked with { hosts = ["nobody"] }, "hosts[0]"),
            (asked with { count = 99 }, "count"),
            (asked with { until = await InAsync(admin, -1) }, "until"),
            (asked with { @as = "mirror" }, "as"),
            (asked with { name = "../x" }, "name"),
            (asked with { everySeconds = 60 }, "everySeconds"),
        })
        {
            Assert.Equal((400, member), Session.Fault(await admin.PostAsync("/api/copies", wrong)));
            Assert.Equal(member, (await admin.PostAsync("/api/copies/worksheet", wrong)).Body.GetProperty("member").GetString());
        }

        var runs = await MadeAsync(admin, asked);
        Assert.Equal(2, runs.Length);
        Assert.Equal((409, "name"), Session.Fault(await admin.PostAsync("/api/copies", asked)));
        foreach (var run in runs)
        {
            var done = await admin.RunIsAsync(run, "done");
            var said = done.GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("kind").GetString() is "mask" or "let-in").ToDictionary(s => s.GetProperty("kind").GetString()!, s => s.GetProperty("note").GetString());
            Assert.EndsWith("values hidden", said["mask"], StringComparison.Ordinal);
            Assert.Contains("from hill-h2: gets in", said["let-in"], StringComparison.Ordinal);
            Assert.Contains("from quay-h1: is kept out", said["let-in"], StringComparison.Ordinal);
            var copy = (await OneAsync(admin, run))!.Value;
            Assert.Equal((true, false, "admin"), (copy.GetProperty("ends").GetBoolean(), copy.GetProperty("pastEnd").GetBoolean(), copy.GetProperty("owner").GetString()));
        }

        // A statement that fails: nothing stands.
        var bad = Assert.Single(await MadeAsync(admin, asked with { count = 1, mask = ["burn it"], name = "berth-bad" }));
        Assert.Contains("burn it", (await admin.RunIsAsync(bad, "failed")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Null(await OneAsync(admin, bad));

        // One is told a day before, and ends on its day; the other got another end.
        Assert.Equal(204, (await admin.PutAsync($"/api/copies/{runs[1]}/until", new JsonObject { ["until"] = await InAsync(admin, 30) })).Status);
        Assert.Equal((400, "until"), Session.Fault(await admin.PutAsync($"/api/copies/{runs[1]}/until", new JsonObject { ["until"] = await InAsync(admin, -1) })));
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from notices where group_key like 'copy|{runs[0]}|%|soon'") == 1, what: () => "its owner is not told");
        await Eventually.Async(async () => await OneAsync(admin, runs[0]) is null, what: () => "it does not end");
        Assert.Equal("its end date", await demo.Server.QueryAsync<string>($"select asked_by from runs where kind = 'removal' and question->>'restored' = '{runs[0]}'"));
        Assert.NotNull(await OneAsync(admin, runs[1]));

        // The other is refreshed under its name: masked again, for its host alone.
        var was = (await OneAsync(admin, runs[1]))!.Value.GetProperty("reached").GetDateTimeOffset();
        var answers = await Task.WhenAll(admin.PostAsync($"/api/copies/{runs[1]}/refresh"), admin.PostAsync($"/api/copies/{runs[1]}/refresh"));
        Assert.Equal([201, 409], answers.Select(a => a.Status).Order());
        var refresh = answers.Single(a => a.Status == 201).Body.GetProperty("ids")[0].GetString()!;
        var steps = (await admin.RunIsAsync(refresh, "done")).GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("state").GetString() == "done").Select(s => s.GetProperty("kind").GetString()).ToArray();
        Assert.Equal(("again", "mask", "let-in"), (steps[0], steps[^2], steps[^1]));
        var fresh = (await OneAsync(admin, runs[1]))!.Value;
        Assert.True(fresh.GetProperty("reached").GetDateTimeOffset() > was);
        Assert.DoesNotContain((await admin.GetAsync("/api/copies")).GetProperty("copies").EnumerateArray(), c => c.GetProperty("run").GetString() == refresh);
        Assert.Equal(200, (await admin.PostAsync($"/api/copies/{runs[1]}/rows", new { query = "count rows" })).Status);
        await admin.RemoveAsync(runs[1]);
    }

    [Fact]
    public async Task A_restore_aside_may_have_an_end_and_is_listed_with_its_owner()
    {
        using var admin = await demo.AdminAsync();
        var asked = new { database = "berth-plan", target = await DemoServer.AgoAsync(admin, 60), instance = "with-an-end", until = await InAsync(admin, 3) };
        Assert.Equal((400, "until"), Session.Fault(await admin.PostAsync("/api/recover", asked with { until = await InAsync(admin, -1) })));
        Assert.Equal((400, "until"), Session.Fault(await admin.PostAsync("/api/recover", new { asked.database, asked.target, asked.until, rehearse = true })));
        var (status, body) = await admin.PostAsync("/api/recover", asked);
        Assert.True(status == 201, body.ToString());
        var run = body.GetProperty("id").GetString()!;
        await admin.RunIsAsync(run, "held");

        // Held it can be asked already; released it stands until its day, and people remove it.
        Assert.Equal(1, (await admin.PostAsync($"/api/copies/{run}/rows", new { query = "count rows" })).Body.GetProperty("rows").GetArrayLength());
        Assert.Equal(204, await admin.DecideAsync(run, "release"));
        await admin.RunIsAsync(run, "done");
        var copy = (await OneAsync(admin, run))!.Value;
        Assert.Equal(("restore", "admin", false), (copy.GetProperty("kind").GetString(), copy.GetProperty("owner").GetString(), copy.GetProperty("ends").GetBoolean()));
        Assert.Equal(JsonValueKind.String, copy.GetProperty("until").ValueKind);
        await admin.RemoveAsync(run);
    }

    [Fact]
    public async Task One_that_people_remove_is_a_finding_past_its_end_and_survives_the_death_of_the_process()
    {
        using var admin = await demo.AdminAsync();
        var run = Assert.Single(await MadeAsync(admin, new { database = "cargo-dangerous", @as = "clone", hosts = (string[])["hill-h2"], until = await InAsync(admin, 1.0 / 24), stays = true, name = "left-over" }));
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from runs where id = '{run}' and started is not null") > 0, what: () => "it does not begin");
        await demo.Server.KillAsync();
        await demo.Server.RunAsync();
        await admin.RunIsAsync(run, "done");
        async Task<bool> FoundAsync() => (await admin.GetAsync("/api/findings?database=cargo-dangerous")).ToString().Contains("copy-past-its-end", StringComparison.Ordinal);
        await Eventually.Async(FoundAsync, what: () => "it is no finding");
        Assert.True((await OneAsync(admin, run))!.Value.GetProperty("pastEnd").GetBoolean());
        await admin.RemoveAsync(run);
        await Eventually.Async(async () => !await FoundAsync(), what: () => "the finding stays");
    }

    [Fact]
    public async Task What_is_left_open_takes_further_log_by_hand_and_on_its_schedule_while_the_process_dies_until_it_is_opened_and_checked()
    {
        using var admin = await demo.AdminAsync();

        // What is looked at is log of the last hours: at the fastest pace a slow machine is hours behind.
        await admin.PaceAsync(60);
        var asked = new { database = "spare-parts", @as = "open-for-log", target = await DemoServer.AgoAsync(admin, 240), until = await InAsync(admin, 30), everySeconds = (double?)null };
        Assert.Equal((400, "everySeconds"), Session.Fault(await admin.PostAsync("/api/copies", asked with { everySeconds = 1 })));
        Assert.Equal((400, "everySeconds"), Session.Fault(await admin.PostAsync("/api/copies", asked with { @as = "view", everySeconds = 600 })));
        Assert.Equal((400, "hosts"), Session.Fault(await admin.PostAsync("/api/copies", new { asked.database, asked.@as, asked.until, hosts = (string[])["hill-h1"] })));
        var run = Assert.Single(await MadeAsync(admin, asked));
        Assert.DoesNotContain((await admin.RunIsAsync(run, "done")).GetProperty("steps").EnumerateArray(), s => s.GetProperty("kind").GetString() is "open" or "check");
        async Task<DateTimeOffset> ReachedAsync() => (await OneAsync(admin, run))!.Value.GetProperty("reached").GetDateTimeOffset();
        async Task<JsonElement> ApplyAsync(object what)
        {
            // The log of that time is taken and copied in time of the world: behind a slow machine it may not be there yet.
            var (status, body) = (0, default(JsonElement));
            await Eventually.Async(async () => ((status, body) = await admin.PostAsync($"/api/copies/{run}/log", what)) is (201, _) || (status, body.GetProperty("code").GetString()) != (409, "no-log"), what: () => body.ToString());
            Assert.True(status == 201, body.ToString());
            return body.GetProperty("ids")[0];
        }

        // It is no proof, nobody asks it, and log is applied up to what is wanted and never back.
        Assert.Equal(0, await demo.Server.QueryAsync<long>($"select count(*) from proofs where run_id = '{run}'"));
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/rows", new { query = "count rows" })));
        var first = await ReachedAsync();
        var to = await DemoServer.AgoAsync(admin, 120);
        Assert.Equal((409, "to"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/log", new { to = await DemoServer.AgoAsync(admin, 0) })));

        await admin.RunIsAsync((await ApplyAsync(new { to })).GetString()!, "done");
        Assert.Equal(DateTimeOffset.Parse(to, System.Globalization.CultureInfo.InvariantCulture), await ReachedAsync());
        Assert.True(await ReachedAsync() > first);
        Assert.Equal((400, "to"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/log", new { to })));

        // Opened while the process dies: checked against what the world says of that instant, held, released.
        var opening = (await ApplyAsync(new { opens = true })).GetString()!;
        await demo.Server.KillAsync();
        await demo.Server.RunAsync();
        var held = await admin.RunIsAsync(opening, "held");
        Assert.Contains(held.GetProperty("steps").EnumerateArray(), s => s.GetProperty("kind").GetString() == "check" && s.GetProperty("note").GetString()!.EndsWith("checks passed", StringComparison.Ordinal));
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync($"/api/copies/{run}/log", new { opens = true })));
        Assert.Equal(204, await admin.DecideAsync(opening, "release"));
        await admin.RunIsAsync(opening, "done");
        Assert.Equal(200, (await admin.PostAsync($"/api/copies/{run}/rows", new { query = "count rows" })).Status);
        await admin.RemoveAsync(run);

        // On a schedule it goes on by itself, and thrown away it is gone.
        run = Assert.Single(await MadeAsync(admin, asked with { everySeconds = 300, target = await DemoServer.AgoAsync(admin, 240) }));
        await admin.RunIsAsync(run, "done");
        var now = DateTimeOffset.Parse(await DemoServer.AgoAsync(admin, 60), System.Globalization.CultureInfo.InvariantCulture);
        await Eventually.Async(async () => await ReachedAsync() > now, what: () => "no log is applied by itself");
        Assert.Equal("its schedule", await demo.Server.QueryAsync<string>($"select min(asked_by) from runs where kind = 'apply-log' and after_id = '{run}'"));
        await Eventually.Async(async () => (await OneAsync(admin, run))!.Value.GetProperty("rounds").GetProperty("underWay").ValueKind == JsonValueKind.Null, what: () => "it is always at it");
        opening = (await ApplyAsync(new { opens = true })).GetString()!;
        await admin.RunIsAsync(opening, "held");
        Assert.Equal(204, await admin.DecideAsync(opening, "throw-away"));
        await admin.RunIsAsync(opening, "done");
        Assert.Null(await OneAsync(admin, run));
    }
}
