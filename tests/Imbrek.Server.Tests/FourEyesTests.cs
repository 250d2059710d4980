using Xunit;
using static Imbrek.Server.Tests.DrillWorld;

namespace Imbrek.Server.Tests;

/// <summary>What may lose something waits for a second person, or for one who says twice that there is none.</summary>
[Collection("drills")]
public class FourEyesTests(DrillWorld world)
{
    [Fact]
    public async Task A_second_person_refuses_with_a_reason_that_is_kept_and_nothing_has_happened()
    {
        var (admin, second) = await world.PeopleAsync();
        await admin.ReplicaIsAsync("tickets-hill", "inStep");
        var id = await BeginAsync(admin, new { replica = "tickets-hill", kind = "forced", ending = "keep", byHand = false });
        var step = 0;
        await Eventually.Async(async () => (step = (await admin.GetAsync($"/api/runs/{id}")).GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("choices").GetArrayLength() > 0).Select(s => s.GetProperty("number").GetInt32()).FirstOrDefault()) > 0, what: () => "nobody is asked");
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
    public async Task In_an_emergency_one_person_decides_alone_asked_twice_told_to_everybody_and_in_the_ledger()
    {
        var (admin, second) = await world.PeopleAsync();
        await admin.ReplicaIsAsync("ticket-payments-hill", "inStep");
        var id = await BeginAsync(admin, new { replica = "ticket-payments-hill", kind = "forced", ending = "part", byHand = false });
        await Eventually.Async(async () => Step(await admin.GetAsync($"/api/runs/{id}"), "stop").GetProperty("choices").GetArrayLength() > 0, what: () => "nobody is asked");
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
}
