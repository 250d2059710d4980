using System.Diagnostics;
using System.Text.Json;
using Xunit;
using static Imbrek.Server.Tests.DrillWorld;

namespace Imbrek.Server.Tests;

/// <summary>Drills on the real process and in its world: roles change, what was lost and how long it took is what was seen, and it ends as it was asked.</summary>
[Collection("drills")]
public class DrillTests(DrillWorld world)
{
    [Fact]
    public async Task A_switchover_there_and_home_loses_nothing_is_confirmed_by_people_and_leaves_everything_as_it_was()
    {
        var (admin, second) = await world.PeopleAsync();
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
        Assert.All(await OverRpoAsync(admin, "gate-scans"), after => Assert.InRange(Math.Round(after.Value - before[after.Key], 3), 0, 0.002));

        var result = await world.ResultAsync(id);
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
        var proof = await admin.ProofAsync("gate-scans", id);
        Assert.Equal(("none", true), (proof.GetProperty("loss").GetString(), proof.GetProperty("passed").GetBoolean()));
        Assert.Equal(1, await world.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'drill' and database = 'gate-scans' and body::text like '%{id}%'"));
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task A_forced_one_says_what_will_be_lost_waits_for_a_second_person_and_measures_that_loss()
    {
        var (admin, second) = await world.PeopleAsync();

        // Its link is cut for a while: what it lacks then is lost.
        await admin.ReplicaIsAsync("ais-live-hill", "inStep");
        await admin.PostAsync("/api/world/link-down", new { one = "quayside", other = "hillhouse", down = true });
        try
        {
            await Eventually.Async(async () => (await admin.GetAsync("/api/replicas/ais-live-hill")).GetProperty("row").GetProperty("receivedLagSeconds") is { ValueKind: JsonValueKind.Number } lag && lag.GetDouble() > 90, what: () => "it still receives");
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
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("choices").GetArrayLength() > 0, what: () => "nobody is asked");
        Assert.Contains("may be lost", Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("title").GetString(), StringComparison.Ordinal);
        Assert.Equal((409, "step"), Session.Fault(await admin.PostAsync($"/api/runs/{id}/approve", new { choice = "approve" })));
        await CarryOnAsync(admin, second, id);
        var change = (await world.ResultAsync(id)).GetProperty("changes")[0];
        var (markers, missing, lost) = (change.GetProperty("markers").GetInt32(), (int)change.TryGetPropertyOr("markersMissing"), change.TryGetPropertyOr("lostSeconds"));
        Assert.True(markers > 0);

        // A marker a second: so many are missing as seconds were lost, to the second.
        Assert.InRange(lost, missing - 1, missing + 1.1);
        var fleet = await admin.FleetAsync();
        Assert.Equal("hill-h1", fleet.DatabaseById[new("ais-live")].Host.Value);
        Assert.Contains(fleet.ReplicaList, r => r.Database.Value == "ais-live" && r.Until is null && r.Place.Hosts[0].Value.StartsWith("quay", StringComparison.Ordinal));
        Assert.StartsWith("host", (await admin.ProofAsync("ais-live", id)).GetProperty("loss").GetString(), StringComparison.Ordinal);
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task One_that_is_called_off_before_there_is_no_way_back_leaves_writes_going_on_and_the_replica_receiving()
    {
        var (admin, second) = await world.PeopleAsync();
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");
        var branches = (await admin.FleetAsync()).DatabaseById[new("gate-passes")].Branches.Count;
        var id = await BeginAsync(admin, new { replica = "gate-passes-hill", kind = "switchover", ending = "part" });
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{id}"), "tell").GetProperty("choices").GetArrayLength() > 0, what: () => "nobody is asked");
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
        var (admin, second) = await world.PeopleAsync();

        var (host, branches) = (await admin.FleetAsync()).DatabaseById[new("sms-queue")] is var before ? (before.Host, before.Branches.Count) : default;
        var (rounds, all) = (0, new HashSet<int>());
        for (var kills = 0; kills < Kills; rounds++)
        {
            // Slow enough to be met at many steps, also where an answer takes seconds.
            await admin.PaceAsync(Slow);
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
                }, what: () => "it stands still");
                if (at is null)
                {
                    break;
                }

                met.Add(at.Value);
                kills++;

                // While the process starts and people sign in, the world stands still.
                await admin.PaceAsync(0);
                admin.Dispose();
                second.Dispose();
                await world.Server.KillAsync();
                await world.Server.RunAsync();
                (admin, second) = await world.PeopleAsync();
                await admin.PaceAsync(kills < Kills ? Slow : 60);
            }

            all.UnionWith(met);
            await admin.PaceAsync(60);
            var run = await CarryOnAsync(admin, second, id);
            Assert.StartsWith("passed", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
            var result = await world.ResultAsync(id);
            Assert.DoesNotContain(result.GetProperty("seen").EnumerateArray(), s => s.TryGetPropertyOrFalse("here") && s.TryGetPropertyOrFalse("there"));
            Assert.Equal([0, 0], result.GetProperty("changes").EnumerateArray().Select(c => (int)c.TryGetPropertyOr("markersMissing")));
        }

        Assert.True(all.Count >= 4, string.Join(", ", all));
        var fleet = (await admin.FleetAsync()).DatabaseById[new("sms-queue")];
        Assert.Equal((host, branches + (2 * rounds)), (fleet.Host, fleet.Branches.Count));
        Assert.Equal(rounds, await world.Server.QueryAsync<long>("select count(*) from ledger where kind = 'drill' and database = 'sms-queue'"));
        Assert.Equal(rounds, await world.Server.QueryAsync<long>("select count(*) from proofs where took_over and database = 'sms-queue'"));
        admin.Dispose();
        second.Dispose();
    }

    private const double Slow = 4;

    /// <summary>How often the server is killed while a drill runs.</summary>
    private static readonly int Kills = int.Parse(Environment.GetEnvironmentVariable("IMBREK_KILLS") ?? "6", System.Globalization.CultureInfo.InvariantCulture);

    [Fact]
    public async Task Its_engine_is_stopped_and_nobody_helps_the_voters_have_it_take_over_and_clients_come_back_by_themselves()
    {
        var (admin, second) = await world.PeopleAsync();
        await admin.PaceAsync(20);
        await admin.ReplicaIsAsync("gate-passes-hill", "inStep");
        var asked = new { replica = "gate-passes-hill", kind = "automatic", ending = "home", byHand = false };
        var sheet = (await admin.PostAsync("/api/drills/worksheet", asked)).Body;
        Assert.Equal((0.0, false), (sheet.GetProperty("lostSeconds").GetDouble(), sheet.GetProperty("approval").GetBoolean()));
        Assert.Equal((409, "replica"), Session.Fault(await admin.PostAsync("/api/drills", new { replica = "tickets-hill", asked.kind, asked.ending, asked.byHand })));
        var id = await BeginAsync(admin, asked);
        var run = await CarryOnAsync(admin, second, id);
        Assert.StartsWith("passed: there and home again", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        var result = await world.ResultAsync(id);
        Assert.DoesNotContain(result.GetProperty("seen").EnumerateArray(), s => s.TryGetPropertyOrFalse("here") && s.TryGetPropertyOrFalse("there"));
        Assert.All(result.GetProperty("changes").EnumerateArray(), c => Assert.Equal((0.0, 0.0), (c.TryGetPropertyOr("markersMissing"), c.TryGetPropertyOr("lostSeconds"))));
        Assert.Equal("quay-h2", (await admin.FleetAsync()).DatabaseById[new("gate-passes")].Host.Value);
        Assert.StartsWith("host", (await admin.ProofAsync("gate-passes", id)).GetProperty("loss").GetString(), StringComparison.Ordinal);
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
        var (admin, second) = await world.PeopleAsync();
        Assert.Equal((status, member), Session.Fault(await admin.PostAsync("/api/drills", new { replica, kind, ending, loss })));
        Assert.Equal(0, await world.Server.QueryAsync<long>($"select count(*) from runs where kind = 'drill' and question->>'replica' = '{replica}' and question->>'kind' = 'never'"));
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task The_runbook_taken_along_can_be_followed_without_the_product()
    {
        var (admin, second) = await world.PeopleAsync();
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
}
