using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using NodaTime;
using NodaTime.Text;
using Npgsql;
using Xunit;
using static Imbrek.Server.Tests.Occurrences;

namespace Imbrek.Server.Tests;

/// <summary>What is due becomes a run exactly once, whatever dies; and no set is without its run.</summary>
[Collection("demo")]
public class DispatchTests(DemoServer demo)
{
    [Fact]
    public async Task PostgreSQL_gone_again_and_again_while_much_runs_loses_no_run()
    {
        using var admin = await demo.AdminAsync();
        await admin.PaceAsync(900);
        var begun = await NowAsync(admin);
        for (var cut = 0; cut < 4; cut++)
        {
            var until = await NowAsync(admin) + Duration.FromMinutes(25);
            await Eventually.Async(async () => await NowAsync(admin) > until);
            await demo.Server.ExecuteAsync("select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()");
            await Eventually.Async(async () => (await admin.Http.GetAsync("/api/runs?take=1")).IsSuccessStatusCode);
        }

        // The clock goes on only once the process has found PostgreSQL again.
        var last = await NowAsync(admin) + Duration.FromHours(3);
        await Eventually.Async(async () => await NowAsync(admin) > last);
        await AssertEachOccurrenceRanOnceAsync(demo.Server, admin, begun);
    }

    [Fact]
    public async Task A_saved_plan_is_a_version_in_the_ledger_that_the_world_runs_and_of_two_who_save_one_is_told()
    {
        using var admin = await demo.AdminAsync();
        var (plan, version) = await admin.PlanAsync("reports");
        plan["tasks"]!.AsArray().Add(JsonNode.Parse("""{"id":"often","kind":"full","recurrence":{"words":"every 20 minutes"},"store":"quay-s2","outsideChain":true}"""));
        var saved = await Task.WhenAll(admin.PutAsync($"/api/plans/reports?basedOn={version}", plan), admin.PutAsync($"/api/plans/reports?basedOn={version}", plan));
        Assert.Equal([200, 409], saved.Select(s => s.Status).Order());
        Assert.Equal("changed-meanwhile", saved.Single(s => s.Status == 409).Body.GetProperty("code").GetString());
        Assert.Equal(version + 1, (await admin.PlanAsync("reports")).Version);
        Assert.Equal(1L, await demo.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'plan' and body like '%\"reports\"%\"version\":{version + 1}%'"));
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>("select count(*) from runs where plan = 'reports' and task = 'often' and state = 4") >= 2);
        Assert.True(await demo.Server.QueryAsync<bool>("select bool_and(s.outside_chain) from backup_sets s join runs r on r.set_id = s.id where r.task = 'often'"));

        plan["tasks"]![0]!["store"] = "nowhere";
        var (status, body) = await admin.PutAsync($"/api/plans/reports?basedOn={version + 1}", plan);
        Assert.Equal((400, "tasks[0].store"), (status, body.GetProperty("member").GetString()));
    }

    [Fact]
    public async Task Who_was_told_that_the_world_stands_still_does_not_see_it_go_on()
    {
        using var admin = await demo.AdminAsync();
        for (var i = 0; i < 10; i++)
        {
            await admin.PaceAsync(900);
            var before = await NowAsync(admin);
            await Eventually.Async(async () => await NowAsync(admin) > before);
            await admin.PaceAsync(0);
            var told = await NowAsync(admin);
            for (var look = 0; look < 20; look++)
            {
                Assert.Equal(told, await NowAsync(admin));
            }
        }
    }

    [Fact]
    public async Task A_task_run_now_ends_in_a_set_of_its_own_and_one_that_is_ended_by_hand_leaves_none()
    {
        using var admin = await demo.AdminAsync();
        var asked = new { plan = "counters", task = "full", database = "passes", outsideChain = true };
        var (status, made) = await admin.PostAsync("/api/runs", asked);
        Assert.Equal(201, status);
        var id = made.GetProperty("id").GetString();
        JsonElement run = default;
        await Eventually.Async(async () => (run = (await admin.GetAsync($"/api/runs/{id}")).GetProperty("run")).GetProperty("state").GetString() == "done");
        Assert.Equal("admin", run.GetProperty("askedBy").GetString());

        // It is shown as the backup it is, with what its driver measured.
        var view = await admin.GetAsync($"/api/runs/{id}");
        Assert.Equal((JsonValueKind.Null, JsonValueKind.Null), (view.GetProperty("restore").ValueKind, run.GetProperty("instance").ValueKind));
        Assert.Equal("take", view.GetProperty("steps")[0].GetProperty("kind").GetString());
        Assert.True(view.GetProperty("steps")[0].GetProperty("measuredSeconds").GetDouble() > 0);
        Assert.True(await demo.Server.QueryAsync<bool>($"select outside_chain from backup_sets where database = 'passes' and id = '{run.GetProperty("set").GetString()}'"));

        await admin.PaceAsync(20);
        var (_, second) = await admin.PostAsync("/api/runs", asked);
        var other = second.GetProperty("id").GetString();
        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{other}/cancel")).Status);

        // What it had begun is broken off before it is over.
        JsonElement ended = default;
        await Eventually.Async(async () => (ended = (await admin.GetAsync($"/api/runs/{other}")).GetProperty("run")).GetProperty("ended").ValueKind != JsonValueKind.Null);
        Assert.Equal(("cancelled", JsonValueKind.Null), (ended.GetProperty("state").GetString(), ended.GetProperty("set").ValueKind));
        Assert.Equal(409, (await admin.PostAsync($"/api/runs/{other}/cancel")).Status);

        Assert.Equal((400, "database"), Session.Fault(await admin.PostAsync("/api/runs", asked with { database = "payroll" })));
        Assert.Equal((400, "task"), Session.Fault(await admin.PostAsync("/api/runs", asked with { task = "snapshot" })));
        Assert.Equal((400, "plan"), Session.Fault(await admin.PostAsync("/api/runs", asked with { plan = "none" })));
        Assert.Equal((400, "at"), Session.Fault(await admin.PostAsync("/api/runs", new { plan = "counters", task = "full", database = "passes", at = await DemoServer.AgoAsync(admin, 60) })));
    }

    [Fact]
    public async Task Failures_of_one_store_are_one_message_and_the_first_success_after_is_told()
    {
        using var admin = await demo.AdminAsync();
        await admin.PostAsync("/api/world/store-full", new { store = "quay-s2", full = true });
        async Task<JsonElement[]> MailAsync() => [.. (await admin.GetAsync("/api/notices?to=database-team")).EnumerateArray()];
        JsonElement mail = default;
        await Eventually.Async(async () =>
        {
            mail = (await MailAsync()).FirstOrDefault(n => n.GetProperty("subject").GetString()!.Contains("store quay-s2 is full", StringComparison.Ordinal));
            return mail.ValueKind == JsonValueKind.Object && mail.GetProperty("count").GetInt32() > 20;
        });
        Assert.True(mail.GetProperty("databases").GetArrayLength() > 5);
        Assert.Single(await MailAsync(), n => n.GetProperty("subject").GetString()!.Contains("store quay-s2 is full", StringComparison.Ordinal));
        JsonElement[] received = [];
        await Eventually.Async(async () =>
            (received = [.. (await admin.GetAsync("/api/webhook-receiver")).EnumerateArray().Where(r => r.GetProperty("subject").GetString()!.Contains("store quay-s2 is full", StringComparison.Ordinal))]).Length > 0);
        Assert.InRange(received.Length, 1, 3);
        Assert.Contains(received[0].GetProperty("people").EnumerateArray(), p => p.GetString() == "database-team");
        await admin.PostAsync("/api/world/store-full", new { store = "quay-s2", full = false });
        await Eventually.Async(async () => (await MailAsync()).Any(n => n.GetProperty("kind").GetString() == "works again"));
    }

    [Fact]
    public async Task A_backup_that_hangs_is_found_and_told_and_ends_by_hand()
    {
        using var admin = await demo.AdminAsync();
        Assert.Equal(204, (await admin.PostAsync("/api/world/hang", new { database = "payroll", hangs = true })).Status);
        async Task<JsonElement[]> RunningAsync() => [.. (await admin.GetAsync("/api/runs?database=payroll&state=running")).GetProperty("runs").EnumerateArray()];
        JsonElement[] findings = [];
        await Eventually.Async(
            async () => (findings = [.. (await admin.GetAsync("/api/findings?database=payroll")).GetProperty("rows").EnumerateArray().Where(f => f.GetProperty("code").GetString() == "does-not-end")]).Length > 0,
            what: () => "does-not-end");
        Assert.Contains("alone it takes", findings[0].GetProperty("what").GetString(), StringComparison.Ordinal);
        await Eventually.Async(async () => (await admin.GetAsync("/api/notices?to=people-office")).EnumerateArray().Any(n => n.GetProperty("kind").GetString() == "late"), what: () => "late");
        Assert.Equal(204, (await admin.PostAsync("/api/world/hang", new { database = "payroll", hangs = false })).Status);
        foreach (var run in await RunningAsync())
        {
            await admin.PostAsync($"/api/runs/{run.GetProperty("id").GetString()}/cancel");
        }

        await Eventually.Async(async () => (await admin.GetAsync("/api/findings?database=payroll")).GetProperty("rows").EnumerateArray().All(f => f.GetProperty("code").GetString() != "does-not-end"));
        var now = await NowAsync(admin);
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from runs where database = 'payroll' and task = 'log' and state = 4 and due > '{Instants.Write(now)}'") > 0);
    }

    [Fact]
    public async Task During_a_pause_nothing_of_its_scope_starts_and_afterwards_one_run_makes_up()
    {
        using var admin = await demo.AdminAsync();
        var (status, pause) = await admin.PostAsync("/api/pauses", new { database = "gate-scans", reason = "test of a pause" });
        Assert.Equal(201, status);
        var from = await NowAsync(admin);
        await Eventually.Async(async () => await NowAsync(admin) > from + Duration.FromMinutes(20));
        Assert.Equal(204, (await admin.PostAsync($"/api/pauses/{pause.GetProperty("id").GetInt32()}/end")).Status);
        var to = await NowAsync(admin);
        Assert.Equal(0L, await demo.Server.QueryAsync<long>($"select count(*) from runs where database = 'gate-scans' and task = 'log' and started > '{Instants.Write(from)}' and started < '{Instants.Write(to - Duration.FromMinutes(1))}'"));
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from runs where database = 'gate-scans' and task = 'log' and state = 6 and due > '{Instants.Write(from)}'") >= 8);
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>($"select count(*) from runs where database = 'gate-scans' and task = 'log' and state = 4 and due > '{Instants.Write(to)}'") > 0);
        Assert.Equal(400, (await admin.PostAsync("/api/pauses", new { database = "nobody", reason = "x" })).Status);
    }

    [Fact]
    public async Task The_runs_are_paged_without_a_hole_and_filtered()
    {
        using var look = await Session.SignInAsync(demo.Server.Url, "look");
        var seen = new HashSet<string>();
        string? before = null;
        for (var page = 0; page < 5; page++)
        {
            var answer = await look.GetAsync($"/api/runs?database=tickets&to={await DemoServer.AgoAsync(look, 600)}&take=50{(before is null ? "" : $"&before={Uri.EscapeDataString(before)}")}");
            foreach (var r in answer.GetProperty("runs").EnumerateArray())
            {
                Assert.True(seen.Add(r.GetProperty("id").GetString()!));
                Assert.Equal("tickets", r.GetProperty("database").GetString());
            }

            before = answer.GetProperty("next").GetString();
        }

        Assert.Equal(250, seen.Count);
        JsonElement[] failed = [.. (await look.GetAsync("/api/runs?state=failed&kind=export&take=200")).GetProperty("runs").EnumerateArray()];
        Assert.Contains(failed, r => r.GetProperty("database").GetString() == "notice-archive");
        Assert.All(failed, r => Assert.Equal(("failed", "export"), (r.GetProperty("state").GetString(), r.GetProperty("kind").GetString())));
        await Assert.ThrowsAsync<InvalidOperationException>(() => look.GetAsync("/api/runs?state=gone"));
    }

    [Fact]
    public async Task Consequences_follow_an_edit_and_nothing_is_saved()
    {
        using var look = await Session.SignInAsync(demo.Server.Url, "look");
        var (plan, version) = await look.PlanAsync("counters");
        async Task<double> WorstAsync()
        {
            var answer = await look.PostAsync("/api/consequences", plan);
            Assert.Equal(200, answer.Status);
            return answer.Body.GetProperty("losses")[0].GetProperty("worstExposureSeconds").GetDouble();
        }

        Assert.InRange(await WorstAsync(), 300, 320);
        plan["tasks"]!.AsArray().Single(t => (string?)t!["kind"] == "log")!["recurrence"] = JsonNode.Parse("""{"words":"every 15 minutes"}""");
        Assert.InRange(await WorstAsync(), 900, 930);
        Assert.Equal(version, (await look.PlanAsync("counters")).Version);
    }
}
