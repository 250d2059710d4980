using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A copy now, this way, to there: outside the chain, read back, looked at whether it is plausible.</summary>
[Collection("demo")]
public class AdHocTests(DemoServer demo)
{
    [Fact]
    public async Task It_is_taken_once_beside_the_chain_and_a_way_back_while_what_cannot_be_is_said_by_its_member()
    {
        using var admin = await demo.AdminAsync();
        const string id = "passes";
        var asked = new { kind = "full", store = "quay-s2", compression = "light", key = (string?)null, why = "before the audit" };
        foreach (var (wrong, member) in new (object, string)[]
        {
            (asked with { kind = "log" }, "kind"),
            (asked with { store = "nowhere" }, "store"),
            (asked with { key = "nobody-has" }, "key"),
            (asked with { why = new string('x', 5_000) }, "why"),
        })
        {
            Assert.Equal(member, (await admin.PostAsync($"/api/databases/{id}/copy/worksheet", wrong)).Body.GetProperty("member").GetString());
            Assert.Equal(member, Session.Fault(await admin.PostAsync($"/api/databases/{id}/copy", wrong)).Item2);
        }

        var sheet = (await admin.PostAsync($"/api/databases/{id}/copy/worksheet", asked)).Body;
        Assert.True(sheet.GetProperty("seconds").GetDouble() > 0 && sheet.GetProperty("storedBytes").GetDouble() > 0);
        var sees = await admin.GetAsync($"/api/databases/{id}/sees");
        Assert.Equal((false, 2), (sees.GetProperty("partial").GetBoolean(), sees.GetProperty("things").GetArrayLength()));

        var (status, begun) = await admin.PostAsync($"/api/databases/{id}/copy", asked);
        Assert.True(status == 201, begun.ToString());
        var run = begun.GetProperty("id").GetString()!;
        var done = await admin.RunIsAsync(run, "done");
        Assert.StartsWith("it is there and whole", done.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        var set = done.GetProperty("run").GetProperty("set").GetString()!;
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from backup_sets where database = '{id}' and id = '{set}' and kind = 0"));
        Assert.Equal(1, await demo.Server.QueryAsync<long>($"select count(*) from ledger where kind = 'ad-hoc' and body::text like '%{run}%' and body::text like '%before the audit%'"));

        // Later differentials do not build on it, and it is a way back like any other.
        Assert.Equal(0, await demo.Server.QueryAsync<long>($"select count(*) from backup_sets where database = '{id}' and parent = '{set}'"));
        var took = done.GetProperty("steps").EnumerateArray().First(s => s.GetProperty("kind").GetString() == "take").GetProperty("ended").GetString();
        Assert.Equal(JsonValueKind.Object, (await admin.GetAsync($"/api/recover/{id}?target={took}&base={set}")).GetProperty("best").ValueKind);

        // Who may no longer sign in sees nothing, and takes nothing.
        Assert.Equal(204, (await admin.PostAsync("/api/world/sign-in", new { database = id, expired = true })).Status);
        Assert.True((await admin.GetAsync($"/api/databases/{id}/sees")).GetProperty("partial").GetBoolean());
        var again = (await admin.PostAsync($"/api/databases/{id}/copy", asked)).Body.GetProperty("id").GetString()!;
        await admin.RunIsAsync(again, "failed");
        Assert.Equal(204, (await admin.PostAsync("/api/world/sign-in", new { database = id, expired = false })).Status);
    }
}
