using System.Diagnostics;
using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A world of its own, in which roles change.</summary>
public sealed class DrillWorld : IAsyncLifetime
{
    public ServerProcess Server { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Server = await ServerProcess.StartAsync(demo: true, days: 2);

    public ValueTask DisposeAsync() => Server.DisposeAsync();
}

/// <summary>Drills on the real process and in its world: roles change, what was lost and how long it took is what was seen, and it ends as it was asked.</summary>
public class DrillTests(DrillWorld world) : IClassFixture<DrillWorld>
{
    private async Task<(Session Admin, Session Second)> PeopleAsync()
    {
        var admin = await Session.SignInAsync(world.Server.Url, "admin");
        await admin.PaceAsync(60);
        return (admin, await Session.SignInAsync(world.Server.Url, "approve"));
    }

    private static async Task<string> BeginAsync(Session session, object body)
    {
        var (status, answer) = await session.PostAsync("/api/drills", body);
        return status == 201 ? answer.GetProperty("id").GetString()! : throw new InvalidOperationException($"{status} {answer}");
    }

    private static JsonElement Step(JsonElement run, string kind) => run.GetProperty("steps").EnumerateArray().Last(s => s.GetProperty("kind").GetString() == kind);

    /// <summary>Confirms and approves whatever is asked until it is over.</summary>
    private static async Task<JsonElement> CarryOnAsync(Session operate, Session approve, string id, string state = "done", Func<JsonElement, Task>? each = null)
    {
        var stands = "";
        await Eventually.Async(
            async () =>
            {
                var now = await operate.GetAsync($"/api/runs/{id}");
                stands = string.Join("; ", now.GetProperty("steps").EnumerateArray().Select(s => $"{s.GetProperty("kind")} {s.GetProperty("state")} {s.GetProperty("note")}"));
                if (now.GetProperty("steps").EnumerateArray().FirstOrDefault(s => s.GetProperty("choices").GetArrayLength() > 0) is { ValueKind: JsonValueKind.Object } asks)
                {
                    if (each is not null)
                    {
                        await each(asks);
                    }

                    var step = asks.GetProperty("number").GetInt32();
                    _ = asks.GetProperty("hold").GetBoolean()
                        ? await operate.PostAsync($"/api/runs/{id}/decide", new { step, choice = asks.GetProperty("choices")[0].GetString() })
                        : await approve.PostAsync($"/api/runs/{id}/approve", new { step, choice = "approve" });
                }

                return now.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null;
            },
            120,
            () => $"it does not end: {stands}");
        return await operate.RunIsAsync(id, state);
    }

    /// <summary>For how long, under each loss, a database was over its RPO since this world began, seconds: the days of the window before that, when there was nothing, are taken off.</summary>
    private static async Task<Dictionary<string, double>> OverRpoAsync(Session session, string database)
    {
        var d = await session.GetAsync($"/api/databases/{database}");
        var since = DateTimeOffset.Parse(d.GetProperty("at").GetString()!, System.Globalization.CultureInfo.InvariantCulture).ToUnixTimeMilliseconds() / 1000.0;
        return d.GetProperty("losses").EnumerateArray().ToDictionary(l => l.GetProperty("kind").GetString()!, l => l.GetProperty("secondsOverRpo").GetDouble() + since);
    }

    private async Task<JsonElement> ResultAsync(string id) => JsonDocument.Parse((await world.Server.QueryAsync<string>($"select result::text from runs where id = '{id}'"))!).RootElement;

    [Fact]
    public async Task A_switchover_there_and_home_loses_nothing_is_confirmed_by_people_and_leaves_everything_as_it_was()
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("gate-scans-hill", "inStep");
        var asked = new { replica = "gate-scans-hill", kind = "switchover", ending = "home" };
        var branches = (await admin.FleetAsync()).DatabaseById[new("gate-scans")].Branches.Count;
        var before = await OverRpoAsync(admin, "gate-scans");
        var sheet = (await admin.PostAsync("/api/drills/worksheet", asked)).Body;
        Assert.Equal((0.0, false), (sheet.GetProperty("lostSeconds").GetDouble(), sheet.GetProperty("approval").GetBoolean()));
        Assert.Contains(sheet.GetProperty("steps").EnumerateArray(), s => s.GetProperty("noWayBack").GetBoolean() && s.GetProperty("critical").GetBoolean());
        var id = await BeginAsync(admin, asked);
        Assert.Equal(409, (await admin.PostAsync("/api/drills", asked)).Status);
        var asks = new List<string>();
        var run = await CarryOnAsync(admin, second, id, each: s =>
        {
            asks.Add(s.GetProperty("kind").GetString()!);
            return Task.CompletedTask;
        });
        Assert.Equal(["tell", "send", "home", "tell", "send"], asks.Aggregate(new List<string>(), (all, a) =>
        {
            if (all.Count == 0 || all[^1] != a)
            {
                all.Add(a);
            }

            return all;
        }));
        Assert.StartsWith("passed: there and home again", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);

        // The side that is left follows at once: in no moment more could have been lost than was agreed, wherever it ran then.
        Assert.All(await OverRpoAsync(admin, "gate-scans"), after => Assert.InRange(after.Value - before[after.Key], 0, 0.002));

        var result = await ResultAsync(id);
        var changes = result.GetProperty("changes").EnumerateArray().ToArray();
        Assert.Equal(2, changes.Length);
        foreach (var c in changes)
        {
            Assert.True(c.GetProperty("markers").GetInt32() > 0);
            Assert.False(c.TryGetProperty("markersMissing", out var missing) && missing.GetInt32() > 0);
            Assert.True(c.GetProperty("serviceSeconds").GetDouble() >= c.TryGetPropertyOr("peopleSeconds"));

            // Without the time of people, it took about what was planned.
            var worked = c.GetProperty("serviceSeconds").GetDouble() - c.TryGetPropertyOr("peopleSeconds");
            Assert.InRange(worked, 0.3 * sheet.GetProperty("serviceSeconds").GetDouble(), (2 * sheet.GetProperty("serviceSeconds").GetDouble()) + 30);
        }

        // Between the last write here and the first there nobody could write, and never both could.
        var seen = result.GetProperty("seen").EnumerateArray().ToArray();
        Assert.DoesNotContain(seen, s => s.TryGetPropertyOrFalse("here") && s.TryGetPropertyOrFalse("there"));
        Assert.Contains(seen, s => !s.TryGetPropertyOrFalse("here") && !s.TryGetPropertyOrFalse("there"));
        Assert.Contains(seen, s => s.TryGetPropertyOrFalse("there") && s.TryGetPropertyOrFalse("clients"));
        Assert.True(seen[^1].TryGetPropertyOrFalse("here") && seen[^1].TryGetPropertyOrFalse("clients"));

        var fleet = await admin.FleetAsync();
        Assert.Equal("quay-h2", fleet.DatabaseById[new("gate-scans")].Host.Value);
        Assert.Null(fleet.Replicas[new("gate-scans-hill")].Until);
        Assert.Equal(branches + 2, fleet.DatabaseById[new("gate-scans")].Branches.Count);
        await admin.ReplicaIsAsync("gate-scans-hill", "inStep");
        var proof = (await admin.GetAsync("/api/databases/gate-scans")).GetProperty("proofs")[0];
        Assert.Equal(("none", true), (proof.GetProperty("loss").GetString(), proof.GetProperty("passed").GetBoolean()));
        Assert.Equal(1, await world.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'drill' and database = 'gate-scans' and body::text like '%{id}%'"));
        admin.Dispose();
        second.Dispose();
    }

    [Theory]
    [InlineData("switchover")]
    [InlineData("forced")]
    [InlineData("automatic")]
    public async Task All_of_a_group_change_roles_together_people_are_asked_once_and_each_has_its_proof(string kind)
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("gate-scans-hill", "inStep");
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");

        // What people take counts: at a fast pace a moment of a busy machine is minutes of the world.
        await admin.PaceAsync(20);
        var asked = new { of = "group", id = "gates", kind, ending = "home" };
        Assert.Equal((404, "id"), Session.Fault(await admin.PostAsync("/api/drills/joint/worksheet", asked with { id = "none" })));
        Assert.Equal((400, "kind"), Session.Fault(await admin.PostAsync("/api/drills/joint/worksheet", asked with { of = "site", id = "quayside", kind = "switchover" })));
        var sheet = (await admin.PostAsync("/api/drills/joint/worksheet", asked)).Body;
        Assert.Equal(["gate-passes-hill", "gate-scans-hill"], sheet.GetProperty("members").EnumerateArray().Select(m => m.GetProperty("by").GetString()).Order());
        Assert.Equal((JsonValueKind.Null, false), (sheet.GetProperty("refused").ValueKind, sheet.GetProperty("approval").GetBoolean()));

        var (status, answer) = await admin.PostAsync("/api/drills/joint", asked);
        Assert.Equal(201, status);
        var id = answer.GetProperty("id").GetString()!;

        // Nobody has it take over meanwhile, nor drills one of it alone.
        Assert.Equal(409, (await admin.PostAsync("/api/drills/joint", asked)).Status);
        Assert.Equal(409, (await admin.PostAsync("/api/replicas/gate-scans-hill/take-over", new { group = true })).Status);
        var asks = new List<string>();
        var killed = false;
        var run = await CarryOnAsync(admin, second, id, each: async s =>
        {
            var step = s.GetProperty("kind").GetString()!;
            if (asks.LastOrDefault() != step)
            {
                asks.Add(step);
            }

            await admin.PaceAsync(step == "send" ? 5 : 20);

            // Before clients are sent over none is on its way, of either database; the process may die then.
            if (step == "send" && !killed)
            {
                killed = true;
                foreach (var one in (await admin.GetAsync($"/api/runs/{id}")).GetProperty("followed").EnumerateArray())
                {
                    var steps = (await admin.GetAsync($"/api/runs/{one.GetProperty("id").GetString()}")).GetProperty("steps").EnumerateArray().ToArray();
                    Assert.True(steps.First(x => x.GetProperty("kind").GetString() == "check").GetProperty("state").GetString() == "done", string.Join("; ", steps.Select(x => $"{x.GetProperty("kind")} {x.GetProperty("state")} {x.GetProperty("note")}")));
                    Assert.Equal(JsonValueKind.Null, steps.First(x => x.GetProperty("kind").GetString() == "clients").GetProperty("started").ValueKind);
                }

                await world.Server.KillAsync();
                await world.Server.RunAsync();
            }
        });
        Assert.Equal(kind == "automatic" ? ["tell", "home", "send"] : ["tell", "send", "home", "send"], asks);
        Assert.StartsWith("passed: all 2", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        var result = run.GetProperty("joint").GetProperty("measured");
        Assert.All(result.GetProperty("members").EnumerateArray(), m =>
        {
            Assert.True(m.GetProperty("passed").GetBoolean());
            Assert.Equal(0, m.GetProperty("lostSeconds").GetDouble());
            Assert.True(m.GetProperty("serviceSeconds").GetDouble() > 0);
        });
        Assert.Equal(2, run.GetProperty("followed").GetArrayLength());

        // They stopped at one instant, there and home; taken for lost they were opened as of one.
        var stops = new List<string>();
        foreach (var one in run.GetProperty("followed").EnumerateArray())
        {
            var its = await ResultAsync(one.GetProperty("id").GetString()!);
            stops.Add(string.Join(", ", its.GetProperty("changes").EnumerateArray().Select(c => c.GetProperty("stoppedAt").GetString())));
            Assert.Equal(kind == "forced", (await admin.GetAsync($"/api/runs/{one.GetProperty("id").GetString()}")).GetProperty("steps").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "agree" && s.GetProperty("note").GetString()!.StartsWith("all stop at ", StringComparison.Ordinal)));
        }

        if (kind == "automatic")
        {
            // Engines that die do not agree on when; home again they do.
            stops = [.. stops.Select(s => s.Split(", ")[^1])];
        }

        Assert.Equal(stops[0], stops[1]);
        Assert.Equal(1, await world.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'joint-drill' and body::text like '%{id}%'"));
        Assert.Equal(2, await world.Server.QueryAsync<long>($"select count(distinct p.database) from proofs p join runs r on r.id = p.run_id where r.after_id = '{id}' and p.passed"));
        var fleet = await admin.FleetAsync();
        Assert.All(["gate-scans", "gate-passes"], d => Assert.Equal("quay-h2", fleet.DatabaseById[new(d)].Host.Value));
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task A_second_person_refuses_with_a_reason_that_is_kept_and_nothing_has_happened()
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("tickets-hill", "inStep");
        var id = await BeginAsync(admin, new { replica = "tickets-hill", kind = "forced", ending = "keep", byHand = false });
        var step = 0;
        await Eventually.Async(async () => (step = (await admin.GetAsync($"/api/runs/{id}")).GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("choices").GetArrayLength() > 0).Select(s => s.GetProperty("number").GetInt32()).FirstOrDefault()) > 0, 60, () => "nobody is asked");
        var asked = (await admin.GetAsync($"/api/runs/{id}")).GetProperty("steps").EnumerateArray().Single(s => s.GetProperty("number").GetInt32() == step);
        Assert.Equal(TimeSpan.FromDays(1), asked.GetProperty("decideBy").GetDateTimeOffset() - asked.GetProperty("asked").GetDateTimeOffset());
        Assert.Equal((400, "why"), Session.Fault(await second.PostAsync($"/api/runs/{id}/approve", new { step, choice = "refuse" })));
        Assert.Equal((400, "why"), Session.Fault(await second.PostAsync($"/api/runs/{id}/approve", new { step, choice = "approve", why = new string('x', 501) })));
        Assert.Equal(204, (await second.PostAsync($"/api/runs/{id}/approve", new { step, choice = "refuse", why = "not before the ferries are in" })).Status);
        var run = await admin.RunIsAsync(id, "failed");
        Assert.Equal("refused by approve: not before the ferries are in", run.GetProperty("run").GetProperty("note").GetString());
        Assert.Equal("quay-h1", (await admin.FleetAsync()).DatabaseById[new("tickets")].Host.Value);
        Assert.Equal(1, await world.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'approval' and who = 'approve' and body::text like '%not before the ferries are in%' and body::text like '%{id}%'"));
        await admin.ReplicaIsAsync("tickets-hill", "inStep");
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task One_with_a_date_is_told_before_missed_and_escalated_once_each_and_held_by_the_run_that_is_begun_for_it()
    {
        var (admin, second) = await PeopleAsync();
        var now = (await admin.GetAsync("/api/clock")).GetProperty("now").GetDateTimeOffset();
        string At(double hours) => now.AddHours(hours).UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture);
        object Dated(string at, string[] people, string? replica = "sailings-hill") => new { of = "database", id = (string?)null, replica, kind = "switchover", ending = "keep", at, people, escalate = new[] { "head" }, why = "<b>quiet</b> hour" };
        Assert.Equal((400, "at"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(-1), ["team"]))));
        Assert.Equal((400, "people"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(1), []))));
        Assert.Equal((400, "people"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(1), [new string('x', 101)]))));
        Assert.Equal((404, "replica"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(1), ["team"], "nobody"))));
        var (status, made) = await admin.PostAsync("/api/drills/dated", Dated(At(26), ["team", " team "]));
        Assert.True(status == 201, made.ToString());
        var id = made.GetProperty("id").GetString()!;
        var (_, other) = await admin.PostAsync("/api/drills/dated", Dated(At(27), ["team"]));
        var off = other.GetProperty("id").GetString();
        Assert.Equal(204, (await admin.PostAsync($"/api/drills/dated/{off}/call-off", new { })).Status);
        Assert.Equal(404, (await admin.PostAsync($"/api/drills/dated/{off}/call-off", new { })).Status);
        Assert.Contains("Harbour sailings", await admin.Http.GetStringAsync("/api/drills/dated.ics"), StringComparison.Ordinal);

        // Its date comes nearer and passes, and nobody holds it.
        Task<string?> ToldAsync(string drill) => world.Server.QueryAsync<string>($"select string_agg(split_part(group_key, '|', 3) || ' ' || array_to_string(people, ','), '; ' order by id) from notices where group_key like 'dated|{drill}|%'");
        foreach (var (hours, what) in new[] { (3, "soon"), (25, "missed"), (23, "escalated") })
        {
            await world.Server.ExecuteAsync($"update dated_drills set at = at - interval '{hours} hours' where id = '{id}'");
            await Eventually.Async(async () => (await ToldAsync(id))?.Contains(what, StringComparison.Ordinal) == true, 90, () => $"not told: {what}");
        }

        Assert.Equal("set team; soon team; missed admin,team; escalated head", await ToldAsync(id));
        Assert.Equal("set team; off team", await ToldAsync(off!));
        await Eventually.Async(async () => (await admin.GetAsync("/api/findings?database=harbour-sailings")).ToString().Contains("drill-missed", StringComparison.Ordinal), 30, () => "no finding");

        // Held at last: it is that run's, and nobody else's.
        await admin.PaceAsync(60);
        await admin.ReplicaIsAsync("sailings-hill", "inStep");
        object Asked(string? dated) => new { replica = "sailings-hill", kind = "switchover", ending = "keep", byHand = false, dated };
        Assert.Equal((409, "dated"), Session.Fault(await admin.PostAsync("/api/drills", Asked(off))));
        var run = await BeginAsync(admin, Asked(id));
        Assert.Equal(run, (await admin.GetAsync("/api/drills/dated")).EnumerateArray().Single(d => d.GetProperty("id").GetString() == id).GetProperty("run").GetString());
        await CarryOnAsync(admin, second, run);
        await Eventually.Async(async () => !(await admin.GetAsync("/api/findings?database=harbour-sailings")).ToString().Contains("drill-missed", StringComparison.Ordinal), 30, () => "it is still missed");
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task One_of_many_that_is_called_off_before_writes_stop_leaves_all_as_they_were()
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("tickets-hill", "inStep");
        var sheet = (await admin.PostAsync("/api/drills/joint/worksheet", new { of = "site", id = "quayside", kind = "forced", ending = "keep" })).Body;
        var rows = sheet.GetProperty("members").EnumerateArray().ToArray();
        Assert.Contains(rows, m => m.GetProperty("by").ValueKind == JsonValueKind.String);
        Assert.Contains(rows, m => m.GetProperty("by").ValueKind == JsonValueKind.Null && m.GetProperty("host").ValueKind == JsonValueKind.String);
        Assert.All(rows.Where(m => m.GetProperty("whyNot").ValueKind == JsonValueKind.String), m => Assert.NotEmpty(m.GetProperty("whyNot").GetString()!));

        var (status, answer) = (0, default(JsonElement));
        await Eventually.Async(async () => ((status, answer) = await admin.PostAsync("/api/drills/joint", new { of = "service", id = "ticketing", kind = "switchover", ending = "keep" })).status == 201, 60, () => answer.ToString());
        var id = answer.GetProperty("id").GetString()!;
        await Eventually.Async(async () => (await admin.GetAsync($"/api/runs/{id}")).GetProperty("steps").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "tell" && s.GetProperty("choices").GetArrayLength() > 0), 60, () => "it never asks");
        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{id}/cancel", new { })).Status);
        await admin.RunIsAsync(id, "cancelled");
        await Eventually.Async(async () => await world.Server.QueryAsync<long>($"select count(*) from runs where after_id = '{id}' and state < 4") == 0, 60, () => "its drills do not end");
        Assert.Equal(0, await world.Server.QueryAsync<long>($"select count(*) from runs where after_id = '{id}' and cancelled_by is distinct from 'admin'"));
        Assert.Equal("quay-h1", (await admin.FleetAsync()).DatabaseById[new("tickets")].Host.Value);
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task A_forced_one_says_what_will_be_lost_waits_for_a_second_person_and_measures_that_loss()
    {
        var (admin, second) = await PeopleAsync();

        // Its link is cut for a while: what it lacks then is lost.
        await admin.ReplicaIsAsync("ais-live-hill", "inStep");
        await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "hillhouse", down = true });
        try
        {
            await Eventually.Async(async () => (await admin.GetAsync("/api/replicas/ais-live-hill")).GetProperty("row").GetProperty("receivedLagSeconds") is { ValueKind: JsonValueKind.Number } lag && lag.GetDouble() > 90, 60, () => "it still receives");
        }
        finally
        {
            // The drill itself tries the link: it is mended before the source is taken for lost, which stops what would come.
            await admin.PaceAsync(0);
            await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "hillhouse", down = false });
        }

        var asked = new { replica = "ais-live-hill", kind = "forced", ending = "keep", byHand = false };
        var sheet = (await admin.PostAsync("/api/drills/worksheet", asked)).Body;
        Assert.True(sheet.GetProperty("lostSeconds").GetDouble() > 60, sheet.ToString());
        Assert.True(sheet.GetProperty("approval").GetBoolean());
        var id = await BeginAsync(admin, asked);
        await admin.PaceAsync(60);
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("choices").GetArrayLength() > 0, 60, () => "nobody is asked");
        Assert.Contains("may be lost", Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("title").GetString(), StringComparison.Ordinal);
        Assert.Equal((409, "step"), Session.Fault(await admin.PostAsync($"/api/runs/{id}/approve", new { choice = "approve" })));
        await CarryOnAsync(admin, second, id);
        var change = (await ResultAsync(id)).GetProperty("changes")[0];
        var (markers, missing, lost) = (change.GetProperty("markers").GetInt32(), (int)change.TryGetPropertyOr("markersMissing"), change.TryGetPropertyOr("lostSeconds"));
        Assert.True(markers > 0);

        // A marker a second: so many are missing as seconds were lost, to the second.
        Assert.InRange(lost, missing - 1, missing + 1.1);
        var fleet = await admin.FleetAsync();
        Assert.Equal("hill-h1", fleet.DatabaseById[new("ais-live")].Host.Value);
        Assert.Contains(fleet.ReplicaList, r => r.Database.Value == "ais-live" && r.Until is null && r.Place.Hosts[0].Value.StartsWith("quay", StringComparison.Ordinal));
        Assert.StartsWith("host", (await admin.GetAsync("/api/databases/ais-live")).GetProperty("proofs")[0].GetProperty("loss").GetString(), StringComparison.Ordinal);
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task One_that_is_called_off_before_there_is_no_way_back_leaves_writes_going_on_and_the_replica_receiving()
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");
        var branches = (await admin.FleetAsync()).DatabaseById[new("gate-passes")].Branches.Count;
        var id = await BeginAsync(admin, new { replica = "gate-passes-hill", kind = "switchover", ending = "part" });
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{id}"), "tell").GetProperty("choices").GetArrayLength() > 0, 60, () => "nobody is asked");
        Assert.True((await admin.GetAsync($"/api/drills/{id}/seen")).GetProperty("spans").GetArrayLength() > 0);
        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{id}/cancel")).Status);
        await admin.RunIsAsync(id, "cancelled");

        // Nobody looks on any more; what was seen is still there.
        Task<JsonElement> SeenAsync() => admin.GetAsync($"/api/drills/{id}/seen");
        var seen = await SeenAsync();
        Assert.True(seen.GetProperty("spans").GetArrayLength() > 0);
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");
        Assert.Equal(seen.GetRawText(), (await SeenAsync()).GetRawText());
        var fleet = await admin.FleetAsync();
        Assert.Equal(branches, fleet.DatabaseById[new("gate-passes")].Branches.Count);
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task Killed_again_and_again_at_other_steps_it_goes_on_roles_change_once_and_nobody_writes_on_two_sides()
    {
        var (admin, second) = await PeopleAsync();

        var (host, branches) = (await admin.FleetAsync()).DatabaseById[new("sms-queue")] is var before ? (before.Host, before.Branches.Count) : default;
        var rounds = 0;
        for (var kills = 0; kills < Kills; rounds++)
        {
            // Slow enough to be met at each step.
            await admin.PaceAsync(8);
            await admin.ReplicaIsAsync("sms-hill", "inStep");
            var id = await BeginAsync(admin, new { replica = "sms-hill", kind = "switchover", ending = "home", byHand = false });
            var met = new List<int>();
            while (kills < Kills)
            {
                int? at = null;
                await Eventually.Async(async () =>
                {
                    var now = await admin.GetAsync($"/api/runs/{id}");
                    at = now.GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("state").GetString() == "running").Select(s => (int?)s.GetProperty("number").GetInt32()).FirstOrDefault(k => !met.Contains(k!.Value));
                    return at is not null || now.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null;
                }, 120, () => "it stands still");
                if (at is null)
                {
                    break;
                }

                met.Add(at.Value);
                kills++;
                admin.Dispose();
                second.Dispose();
                await world.Server.KillAsync();
                await world.Server.RunAsync();
                (admin, second) = await PeopleAsync();
                await admin.PaceAsync(kills < Kills ? 8 : 60);
            }

            Assert.True(met.Count >= 4, string.Join(", ", met));
            var run = await CarryOnAsync(admin, second, id);
            Assert.StartsWith("passed", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
            var result = await ResultAsync(id);
            Assert.DoesNotContain(result.GetProperty("seen").EnumerateArray(), s => s.TryGetPropertyOrFalse("here") && s.TryGetPropertyOrFalse("there"));
            Assert.Equal([0, 0], result.GetProperty("changes").EnumerateArray().Select(c => (int)c.TryGetPropertyOr("markersMissing")));
        }

        var fleet = (await admin.FleetAsync()).DatabaseById[new("sms-queue")];
        Assert.Equal((host, branches + (2 * rounds)), (fleet.Host, fleet.Branches.Count));
        Assert.Equal(rounds, await world.Server.QueryAsync<long>("select count(*) from ledger where kind = 'drill' and database = 'sms-queue'"));
        Assert.Equal(rounds, await world.Server.QueryAsync<long>("select count(*) from proofs where took_over and database = 'sms-queue'"));
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task In_an_emergency_one_person_decides_alone_asked_twice_told_to_everybody_and_in_the_ledger()
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("ticket-payments-hill", "inStep");
        var id = await BeginAsync(admin, new { replica = "ticket-payments-hill", kind = "forced", ending = "part", byHand = false });
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("choices").GetArrayLength() > 0, 60, () => "nobody is asked");
        var step = Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("number").GetInt32();
        Assert.Equal((400, "why"), Session.Fault(await admin.PostAsync($"/api/runs/{id}/alone", new { step, why = " ", word = "ticket-payments" })));
        Assert.Equal((409, "word"), Session.Fault(await admin.PostAsync($"/api/runs/{id}/alone", new { step, why = "it is night" })));
        using (var looks = await Session.SignInAsync(world.Server.Url, "look"))
        {
            Assert.Equal(403, (await looks.PostAsync($"/api/runs/{id}/alone", new { step, why = "it is night", word = "ticket-payments" })).Status);
        }

        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{id}/alone", new { step, why = "it is night", word = "ticket-payments" })).Status);
        Assert.Equal(409, (await admin.PostAsync($"/api/runs/{id}/alone", new { step, why = "it is night", word = "ticket-payments" })).Status);
        var run = await admin.RunIsAsync(id, "done");
        Assert.Equal("admin", Step(run, "stop").GetProperty("decidedBy").GetString());
        Assert.Equal(1, await world.Server.QueryAsync<long>("select count(*) from ledger where kind = 'break-glass' and database = 'ticket-payments' and who = 'admin'"));
        var notice = (await admin.GetAsync("/api/notices")).EnumerateArray().First(n => n.GetProperty("kind").GetString() == "alone");
        Assert.Contains("Because: it is night", notice.GetProperty("subject").GetString(), StringComparison.Ordinal);
        Assert.Equal(["admin", "approve", "look", "operate", "plan"], notice.GetProperty("people").EnumerateArray().Select(p => p.GetString()));
        admin.Dispose();
        second.Dispose();
    }

    /// <summary>How often the server is killed while a drill runs.</summary>
    private static readonly int Kills = int.Parse(Environment.GetEnvironmentVariable("IMBREK_KILLS") ?? "10", System.Globalization.CultureInfo.InvariantCulture);

    [Fact]
    public async Task Its_engine_is_stopped_and_nobody_helps_the_voters_have_it_take_over_and_clients_come_back_by_themselves()
    {
        var (admin, second) = await PeopleAsync();
        await admin.PaceAsync(20);
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");
        var asked = new { replica = "gate-passes-hill", kind = "automatic", ending = "home", byHand = false };
        var sheet = (await admin.PostAsync("/api/drills/worksheet", asked)).Body;
        Assert.Equal((0.0, false), (sheet.GetProperty("lostSeconds").GetDouble(), sheet.GetProperty("approval").GetBoolean()));
        Assert.Equal((409, "replica"), Session.Fault(await admin.PostAsync("/api/drills", new { replica = "tickets-hill", asked.kind, asked.ending, asked.byHand })));
        var id = await BeginAsync(admin, asked);
        var run = await CarryOnAsync(admin, second, id);
        Assert.StartsWith("passed: there and home again", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        var result = await ResultAsync(id);
        Assert.DoesNotContain(result.GetProperty("seen").EnumerateArray(), s => s.TryGetPropertyOrFalse("here") && s.TryGetPropertyOrFalse("there"));
        Assert.All(result.GetProperty("changes").EnumerateArray(), c => Assert.Equal((0.0, 0.0), (c.TryGetPropertyOr("markersMissing"), c.TryGetPropertyOr("lostSeconds"))));
        Assert.Equal("quay-h2", (await admin.FleetAsync()).DatabaseById[new("gate-passes")].Host.Value);
        Assert.StartsWith("host", (await admin.GetAsync("/api/databases/gate-passes")).GetProperty("proofs")[0].GetProperty("loss").GetString(), StringComparison.Ordinal);
        admin.Dispose();
        second.Dispose();
    }

    [Theory]
    [InlineData("nobody", "switchover", null, null, 404, "replica")]
    [InlineData("gate-passes-hill", "sudden", null, null, 400, "kind")]
    [InlineData("gate-passes-hill", "switchover", "never", null, 400, "ending")]
    [InlineData("gate-passes-hill", "forced", null, "hostile", 400, "loss")]
    [InlineData("gate-passes-hill", "forced", null, "site:northlight", 400, "loss")]
    [InlineData("passes-reports", "switchover", null, null, 409, "replica")]
    [InlineData("customs-hill", "switchover", null, null, 409, "replica")]
    [InlineData("crew-roster-volume", "switchover", "home", null, 409, "replica")]
    [InlineData("vouchers-hill", "switchover", "keep", null, 409, "replica")]
    public async Task What_cannot_be_is_refused_before_anything_is_touched(string replica, string kind, string? ending, string? loss, int status, string member)
    {
        var (admin, second) = await PeopleAsync();
        Assert.Equal((status, member), Session.Fault(await admin.PostAsync("/api/drills", new { replica, kind, ending, loss })));
        Assert.Equal(0, await world.Server.QueryAsync<long>($"select count(*) from runs where kind = 'drill' and question->>'replica' = '{replica}' and question->>'kind' = 'never'"));
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task The_runbook_taken_along_can_be_followed_without_the_product()
    {
        var (admin, second) = await PeopleAsync();
        await admin.ReplicaIsAsync("tickets-hill", "inStep");
        const string Address = "/api/drills/runbook?replica=tickets-hill&kind=switchover&ending=home";
        var steps = (await admin.PostAsync("/api/drills/worksheet", new { replica = "tickets-hill", kind = "switchover", ending = "home" })).Body.GetProperty("steps").GetArrayLength();
        var markdown = await admin.GetTextAsync(Address);
        Assert.Equal(steps, markdown.Split("- [ ] **").Length - 1);
        Assert.Contains("refuse new ones", markdown, StringComparison.Ordinal);
        var folder = Directory.CreateTempSubdirectory("imbrek-runbook-").FullName;
        var script = Path.Combine(folder, "drill.sh");
        await File.WriteAllTextAsync(script, await admin.GetTextAsync($"{Address}&form=script"));

        // All steps are done; then one stops in the middle.
        var (exit, output) = await FollowAsync(script, folder, string.Concat(Enumerable.Repeat("\n", steps)));
        Assert.Equal(0, exit);
        Assert.Equal(steps, output.Split("done? [Enter").Length - 1);
        Assert.Equal((steps * 2) + 2, (await File.ReadAllLinesAsync(Path.Combine(folder, "runbook.log"))).Length);
        (exit, output) = await FollowAsync(script, folder, "\n\ns\nq\n");
        Assert.Equal(3, exit);
        Assert.DoesNotContain("step 5:", output, StringComparison.Ordinal);
        Directory.Delete(folder, recursive: true);
        admin.Dispose();
        second.Dispose();
    }

    private static async Task<(int Exit, string Output)> FollowAsync(string script, string folder, string answers)
    {
        using var process = Process.Start(new ProcessStartInfo("/bin/sh", [script]) { RedirectStandardInput = true, RedirectStandardOutput = true, WorkingDirectory = folder })!;
        await process.StandardInput.WriteAsync(answers);
        process.StandardInput.Close();
        var output = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return (process.ExitCode, output);
    }

    [Fact]
    public async Task The_programme_names_all_that_is_due_spreads_it_and_says_what_the_proofs_show()
    {
        var (admin, second) = await PeopleAsync();
        var programme = await admin.GetAsync("/api/drills/due?aDay=3&inSite=2&onHost=1&days=60");
        var due = programme.GetProperty("due").EnumerateArray().ToArray();
        Assert.Equal(due.Select(d => d.GetProperty("dueAt").GetDateTimeOffset()), due.Select(d => d.GetProperty("dueAt").GetDateTimeOffset()).Order());
        foreach (var day in due.Where(d => d.GetProperty("day").ValueKind == JsonValueKind.String).GroupBy(d => d.GetProperty("day").GetString()))
        {
            Assert.True(day.Count() <= 3);
            Assert.All(day.GroupBy(d => d.GetProperty("host").GetString()), h => Assert.Single(h));
        }

        // More is overdue than a day takes: what would have to be what is said.
        Assert.NotEqual(0, programme.GetProperty("bounds").GetArrayLength());
        var shown = programme.GetProperty("shown");

        // By kinds of proof it is the same.
        var kinds = (await admin.GetAsync("/api/proofs/kinds")).EnumerateArray().ToArray();
        Assert.Equal(due.Length, kinds.Sum(k => ((string[])["byRestore", "byTakingOver", "failed", "never"]).Sum(m => k.GetProperty(m).GetInt32())));
        Assert.Equal(due.Count(d => d.GetProperty("overdue").GetBoolean()), kinds.Sum(k => k.GetProperty("failed").GetInt32() + k.GetProperty("never").GetInt32()));
        Assert.InRange(shown.GetProperty("atMostFailing").GetInt32(), shown.GetProperty("failed").GetInt32(), shown.GetProperty("population").GetInt32());
        Assert.Equal(shown.GetProperty("needed").GetInt32(), programme.GetProperty("draw").GetProperty("drawn").GetArrayLength());
        Assert.Equal((400, "confidence"), Session.Fault(((int)(await admin.Http.GetAsync("/api/drills/due?confidence=1")).StatusCode, JsonDocument.Parse(await (await admin.Http.GetAsync("/api/drills/due?confidence=1")).Content.ReadAsStringAsync()).RootElement)));
        var site = await admin.GetAsync("/api/drills/site?site=quayside&people=2");
        Assert.All(site.GetProperty("returns").EnumerateArray(), r => Assert.True(r.GetProperty("serviceSeconds") is not { ValueKind: JsonValueKind.Number } s || s.GetDouble() >= r.GetProperty("aloneSeconds").GetDouble() - 0.1));
        Assert.Equal(2, site.GetProperty("orders").GetArrayLength());
        admin.Dispose();
        second.Dispose();
    }
}

/// <summary>Members that are left out where they are nothing.</summary>
internal static class LeftOut
{
    public static double TryGetPropertyOr(this JsonElement e, string member) => e.TryGetProperty(member, out var v) && v.ValueKind == JsonValueKind.Number ? v.GetDouble() : 0;

    public static bool TryGetPropertyOrFalse(this JsonElement e, string member) => e.TryGetProperty(member, out var v) && v.GetBoolean();
}
