using System.Text.Json;
using Xunit;
using static Imbrek.Server.Tests.DrillWorld;

namespace Imbrek.Server.Tests;

/// <summary>Drills of many: all are asked once, stop at one instant, and each keeps its own proof.</summary>
[Collection("drills")]
public class JointDrillTests(DrillWorld world)
{
    [Theory]
    [InlineData("switchover")]
    [InlineData("forced")]
    [InlineData("automatic")]
    public async Task All_of_a_group_change_roles_together_people_are_asked_once_and_each_has_its_proof(string kind)
    {
        var (admin, second) = await world.PeopleAsync();
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
            var its = await world.ResultAsync(one.GetProperty("id").GetString()!);
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
    public async Task All_of_a_service_are_restored_aside_in_one_go_without_a_word_and_each_is_proved()
    {
        var (admin, second) = await world.PeopleAsync();
        var asked = new { of = "service", id = "ticketing", kind = "restoreTest", ending = "keep", loss = "site" };
        Assert.Equal((400, "ending"), Session.Fault(await admin.PostAsync("/api/drills/joint", asked with { ending = "home" })));
        Assert.Equal((400, "loss"), Session.Fault(await admin.PostAsync("/api/drills/joint", asked with { loss = "moon" })));
        Assert.Equal((400, "loss"), Session.Fault(await admin.PostAsync("/api/drills/joint", asked with { kind = "switchover" })));
        var sheet = (await admin.PostAsync("/api/drills/joint/worksheet", asked)).Body;
        var there = sheet.GetProperty("members").EnumerateArray().Where(m => m.GetProperty("whyNot").ValueKind == JsonValueKind.Null).ToArray();
        Assert.True(there.Length > 1);
        Assert.All(there, m => Assert.Equal(JsonValueKind.Null, m.GetProperty("by").ValueKind));
        Assert.Equal((JsonValueKind.Null, false), (sheet.GetProperty("refused").ValueKind, sheet.GetProperty("approval").GetBoolean()));
        var (status, answer) = await admin.PostAsync("/api/drills/joint", asked);
        Assert.Equal(201, status);
        var id = answer.GetProperty("id").GetString()!;

        // Nothing that runs is touched, so the world may hurry; the process dies in the midst of it.
        await admin.PaceAsync(300);
        await Eventually.Async(async () => await world.Server.QueryAsync<long>($"select count(*) from runs where after_id = '{id}'") > 0, what: () => "none begins");
        await world.Server.KillAsync();
        await world.Server.RunAsync();
        var run = await admin.RunIsAsync(id, "done");
        var measured = run.GetProperty("joint").GetProperty("measured").GetProperty("members").EnumerateArray().ToArray();
        Assert.Equal(there.Length, measured.Length);
        Assert.Equal(there.Length, await world.Server.QueryAsync<long>($"select count(*) from runs where after_id = '{id}' and kind = 'rehearsal' and state = {(short)Imbrek.Core.Runs.RunState.Done}"));
        Assert.Equal(there.Length, await world.Server.QueryAsync<long>($"select count(distinct p.database) from proofs p join runs r on r.id = p.run_id where r.after_id = '{id}' and p.loss like 'site%'"));
        Assert.All(measured, m => Assert.InRange(m.GetProperty("backSeconds").GetDouble(), m.GetProperty("serviceSeconds").GetDouble(), double.MaxValue));
        Assert.Contains(measured, m => m.GetProperty("backSeconds").GetDouble() == m.GetProperty("serviceSeconds").GetDouble());
        Assert.DoesNotContain(run.GetProperty("steps").EnumerateArray(), s => s.GetProperty("hold").GetBoolean() || s.GetProperty("owner").GetString() != "product");
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task One_of_many_that_is_called_off_before_writes_stop_leaves_all_as_they_were()
    {
        var (admin, second) = await world.PeopleAsync();
        await admin.ReplicaIsAsync("tickets-hill", "inStep");
        var sheet = (await admin.PostAsync("/api/drills/joint/worksheet", new { of = "site", id = "quayside", kind = "forced", ending = "keep" })).Body;
        var rows = sheet.GetProperty("members").EnumerateArray().ToArray();
        Assert.Contains(rows, m => m.GetProperty("by").ValueKind == JsonValueKind.String);
        Assert.Contains(rows, m => m.GetProperty("by").ValueKind == JsonValueKind.Null && m.GetProperty("host").ValueKind == JsonValueKind.String);
        Assert.All(rows.Where(m => m.GetProperty("whyNot").ValueKind == JsonValueKind.String), m => Assert.NotEmpty(m.GetProperty("whyNot").GetString()!));

        var (status, answer) = (0, default(JsonElement));
        await Eventually.Async(async () => ((status, answer) = await admin.PostAsync("/api/drills/joint", new { of = "service", id = "ticketing", kind = "switchover", ending = "keep" })).status == 201, what: () => answer.ToString());
        var id = answer.GetProperty("id").GetString()!;
        await Eventually.Async(async () => (await admin.GetAsync($"/api/runs/{id}")).GetProperty("steps").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "tell" && s.GetProperty("choices").GetArrayLength() > 0), what: () => "it never asks");
        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{id}/cancel", new { })).Status);
        await admin.RunIsAsync(id, "cancelled");
        await Eventually.Async(async () => await world.Server.QueryAsync<long>($"select count(*) from runs where after_id = '{id}' and state < 4") == 0, what: () => "its drills do not end");
        Assert.Equal(0, await world.Server.QueryAsync<long>($"select count(*) from runs where after_id = '{id}' and cancelled_by is distinct from 'admin'"));
        Assert.Equal("quay-h1", (await admin.FleetAsync()).DatabaseById[new("tickets")].Host.Value);
        admin.Dispose();
        second.Dispose();
    }
}
