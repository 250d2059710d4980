using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Server.Features.Runs.RemoveReplica;
using NodaTime;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>What is done with replicas, on the real process and in its world: each action is a run, and what it measured is there.</summary>
[Collection("ways")]
public class ReplicaRunTests(WaysServer demo)
{
    [Fact]
    public void Ending_the_last_way_back_from_a_loss_needs_a_second_person_and_another_does_not()
    {
        var now = Instant.FromUtc(2026, 3, 2, 12, 0);
        var replica = new Replica { Id = new("far"), Database = new("d"), Place = new ReplicaPlace.OnHost(new("h2")), Mode = ReplicaMode.Async };
        var d = new Core.Fleet.Database { Id = new("d"), Name = "D", Engine = new("e"), Host = new("h1"), SizeBytes = 1_000 };
        var fleet = new FleetModel(
            [new(new("a"), "A", "UTC"), new(new("b"), "B", "UTC")], [new(new("a"), new("b"), 1e8, 1)], [], [new(new("h1"), new("a"), null, 1e8, null, [], [], []), new(new("h2"), new("b"), null, 1e8, null, [], [], [])], [new(new("s1"), new("b"), null, null, false, 1e8, 1e8)], [new(new("e"), "E", 30, 1, 1e8, 1e7, 1e7, 10)], [], [], [d], [replica], []);
        var lag = new LagHistory(replica.Id, [new(replica.Id, 1, now - Duration.FromHours(1), now, Duration.Zero, Duration.Zero, Duration.Zero, 0, null)]);
        var full = new BackupSet { Id = new("full"), Database = d.Id, Kind = SetKind.Full, ToPosition = 5, CoversTo = now - Duration.FromDays(1), FinishedAt = now - Duration.FromDays(1), DataBytes = 1_000, Copies = [new BackupCopy(new("s1"), now - Duration.FromDays(1), null, null, 400, CopyState.Good)] };
        bool Asks(params BackupSet[] sets) => RemoveReplicaKind.Plan(RecoverySubject.Of(fleet, d, new DatabaseCatalogue(d.Id, sets).WithLag([lag])), replica, now).Plan.Steps.Any(s => s.NeedsApproval);
        Assert.True(Asks());
        Assert.False(Asks(full));
    }

    private static async Task<string> BeginAsync(Session session, string path, object body)
    {
        var (status, answer) = await session.PostAsync(path, body);
        return status == 201 ? answer.GetProperty("id").GetString()! : throw new InvalidOperationException($"{path}: {status} {answer}");
    }

    private static async Task<JsonElement> RowAsync(Session session, string replica) => (await session.GetAsync($"/api/replicas/{replica}")).GetProperty("row");

    private static async Task<string> StateAsync(Session session, string replica) => (await RowAsync(session, replica)).GetProperty("state").GetString()!;

    private static string Text(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture);

    private static string? NoteOf(JsonElement run) => run.GetProperty("run").GetProperty("note").GetString();

    private static JsonElement Step(JsonElement run, string kind) => run.GetProperty("steps").EnumerateArray().Last(s => s.GetProperty("kind").GetString() == kind);

    [Fact]
    public async Task One_that_is_held_receives_nothing_until_it_is_resumed_and_all_of_a_group_are_held_together()
    {
        using var admin = await demo.AdminAsync();
        await admin.ReplicaIsAsync("crew-roster-volume", "inStep");
        await admin.RunIsAsync(await BeginAsync(admin, "/api/replicas/crew-roster-volume/hold", new { group = true }), "done");
        await admin.ReplicaIsAsync("crew-certificates-volume", "held");
        Assert.Equal("admin", (await RowAsync(admin, "crew-roster-volume")).GetProperty("heldByPerson").GetString());
        await Eventually.Async(async () => (await RowAsync(admin, "crew-roster-volume")).GetProperty("receivedLagSeconds").GetDouble() > 300, what: () => "it still receives");
        var run = await admin.RunIsAsync(await BeginAsync(admin, "/api/replicas/crew-roster-volume/resume", new { group = true }), "done");
        Assert.Equal(2, run.GetProperty("steps").GetArrayLength());
        await admin.ReplicaIsAsync("crew-roster-volume", "inStep");
    }

    [Fact]
    public async Task Log_is_shipped_by_tasks_of_a_plan_one_after_the_other_and_a_pause_of_them_is_seen_in_its_lag()
    {
        using var admin = await demo.AdminAsync();
        async Task<double> LagAsync() => (await RowAsync(admin, "web-bookings-shipped")).GetProperty("receivedLagSeconds").GetDouble();
        await admin.ReplicaIsAsync("web-bookings-shipped", "inStep");
        var (status, pause) = await admin.PostAsync("/api/pauses", new { plan = "shipping", reason = "test of shipping" });
        Assert.True(status == 201, pause.ToString());
        var stopped = await demo.Server.QueryAsync<DateTime>("select max(due) from runs where plan = 'shipping'");
        await Eventually.Async(async () => await LagAsync() > 1500, what: () => "something else ships");
        Assert.Equal(204, (await admin.PostAsync($"/api/pauses/{pause.GetProperty("id").GetInt32()}/end")).Status);
        await Eventually.Async(async () => await LagAsync() < 700, what: () => "it does not go on");

        // Each stage is a run of its own, begun by the one before it.
        await Eventually.Async(async () => await demo.Server.QueryAsync<long>(
            $"""
            select count(*) from runs a join runs c on a.after_id = c.id join runs b on c.after_id = b.id
             where a.plan = 'shipping' and a.due > '{stopped:yyyy-MM-ddTHH:mm:ssZ}' and (b.kind, c.kind, a.kind) = ('shipBackup', 'shipCopy', 'shipApply') and a.state = 4 and c.state = 4 and b.state = 4
            """) > 0);
        var last = await demo.Server.QueryAsync<Guid>("select id from runs where plan = 'shipping' and kind = 'shipCopy' and state = 4 and stored_bytes > 0 order by due desc limit 1");
        var run = await admin.GetAsync($"/api/runs/{last}");
        Assert.StartsWith("web-bookings-shipped: copied up to ", NoteOf(run), StringComparison.Ordinal);
        Assert.Equal("web-bookings-shipped", Assert.Single(run.GetProperty("steps").EnumerateArray()).GetProperty("subject").GetString());
    }

    [Fact]
    public async Task One_with_a_full_volume_is_mended_by_what_its_source_keeps_and_counts_again()
    {
        // What its source keeps goes with time, and the world the tests share may have run for days by now.
        await using var own = await ServerProcess.StartAsync(demo: true, days: 2);
        using var admin = await Session.SignInAsync(own.Url, "admin");
        await admin.PaceAsync(600);
        await admin.ReplicaIsAsync("customs-hill", "broken");
        var worth = (await admin.GetAsync("/api/replicas/customs-hill")).GetProperty("worth").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host");
        Assert.Contains("volume for log", worth.GetProperty("whyNot").GetString(), StringComparison.Ordinal);

        // Another who wants the same at the same time is told.
        var begun = await BeginAsync(admin, "/api/replicas/customs-hill/mend", new { by = "log" });
        Assert.Equal(409, (await admin.PostAsync("/api/replicas/customs-hill/mend", new { by = "anew" })).Status);
        var run = await admin.RunIsAsync(begun, "done");
        Assert.Equal("customs-hill is back, by log", NoteOf(run));
        Assert.StartsWith("3 checks passed", Step(run, "prove").GetProperty("note").GetString(), StringComparison.Ordinal);
        await admin.ReplicaIsAsync("customs-hill", "inStep");
        worth = (await admin.GetAsync("/api/replicas/customs-hill")).GetProperty("worth").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host");
        Assert.InRange(worth.GetProperty("lostSeconds").GetDouble(), 0, 60);
    }

    [Fact]
    public async Task A_new_one_is_tried_seeded_proved_and_watched_looked_at_held_to_its_fleet_and_ended()
    {
        using var admin = await demo.AdminAsync();
        object Asked(string id, string host) => new { replica = new { id, database = "berth-plan", host, mode = "async", promoteSeconds = 40, keepLogSeconds = 86_400 }, group = (string?)null };
        Assert.Equal((400, "host"), Session.Fault(await admin.PostAsync("/api/replicas/worksheet", Asked("berth-hill", "nowhere"))));
        var sheet = (await admin.PostAsync("/api/replicas/worksheet", Asked("berth-hill", "hill-h1"))).Body;
        Assert.InRange(sheet.GetProperty("byDesignSeconds").GetDouble(), 0.0005, 0.002);
        Assert.Equal(24, sheet.GetProperty("logByHour").GetArrayLength());
        var host = sheet.GetProperty("worth").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host");
        Assert.True(host.GetProperty("thenExposureSeconds").GetDouble() < host.GetProperty("exposureSeconds").GetDouble());
        var exposed = host.GetProperty("exposureSeconds").GetDouble();
        Assert.True(exposed > 1);

        var run = await admin.RunIsAsync(await BeginAsync(admin, "/api/replicas", Asked("berth-hill", "hill-h1")), "done");
        Assert.Equal("berth-hill is in step and proved", NoteOf(run));
        Assert.Contains("checks passed", Step(run, "try").GetProperty("note").GetString(), StringComparison.Ordinal);
        await admin.ReplicaIsAsync("berth-hill", "inStep");
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/replicas", Asked("berth-hill", "hill-h1"))));

        // Where both sides stand is asked of themselves.
        var stand = await admin.GetAsync("/api/replicas/berth-hill/positions");
        Assert.True(long.Parse(stand.GetProperty("applied").GetString()!, System.Globalization.CultureInfo.InvariantCulture) <= long.Parse(stand.GetProperty("written").GetString()!, System.Globalization.CultureInfo.InvariantCulture));
        Assert.True(stand.GetProperty("notAppliedTransactions").GetInt64() >= stand.GetProperty("notReceivedTransactions").GetInt64());

        // Looked at elsewhere, it goes on receiving; it is closed when its time is over.
        var now = (await admin.GetAsync("/api/clock")).GetProperty("now").GetDateTimeOffset();
        Assert.Equal((400, "until"), Session.Fault(await admin.PostAsync("/api/replicas/berth-hill/look", new { host = "hill-h2", until = Text(now.AddDays(-1)) })));
        var look = await BeginAsync(admin, "/api/replicas/berth-hill/look", new { host = "hill-h2", until = Text(now.AddMinutes(40)), query = "count rows", overlay = true });
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{look}"), "check").GetProperty("state").GetString() == "done", what: () => "it is not open");
        Assert.Equal("inStep", await StateAsync(admin, "berth-hill"));
        Assert.EndsWith("was looked at and closed", NoteOf(await admin.RunIsAsync(look, "done")), StringComparison.Ordinal);

        var before = await admin.GetAsync("/api/replicas/berth-hill/before");
        Assert.True(before.GetProperty("without").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host").GetProperty("thenExposureSeconds").GetDouble() > 1);
        await admin.RunIsAsync(await BeginAsync(admin, "/api/replicas/berth-hill/remove", new { }), "done");
        await admin.ReplicaIsAsync("berth-hill", "ended");
    }

    [Fact]
    public async Task A_volume_is_added_to_a_group_that_lacked_it_and_is_held_with_the_others()
    {
        using var admin = await demo.AdminAsync();
        async Task<bool> LacksAsync() => (await admin.GetAsync("/api/findings?database=crew-hours")).GetProperty("rows").EnumerateArray().Any(f => f.GetProperty("code").GetString() == "not-replicated");
        Assert.True(await LacksAsync());
        object Asked(string id, string array, string host, string group) =>
            new { replica = new { id, database = "crew-hours", array, opensOn = new[] { host }, mode = "array", readable = "never", promoteSeconds = 75, keepLogSeconds = 28_800 }, group };
        Assert.Equal(400, (await admin.PostAsync("/api/replicas", Asked("crew-hours-volume", "hill-a1", "quay-h1", "crew"))).Status);
        Assert.Equal((400, "group"), Session.Fault(await admin.PostAsync("/api/replicas", Asked("crew-hours-volume", "hill-a1", "hill-h1", "nobody"))));
        await admin.RunIsAsync(await BeginAsync(admin, "/api/replicas", Asked("crew-hours-volume", "hill-a1", "hill-h1", "crew")), "done");
        await admin.ReplicaIsAsync("crew-hours-volume", "inStep");
        Assert.False(await LacksAsync());
        Assert.Contains("crew-hours-volume", (await admin.GetAsync("/api/replicas/crew-roster-volume/before")).GetProperty("together").ToString(), StringComparison.Ordinal);
        await admin.RunIsAsync(await BeginAsync(admin, "/api/replicas/crew-hours-volume/remove", new { }), "done");
    }

    [Fact]
    public async Task One_that_cannot_be_set_up_leaves_nothing_behind()
    {
        using var admin = await demo.AdminAsync();
        await admin.PostAsync("/api/world/host-down", new { host = "hill-h2", down = true });
        try
        {
            var run = await admin.RunIsAsync(
                await BeginAsync(admin, "/api/replicas", new { replica = new { id = "dock-hill", database = "dry-dock", host = "hill-h2", mode = "async", keepLogSeconds = 86_400 }, group = (string?)null }), "failed");
            Assert.Contains("host hill-h2 does not answer", NoteOf(run), StringComparison.Ordinal);
            Assert.Equal(404, (await admin.Http.GetAsync("/api/replicas/dock-hill")).StatusCode is var s ? (int)s : 0);
        }
        finally
        {
            await admin.PostAsync("/api/world/host-down", new { host = "hill-h2", down = false });
        }
    }

    [Fact]
    public async Task Taking_over_with_loss_is_approved_by_a_second_person_begins_a_branch_and_takes_its_first_base()
    {
        using var admin = await demo.AdminAsync();
        using var second = await Session.SignInAsync(demo.Server.Url, "approve");
        await admin.ReplicaIsAsync("ticket-payments-hill", "inStep");
        var before = (await admin.GetAsync("/api/replicas/ticket-payments-hill/before")).GetProperty("takeOver");
        Assert.True(before.GetProperty("needsApproval").GetBoolean());
        Assert.Equal("full into quay-s2", before.GetProperty("firstBase").GetString());
        string begun;
        await admin.PostAsync("/api/world/host-down", new { host = "quay-h1", down = true });
        try
        {
            begun = await BeginAsync(admin, "/api/replicas/ticket-payments-hill/take-over", new { host = (string?)null });
            var step = 0;
            await Eventually.Async(
                async () => Step(await admin.GetAsync($"/api/runs/{begun}"), "fence") is var p && (step = p.GetProperty("number").GetInt32()) > 0 && p.GetProperty("choices").GetArrayLength() > 0, what: () => "nobody is asked");
            Assert.Equal((409, "step"), Session.Fault(await admin.PostAsync($"/api/runs/{begun}/decide", new { step, choice = "approve" })));
            Assert.Equal((409, "step"), Session.Fault(await admin.PostAsync($"/api/runs/{begun}/approve", new { step, choice = "approve" })));
            Assert.Equal(204, (await second.PostAsync($"/api/runs/{begun}/approve", new { step, choice = "approve" })).Status);
            var run = await admin.RunIsAsync(begun, "done");
            Assert.Contains("has taken over on hill-h1; branch 2 is the live one", NoteOf(run), StringComparison.Ordinal);
            Assert.Contains("branch 2 begins at position", Step(run, "promote").GetProperty("note").GetString(), StringComparison.Ordinal);
        }
        finally
        {
            await admin.PostAsync("/api/world/host-down", new { host = "quay-h1", down = false });
        }

        var page = await admin.GetAsync("/api/databases/ticket-payments");
        Assert.Contains("hill-h1", page.ToString(), StringComparison.Ordinal);
        await admin.ReplicaIsAsync("ticket-payments-hill", "ended");

        // Log goes on on the new branch: what is written from now on can be had back.
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/databases/ticket-payments/sets?take=5")).GetProperty("sets").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "log" && s.GetProperty("branch").GetInt32() == 2), what: () => "no log is taken of the new branch");
        var ledger = await admin.GetTextAsync("/api/ledger/export");
        Assert.Contains("take-over", ledger, StringComparison.Ordinal);
        Assert.Equal("host", (await admin.ProofAsync("ticket-payments", begun)).GetProperty("loss").GetString());
    }

    [Fact]
    public async Task Those_of_a_group_take_over_together_at_one_instant_each_with_its_branch_its_base_and_its_proof()
    {
        await using var server = await ServerProcess.StartAsync(demo: true, days: 2);
        using var admin = await Session.SignInAsync(server.Url, "admin");
        using var second = await Session.SignInAsync(server.Url, "approve");
        await admin.PaceAsync(60);
        await admin.ReplicaIsAsync("gate-scans-hill", "inStep");
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");
        await admin.ReplicaIsAsync("crew-roster-volume", "inStep");
        var gates = await BeginAsync(admin, "/api/replicas/gate-scans-hill/take-over", new { host = (string?)null, group = true });
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/replicas/gate-passes-hill/take-over", new { host = (string?)null })));
        await TogetherAsync(gates, "gate-scans", "gate-passes");
        await TogetherAsync(await BeginAsync(admin, "/api/replicas/crew-certificates-volume/take-over", new { host = (string?)null, group = true }), "crew-roster", "crew-certificates");
        Assert.Equal(2, await server.QueryAsync<long>("select count(*) from ledger where kind = 'take-over'"));
        Assert.Equal(4, await server.QueryAsync<long>("select count(*) from proofs where took_over"));
        Assert.DoesNotContain((await admin.GetAsync("/api/findings?database=gate-passes")).GetProperty("rows").EnumerateArray(), f => f.GetProperty("code").GetString() is "never-taken-over" or "no-base-on-branch");

        async Task TogetherAsync(string begun, params string[] databases)
        {
            await Eventually.Async(async () =>
            {
                var now = await admin.GetAsync($"/api/runs/{begun}");
                if (now.GetProperty("steps").EnumerateArray().FirstOrDefault(s => s.GetProperty("choices").GetArrayLength() > 0) is { ValueKind: JsonValueKind.Object } asks)
                {
                    await second.PostAsync($"/api/runs/{begun}/approve", new { step = asks.GetProperty("number").GetInt32(), choice = "approve" });
                }

                return now.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null;
            });
            var run = await admin.RunIsAsync(begun, "done");
            Assert.Contains("have taken over together, all at", NoteOf(run), StringComparison.Ordinal);
            var fleet = await admin.FleetAsync();
            var agreed = Core.Formats.Instants.Parse(Step(run, "agree").GetProperty("note").GetString()!["all stop at ".Length..]);
            foreach (var id in databases)
            {
                var branch = Assert.Single(fleet.DatabaseById[new(id)].Branches);
                Assert.True(branch.ForkAt <= agreed && branch.StartsAt > agreed);
                Assert.StartsWith("hill", fleet.DatabaseById[new(id)].Host.Value, StringComparison.Ordinal);
                Assert.Equal("host", (await admin.ProofAsync(id, begun)).GetProperty("loss").GetString());
                Assert.Equal(run.GetProperty("steps").EnumerateArray().Count(s => s.GetProperty("kind").GetString() == "base") / databases.Length, await server.QueryAsync<long>($"select count(*) from backup_sets where database = '{id}' and branch = 2 and kind = 0"));
            }
        }
    }

    [Fact]
    public async Task One_that_takes_over_by_itself_is_named_in_the_fleet_and_the_gates_live_where_it_is()
    {
        // In a world of its own: what follows lives without its first base.
        await using var server = await ServerProcess.StartAsync(demo: true, days: 2);
        using var admin = await Session.SignInAsync(server.Url, "admin");
        await admin.PaceAsync(30);
        await admin.ReplicaIsAsync("gate-scans-hill", "inStep");
        await admin.PostAsync("/api/world/host-down", new { host = "quay-h2", down = true });
        await admin.ReplicaIsAsync("gate-scans-hill", "ended");
        await admin.ReplicaIsAsync("gate-passes-hill", "ended");
        var page = await admin.GetAsync("/api/databases/gate-scans");
        Assert.Contains("hill-h1", page.ToString(), StringComparison.Ordinal);
        Assert.Contains("takes over by itself: quay-h2 is gone, 2 of 3 voters are left", page.GetProperty("happenings").ToString(), StringComparison.Ordinal);
        var fleet = await admin.GetTextAsync("/api/export/fleet");
        var gates = System.Text.Json.JsonDocument.Parse(fleet).RootElement.GetProperty("databases").EnumerateArray().First(d => d.GetProperty("id").GetString() == "gate-scans");
        Assert.Equal(("hill-h1", 1), (gates.GetProperty("host").GetString(), gates.GetProperty("branches").GetArrayLength()));
        Assert.Equal(1, await server.QueryAsync<long>("select count(*) from fleet_versions where why = 'gate-scans-hill has taken over by itself'"));

        // What is missing then is said.
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/findings?database=gate-scans")).GetProperty("rows").EnumerateArray().Any(f => f.GetProperty("code").GetString() == "no-base-on-branch"), what: () => "nobody says that the new branch has no base");
    }
}
