using System.Net;
using System.Text.Json;
using System.Text.Json.Nodes;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Plans over HTTP: versions, what they would come to, the timetable, pauses; and what is refused.</summary>
[Collection("demo")]
public class PlanTests(DemoServer demo)
{
    private static JsonObject Tried(string id, string log = "every 15 minutes") => JsonNode.Parse(
        $$$"""
        {"id":"{{{id}}}","name":"Tried","members":{"databases":["paint-shop"]},"tasks":[
          {"id":"full","kind":"full","recurrence":{"words":"Sundays 01:00"},"store":"quay-s2","copyTo":["hill-s1"],"keep":{"forSeconds":2419200}},
          {"id":"log","kind":"log","recurrence":{"words":"{{{log}}}"},"store":"quay-s2","copyTo":["hill-s1"],"keep":{"forSeconds":1209600}},
          {"id":"read back","kind":"verify","recurrence":{"words":"Wednesdays 13:00"}},
          {"id":"clean up","kind":"cleanUp","after":[{"task":"read back","on":"always"}]}]}
        """)!.AsObject();

    [Fact]
    public async Task Locking_copies_for_less_time_waits_for_a_second_person_who_sees_what_is_at_stake()
    {
        using var plan = await demo.StillAsync("plan");
        using var approve = await Session.SignInAsync(demo.Server.Url, "approve");
        JsonObject Locked(string id, int days)
        {
            var tried = Tried(id);
            tried["tasks"]![0]!["copyTo"] = new JsonArray("north-o1");
            tried["tasks"]![0]!["lockSeconds"] = days * 86_400;
            return tried;
        }

        Assert.Equal(1, (await plan.PutAsync("/api/plans/locked?basedOn=0", Locked("locked", 10))).Body.GetProperty("version").GetInt32());
        Assert.Equal(2, (await plan.PutAsync("/api/plans/locked?basedOn=1", Locked("locked", 20))).Body.GetProperty("version").GetInt32());

        // Less: nothing is kept, and who asked cannot agree.
        var asked = (await plan.PutAsync("/api/plans/locked?basedOn=2", Locked("locked", 5))).Body;
        Assert.False(asked.TryGetProperty("version", out var none) && none.ValueKind != JsonValueKind.Null);
        var id = asked.GetProperty("waitsFor").GetString()!;
        var run = await plan.RunIsAsync(id, "held");
        var step = Assert.Single(run.GetProperty("steps").EnumerateArray());
        Assert.Contains("copies of full of 1 database are locked for 20 d now, and for 5 d from then on", step.GetProperty("title").GetString(), StringComparison.Ordinal);
        Assert.Equal(403, (await plan.PostAsync($"/api/runs/{id}/approve", new { step = 1, choice = "approve" })).Status);
        Assert.Equal(409, (await plan.PutAsync("/api/plans/locked?basedOn=2", Locked("locked", 4))).Status);
        Assert.Equal(2, (await plan.GetAsync("/api/plans/locked")).GetProperty("version").GetInt32());

        // Refused with a reason it stays as it is; agreed to it is the next version, by who asked.
        Assert.Equal(204, (await approve.PostAsync($"/api/runs/{id}/approve", new { step = 1, choice = "refuse", why = "the audit asks for twenty" })).Status);
        Assert.Contains("the audit asks for twenty", (await plan.RunIsAsync(id, "failed")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal(2, (await plan.GetAsync("/api/plans/locked")).GetProperty("version").GetInt32());
        id = (await plan.PutAsync("/api/plans/locked?basedOn=2", Locked("locked", 5))).Body.GetProperty("waitsFor").GetString()!;
        await plan.RunIsAsync(id, "held");
        Assert.Equal(204, (await approve.PostAsync($"/api/runs/{id}/approve", new { step = 1, choice = "approve" })).Status);
        Assert.Equal("version 3 of Tried is kept", (await plan.RunIsAsync(id, "done")).GetProperty("run").GetProperty("note").GetString());
        var kept = await plan.GetAsync("/api/plans/locked");
        Assert.Equal((3, "plan", 5 * 86_400), (kept.GetProperty("version").GetInt32(), kept.GetProperty("versions")[0].GetProperty("who").GetString(), kept.GetProperty("plan").GetProperty("tasks")[0].GetProperty("lockSeconds").GetInt32()));

        // So is removing it; who comes late is told.
        id = (await plan.Http.DeleteAsync("/api/plans/locked?basedOn=3")) is { IsSuccessStatusCode: true } answer ? JsonNode.Parse(await answer.Content.ReadAsStringAsync())!["waitsFor"]!.ToString() : "";
        await plan.RunIsAsync(id, "held");
        Assert.Equal(4, (await plan.PutAsync("/api/plans/locked?basedOn=3", Locked("locked", 6))).Body.GetProperty("version").GetInt32());
        Assert.Equal(204, (await approve.PostAsync($"/api/runs/{id}/approve", new { step = 1, choice = "approve" })).Status);
        Assert.Contains("somebody saved Tried meanwhile", (await plan.RunIsAsync(id, "failed")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal(4, (await plan.GetAsync("/api/plans/locked")).GetProperty("version").GetInt32());
    }

    [Fact]
    public async Task Each_save_is_a_version_with_what_changed_and_any_two_stand_side_by_side()
    {
        using var plan = await demo.StillAsync("plan");
        Assert.Equal(200, (await plan.PutAsync("/api/plans/tried?basedOn=0", Tried("tried"))).Status);
        Assert.Equal(2, (await plan.PutAsync("/api/plans/tried?basedOn=1", Tried("tried", "every 5 minutes"))).Body.GetProperty("version").GetInt32());

        var view = await plan.GetAsync("/api/plans/tried");
        var versions = view.GetProperty("versions").EnumerateArray().ToArray();
        Assert.Equal([2, 1], versions.Select(v => v.GetProperty("number").GetInt32()));
        Assert.All(versions, v => Assert.Equal("plan", v.GetProperty("who").GetString()));
        var change = Assert.Single(versions[0].GetProperty("changes").EnumerateArray());
        Assert.Equal("tasks.log.recurrence.rule", change.GetProperty("member").GetString());
        Assert.Empty(versions[1].GetProperty("changes").EnumerateArray());
        Assert.Equal("every 5 minutes", view.GetProperty("words").GetProperty("log").GetString());

        var beside = await plan.GetAsync("/api/plan-comparison?left=tried&leftVersion=1&right=tried");
        Assert.Equal((1, 2), (beside.GetProperty("left").GetProperty("version").GetInt32(), beside.GetProperty("right").GetProperty("version").GetInt32()));
        Assert.Equal("every 15 minutes", beside.GetProperty("left").GetProperty("words").GetProperty("log").GetString());
        Assert.Equal(change.GetRawText(), Assert.Single(beside.GetProperty("differences").EnumerateArray()).GetRawText());
        Assert.NotEmpty((await plan.GetAsync("/api/plan-comparison?left=tried&right=gates")).GetProperty("differences").EnumerateArray());
        Assert.Equal(HttpStatusCode.NotFound, (await plan.Http.GetAsync("/api/plan-comparison?left=tried&right=tried&rightVersion=9")).StatusCode);
        Assert.Equal(HttpStatusCode.NotFound, (await plan.Http.GetAsync("/api/plan-comparison?left=none&right=tried")).StatusCode);

        Assert.Equal(HttpStatusCode.Conflict, (await plan.Http.DeleteAsync("/api/plans/tried?basedOn=1")).StatusCode);
        Assert.Equal(HttpStatusCode.OK, (await plan.Http.DeleteAsync("/api/plans/tried?basedOn=2")).StatusCode);
        Assert.Equal(HttpStatusCode.NotFound, (await plan.Http.GetAsync("/api/plans/tried")).StatusCode);
        Assert.Equal(2L, await demo.Server.QueryAsync<long>("select count(*) from ledger where kind = 'plan' and body like '%\"tried\"%'"));
        Assert.Equal(1L, await demo.Server.QueryAsync<long>("select count(*) from ledger where kind = 'plan-removed' and body like '%\"tried\"%'"));
    }

    [Theory]
    [InlineData("id", "\"other\"", "id")]
    [InlineData("tasks.0.store", "\"nowhere\"", "tasks[0].store")]
    [InlineData("tasks.0.copyTo.0", "\"nowhere\"", "tasks[0].copyTo")]
    [InlineData("tasks.1.recurrence.words", "\"now and then\"", "tasks[1].recurrence.words")]
    [InlineData("tasks.3.after.0.task", "\"nothing\"", "tasks[3].after")]
    [InlineData("members.databases.0", "\"nobody\"", "members.databases")]
    [InlineData("tasks.1.keep.forSeconds", "-1", "tasks[1].keep.forSeconds")]
    public async Task A_wrong_plan_is_refused_whole_and_names_the_member(string path, string value, string member)
    {
        using var plan = await demo.StillAsync("plan");
        var wrong = Tried("wrong");
        var names = path.Split('.');
        JsonNode at = wrong;
        foreach (var name in names[..^1])
        {
            at = int.TryParse(name, out var i) ? at[i]! : at[name]!;
        }

        if (int.TryParse(names[^1], out var index))
        {
            at[index] = JsonNode.Parse(value);
        }
        else
        {
            at[names[^1]] = JsonNode.Parse(value);
        }

        Assert.Equal((400, member), Session.Fault(await plan.PutAsync("/api/plans/wrong?basedOn=0", wrong)));
        Assert.Equal(HttpStatusCode.NotFound, (await plan.Http.GetAsync("/api/plans/wrong")).StatusCode);
        Assert.Equal(0L, await demo.Server.QueryAsync<long>("select count(*) from plan_versions where plan = 'wrong'"));
    }

    [Fact]
    public async Task What_clean_up_would_remove_is_previewed_for_any_rule_and_nothing_is_touched()
    {
        using var look = await demo.StillAsync("look");
        var (plan, _) = await look.PlanAsync("offices");
        var copies = $"select count(*) from backup_copies where database = 'ticket-refunds' and removed_at is null";
        async Task<JsonElement> PreviewAsync()
        {
            var (status, body) = await look.PostAsync("/api/retention", new { plan, database = "ticket-refunds", days = 20 });
            Assert.Equal(200, status);
            return body;
        }

        var before = await demo.Server.QueryAsync<long>(copies);
        var asItIs = await PreviewAsync();
        Assert.InRange(asItIs.GetProperty("copiesNow").GetInt32(), before - 5, before + 400);
        foreach (var task in plan["tasks"]!.AsArray().Where(t => (string?)t!["kind"] is "full" or "differential" or "log"))
        {
            task!["keep"] = JsonNode.Parse("""{"forSeconds":86400}""");
        }

        var shorter = await PreviewAsync();
        Assert.True(shorter.GetProperty("copiesGo").GetInt32() > asItIs.GetProperty("copiesGo").GetInt32());
        Assert.True(shorter.GetProperty("freedBytes").GetInt64() > 0);
        Assert.Equal(20 + 1, shorter.GetProperty("days").GetArrayLength());
        Assert.All(shorter.GetProperty("copies").EnumerateArray(), c => Assert.NotEqual("", c.GetProperty("reason").GetString()));

        // How far back one could go afterwards lies within how far back one can go now.
        string First(string span) => shorter.GetProperty(span)[0].GetProperty("from").GetString()!;
        Assert.True(string.CompareOrdinal(First("after"), First("before")) >= 0);
        Assert.True(await demo.Server.QueryAsync<long>(copies) >= before - 5);
        Assert.Equal(400, (await look.PostAsync("/api/retention", new { plan = new { }, database = "ticket-refunds" })).Status);
    }

    [Fact]
    public async Task Chances_are_of_both_ends_of_the_plan_and_between_none_and_certain()
    {
        using var look = await demo.StillAsync("look");
        var (plan, _) = await look.PlanAsync("workshop");
        var (status, body) = await look.PostAsync("/api/chances", plan);
        Assert.Equal((200, 40), (status, body.GetProperty("weeks").GetInt32()));
        Assert.InRange(body.GetProperty("failureShare").GetDouble(), 0, 0.5);
        var chances = body.GetProperty("chances").EnumerateArray().ToArray();
        Assert.Equal(2, chances.Select(c => c.GetProperty("database").GetString()).Distinct().Count());
        Assert.All(chances, c => Assert.InRange(c.GetProperty("keepsRpoForMonth").GetDouble(), 0, 1));

        // Against the site, where all its copies lie, nothing is kept and nothing can be had back.
        Assert.All(chances, c => Assert.True(c.GetProperty("exposure95Seconds").ValueKind == JsonValueKind.Null ? c.GetProperty("keepsRpoForMonth").GetDouble() == 0 : c.GetProperty("exposure95Seconds").GetDouble() >= 1800));
    }

    [Fact]
    public async Task Ways_are_compared_for_the_store_named_and_an_unknown_one_is_refused()
    {
        using var look = await demo.StillAsync("look");
        var near = (await look.GetAsync("/api/databases/tickets/ways?store=quay-s2")).EnumerateArray().ToArray();
        var far = (await look.GetAsync("/api/databases/tickets/ways?store=north-o1")).EnumerateArray().ToArray();
        Assert.Equal(near.Select(w => w.GetProperty("name").GetString()), far.Select(w => w.GetProperty("name").GetString()));
        Assert.True(near.Length >= 3);
        Assert.All(near.Zip(far), w => Assert.True(w.First.GetProperty("takeSeconds").GetDouble() <= w.Second.GetProperty("takeSeconds").GetDouble()));
        Assert.Equal(HttpStatusCode.BadRequest, (await look.Http.GetAsync("/api/databases/tickets/ways?store=none")).StatusCode);
        Assert.Equal(HttpStatusCode.NotFound, (await look.Http.GetAsync("/api/databases/none/ways")).StatusCode);
    }

    [Fact]
    public async Task Figures_are_designed_also_for_a_loss_that_nobody_agreed()
    {
        using var look = await demo.StillAsync("look");
        string[] Kinds(JsonElement plan) => [.. plan.GetProperty("figures").EnumerateArray().Select(f => f.GetProperty("kind").GetString()!)];
        var agreed = Kinds(await look.GetAsync("/api/databases/payroll/plan"));
        var named = Kinds(await look.GetAsync("/api/databases/tickets/plan"));
        Assert.DoesNotContain("hostile", named);
        string[] withHostile = [.. named, "hostile"];
        Assert.Equal(withHostile, Kinds(await look.GetAsync("/api/databases/tickets/plan?loss=hostile")));
        Assert.Equal(agreed.Order(), Kinds(await look.GetAsync($"/api/databases/payroll/plan?loss={agreed[^1]}")).Order());
        var row = (await look.GetAsync("/api/fleet?loss=hostile&find=payroll")).GetProperty("rows")[0];
        Assert.True(row.GetProperty("designedWorstSeconds").GetDouble() > 0);
    }

    [Fact]
    public async Task The_calendar_has_each_series_with_its_rule_and_zone()
    {
        using var look = await demo.StillAsync("look");
        async Task<string[]> EventsAsync(string query) => (await look.Http.GetStringAsync($"/api/timetable.ics{query}")).Split("BEGIN:VEVENT")[1..];
        var all = await EventsAsync("");
        var gates = await EventsAsync("?plan=gates");
        Assert.True(all.Length > 100);
        Assert.All(all, e => Assert.Matches(@"DTSTART(;TZID=Europe/[A-Za-z]+)?:\d{8}T\d{6}", e));
        Assert.All(all, e => Assert.Matches("RRULE:FREQ=|RDATE", e));

        // Full, log and read back of each of its two databases.
        Assert.Equal(6, gates.Length);
        Assert.Equal(3, (await EventsAsync("?plan=gates&database=gate-scans")).Length);
    }

    [Fact]
    public async Task The_timetable_shows_what_was_and_what_will_be_and_what_somebody_asked_for()
    {
        using var admin = await demo.AdminAsync();
        await admin.PaceAsync(1);
        var from = await DemoServer.AgoAsync(admin, 24 * 60);
        var to = await DemoServer.AgoAsync(admin, -24 * 60);
        var at = await DemoServer.AgoAsync(admin, -6 * 60);
        var (_, made) = await admin.PostAsync("/api/runs", new { plan = "counters", task = "full", database = "tickets", outsideChain = true, at });
        var table = await admin.GetAsync($"/api/timetable?from={from}&to={to}");
        var now = table.GetProperty("now").GetDateTimeOffset();
        var runs = table.GetProperty("runs").EnumerateArray().ToArray();
        Assert.Contains(runs, r => r.GetProperty("actual").GetBoolean());
        Assert.Contains(runs, r => r.GetProperty("state").GetString() == "expected");
        Assert.All(runs, r => Assert.True(r.GetProperty("actual").GetBoolean() ? r.GetProperty("from").GetDateTimeOffset() <= now : r.GetProperty("due").GetDateTimeOffset() >= now));

        // What reads sets stands in the lane of the store it reads, as its load does.
        var week = (await admin.GetAsync($"/api/timetable?from={await DemoServer.AgoAsync(admin, 8 * 24 * 60)}&to={at}")).GetProperty("runs").EnumerateArray().ToArray();
        Assert.All(week.Where(r => r.GetProperty("kind").GetString() is "verify" or "testRestore" or "copyElsewhere"), r => Assert.Equal(JsonValueKind.String, r.GetProperty("store").ValueKind));
        Assert.Contains(week, r => r.GetProperty("kind").GetString() == "verify");
        var asked = Assert.Single(runs, r => r.GetProperty("state").GetString() == "asked");
        Assert.Equal(made.GetProperty("id").GetString(), asked.GetProperty("run").GetString());
        Assert.True(asked.GetProperty("to").GetDateTimeOffset() > asked.GetProperty("from").GetDateTimeOffset().AddSeconds(30));
        Assert.All(table.GetProperty("loads").EnumerateArray(), l =>
            Assert.True(l.GetProperty("bytesPerSecond").EnumerateArray().Max(b => b.GetDouble()) <= l.GetProperty("capacityBytesPerSecond").GetDouble() * 1.000001, l.GetProperty("place").GetString()));
        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{asked.GetProperty("run").GetString()}/cancel")).Status);
        foreach (var wrong in new[] { $"from={to}&to={from}", $"from={from}&to=2030-01-01T00:00:00Z" })
        {
            Assert.Equal(HttpStatusCode.BadRequest, (await admin.Http.GetAsync($"/api/timetable?{wrong}")).StatusCode);
        }
    }

    [Fact]
    public async Task Moves_are_measured_before_they_are_saved_and_wrong_ones_are_named()
    {
        using var plan = await demo.StillAsync("plan");
        var move = new { plan = "exports", task = "export", database = "passenger-counts", fromSeconds = 0.0, toSeconds = 7200.0 };
        var (status, measured) = await plan.PostAsync("/api/timetable/measure", new { moves = new[] { move } });
        Assert.Equal(200, status);
        Assert.True(measured.GetProperty("after").GetProperty("waitingSeconds").GetDouble() < measured.GetProperty("before").GetProperty("waitingSeconds").GetDouble());
        var (_, version) = await plan.PlanAsync("exports");
        foreach (var (wrong, member) in new[]
        {
            (move with { plan = "none" }, "moves[0].plan"), (move with { task = "none" }, "moves[0].task"), (move with { database = "tickets" }, "moves[0].database"),
            (move with { toSeconds = -1 }, "moves[0].toSeconds"), (move with { toSeconds = 1e9 }, "moves[0].toSeconds"),
        })
        {
            Assert.Equal((400, member), Session.Fault(await plan.PostAsync("/api/timetable/accept", new { moves = new[] { wrong } })));
        }

        Assert.Equal((400, "moves"), Session.Fault(await plan.PostAsync("/api/timetable/accept", new { moves = Array.Empty<object>() })));
        Assert.Equal(version, (await plan.PlanAsync("exports")).Version);
    }

    [Theory]
    [InlineData("every 15 minutes", "FREQ=MINUTELY;INTERVAL=15", "every 15 minutes")]
    [InlineData("Saturdays 23:30", "FREQ=WEEKLY;BYDAY=SA", "Saturdays 23:30")]
    [InlineData("last Friday of the month 22:00", "FREQ=MONTHLY;BYDAY=-1FR", "last Friday of the month 22:00")]
    public async Task Words_are_understood_said_back_and_followed_by_the_next_ten(string words, string rule, string said)
    {
        using var look = await demo.StillAsync("look");
        var view = await look.GetAsync($"/api/words?text={Uri.EscapeDataString(words)}&zone=Europe/Oslo");
        Assert.StartsWith(rule, view.GetProperty("rule").GetString(), StringComparison.Ordinal);
        Assert.Equal(said, view.GetProperty("said").GetString());
        var next = view.GetProperty("next").EnumerateArray().Select(n => n.GetString()!).ToArray();
        Assert.Equal(10, next.Distinct().Count());
        Assert.Equal(next.Order(StringComparer.Ordinal), next);
        Assert.Equal(HttpStatusCode.BadRequest, (await look.Http.GetAsync($"/api/words?text=daily&zone=Mars/Olympus")).StatusCode);
        var skips = await look.GetAsync("/api/words?text=daily+01:30&zone=Europe/Oslo&from=2027-01-01&except=2027-01-02,2027-01-04T01:30:00");
        Assert.Equal(["2027-01-01T00:30:00Z", "2027-01-03T00:30:00Z", "2027-01-05T00:30:00Z"], skips.GetProperty("next").EnumerateArray().Take(3).Select(n => n.GetString()));
        Assert.Contains("\"member\":\"except\"", await (await look.Http.GetAsync("/api/words?text=daily+01:30&except=Christmas")).Content.ReadAsStringAsync(), StringComparison.Ordinal);
        Assert.NotNull((await look.GetAsync("/api/words?text=now+and+then")).GetProperty("error").GetString());
    }

    [Fact]
    public async Task A_wrong_pause_names_what_is_wrong()
    {
        using var operate = await demo.StillAsync("operate");
        var at = await DemoServer.AgoAsync(operate, 0);
        Assert.Equal((400, "plan"), Session.Fault(await operate.PostAsync("/api/pauses", new { plan = "none", reason = "x" })));
        Assert.Equal((400, "host"), Session.Fault(await operate.PostAsync("/api/pauses", new { host = "none", reason = "x" })));
        Assert.Equal((400, "store"), Session.Fault(await operate.PostAsync("/api/pauses", new { store = "none", reason = "x" })));
        Assert.Equal((400, "reason"), Session.Fault(await operate.PostAsync("/api/pauses", new { database = "tickets", reason = " " })));
        Assert.Equal((400, "to"), Session.Fault(await operate.PostAsync("/api/pauses", new { database = "tickets", reason = "x", from = at, to = at })));
        Assert.Equal((404, "number"), Session.Fault(await operate.PostAsync("/api/pauses/999999/end")));
    }

    [Fact]
    public async Task Plans_and_pauses_set_through_another_process_are_in_force_in_the_one_that_runs_the_world()
    {
        await using var first = await ServerProcess.StartAsync(demo: true, days: 2);
        await using var second = await first.StartPeerAsync();
        using var leader = await Session.SignInAsync(first.Url, "admin");
        using var other = await Session.SignInAsync(second.Url, "admin");
        await leader.PaceAsync(150);
        Assert.Equal(409, (await other.PostAsync("/api/world/pace", new { pace = 1 })).Status);
        Assert.Equal(200, (await other.PutAsync("/api/plans/through?basedOn=0", Tried("through", "every 5 minutes"))).Status);
        Task<long> LogsAsync(string and) => first.QueryAsync<long>($"select count(*) from runs where plan = 'through' and task = 'log' {and}");
        await Eventually.Async(async () => await LogsAsync("") >= 3, what: () => "runs of the new plan");

        var (status, pause) = await other.PostAsync("/api/pauses", new { plan = "through", reason = "through another process" });
        Assert.Equal(201, status);
        await Eventually.Async(async () => await LogsAsync("and state in (0, 6) and note like '%pause%'") >= 2, what: () => "held back by the pause");
        Assert.Equal(204, (await other.PostAsync($"/api/pauses/{pause.GetProperty("id").GetInt32()}/end")).Status);
        var held = await LogsAsync("and state in (4, 5)");
        await Eventually.Async(async () => await LogsAsync("and state in (4, 5)") > held, what: () => "going on after the pause");

        // Asked of one, done by the other; and its trouble is known to both.
        var (_, run) = await other.PostAsync("/api/runs", new { plan = "through", task = "full", database = "paint-shop", outsideChain = false });
        await Eventually.Async(async () => (await leader.GetAsync($"/api/runs/{run.GetProperty("id").GetString()}")).GetProperty("run").GetProperty("state").GetString() == "done");
        await Eventually.Async(async () => (await other.GetAsync("/api/databases/paint-shop")).GetProperty("sets").GetInt32() > 0);
        await leader.PostAsync("/api/world/store-full", new { store = "quay-s2", full = true });
        foreach (var session in (Session[])[leader, other])
        {
            await Eventually.Async(
                async () => (await session.GetAsync("/api/findings?database=paint-shop")).GetProperty("rows").EnumerateArray().Any(f => f.GetProperty("code").GetString() == "keeps-failing"),
                what: () => "what keeps failing is found by both");
        }
    }
}
