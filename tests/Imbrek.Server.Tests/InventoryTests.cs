using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Hosts asked for their databases, on the real process.</summary>
[Collection("demo")]
public class InventoryTests(DemoServer demo)
{
    private static async Task<JsonElement> AnswerAsync(Session session, string host)
    {
        JsonElement told = default;
        var before = Of(await session.GetAsync("/api/inventory"), host).GetProperty("at").ToString();
        Assert.Equal(202, (await session.PostAsync($"/api/inventory/{host}/ask", new { })).Status);
        await Eventually.Async(async () =>
        {
            told = Of(await session.GetAsync("/api/inventory"), host);
            return !told.GetProperty("waits").GetBoolean();
        });
        Assert.NotEqual("", told.GetProperty("at").ToString());
        Assert.Equal(before, told.GetProperty("beforeAt").ToString());
        return told;
    }

    private static JsonElement Of(JsonElement hosts, string host) => hosts.EnumerateArray().Single(h => h.GetProperty("host").GetString() == host);

    private static (string, string)[] Changes(JsonElement told) => [.. told.GetProperty("changes").EnumerateArray().Select(c => (c.GetProperty("what").GetString()!, c.GetProperty("name").GetString()!))];

    [Fact]
    public async Task A_host_tells_what_nobody_put_into_the_fleet_what_has_grown_and_what_it_may_not_show()
    {
        using var operate = await demo.StillAsync("operate");
        var told = await AnswerAsync(operate, "quay-h2");
        Assert.Equal([("new", "kiosk_pilot"), ("larger", "Voyage log")], Changes(told));
        Assert.Empty(told.GetProperty("unseen").EnumerateArray());
        Assert.Equal(told.GetProperty("known").GetInt32() + 1, told.GetProperty("seen").GetInt32());
        await Eventually.Async(async () => (await operate.GetAsync("/api/findings?database=voyage-log")).ToString().Contains("larger-by-half", StringComparison.Ordinal), what: () => "it is no finding");
        Assert.Contains("not-in-fleet", (await operate.GetAsync("/api/findings")).ToString(), StringComparison.Ordinal);

        var partial = await AnswerAsync(operate, "hill-h2");
        Assert.Contains("1 more", Assert.Single(partial.GetProperty("unseen").EnumerateArray()).GetString(), StringComparison.Ordinal);

        // Asked again, nothing of it is new since.
        told = await AnswerAsync(operate, "quay-h2");
        Assert.All(told.GetProperty("changes").EnumerateArray(), c => Assert.False(c.GetProperty("sinceBefore").GetBoolean()));
        Assert.True(await demo.Server.QueryAsync<long>("select count(*) from ledger where kind = 'inventory'") >= 3);
    }

    [Fact]
    public async Task A_host_that_does_not_answer_has_lost_nothing_and_says_so()
    {
        using var admin = await demo.StillAsync("admin");

        // At one and the same instant, twice while it answers: what it says then is not taken for what it said before.
        await AnswerAsync(admin, "quay-m1");
        Assert.Empty(Changes(await AnswerAsync(admin, "quay-m1")));
        Assert.Equal(204, (await admin.PostAsync("/api/world/host-down", new { host = "quay-m1", down = true })).Status);
        try
        {
            var told = await AnswerAsync(admin, "quay-m1");
            Assert.Equal("host quay-m1 does not answer", Assert.Single(told.GetProperty("unseen").EnumerateArray()).GetString());
            Assert.All(Changes(told), c => Assert.Equal("notSeen", c.Item1));
            Assert.NotEmpty(Changes(told));
        }
        finally
        {
            await admin.PostAsync("/api/world/host-down", new { host = "quay-m1", down = false });
        }

        Assert.Empty(Changes(await AnswerAsync(admin, "quay-m1")));
    }

    [Fact]
    public async Task Only_hosts_of_the_fleet_are_asked_and_not_by_everybody()
    {
        using var look = await Session.SignInAsync(demo.Server.Url, "look");
        using var operate = await Session.SignInAsync(demo.Server.Url, "operate");
        Assert.Equal(403, (await look.PostAsync("/api/inventory/quay-h1/ask", new { })).Status);
        Assert.Equal(404, (await operate.PostAsync("/api/inventory/nowhere/ask", new { })).Status);
    }
}
