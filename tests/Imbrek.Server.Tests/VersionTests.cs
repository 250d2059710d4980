using System.Globalization;
using System.Text.Json.Nodes;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>The version calendar, on the real process.</summary>
[Collection("demo")]
public class VersionTests(DemoServer demo)
{
    [Fact]
    public async Task A_version_calendar_put_in_force_is_a_finding_of_those_who_must_move_on_and_one_with_a_fault_changes_nothing()
    {
        using var plan = await Session.SignInAsync(demo.Server.Url, "plan");
        using var look = await Session.SignInAsync(demo.Server.Url, "look");
        var was = await look.GetTextAsync("/api/export/versions");
        var (due, now) = ((await look.GetAsync("/api/versions")).GetProperty("due")[0], DateTimeOffset.Parse(await DemoServer.AgoAsync(look, 0), CultureInfo.InvariantCulture));
        Assert.Equal((DateOnly.Parse(due.GetProperty("supportedUntil").GetString()!, CultureInfo.InvariantCulture).ToDateTime(default) - now.UtcDateTime.Date).TotalDays, due.GetProperty("daysLeft").GetInt32(), 1.0);
        var bad = await plan.PutAsync("/api/versions", JsonNode.Parse("""{"versions":[{"engine":"chain-log","version":"14","supportedUntil":"never"}]}""")!);
        Assert.Equal((422, "versions[0].supportedUntil"), (bad.Status, bad.Body.GetProperty("faults")[0].GetProperty("member").GetString()));
        Assert.Equal(was, await look.GetTextAsync("/api/export/versions"));
        Assert.Equal(403, (await look.PutAsync("/api/versions", JsonNode.Parse(was)!)).Status);

        var past = (await plan.PutAsync("/api/versions", JsonNode.Parse("""{"versions":[{"engine":"managed","version":"15","supportedUntil":"2001-01-01"}]}""")!)).Body;
        Assert.Equal(1, past.GetProperty("versions").GetInt32());
        await Eventually.Async(async () => (await look.GetAsync("/api/findings?database=vouchers")).ToString().Contains("version-out-of-support", StringComparison.Ordinal), what: () => "it is no finding");
        Assert.DoesNotContain("version-", (await look.GetAsync("/api/findings?database=tickets")).ToString(), StringComparison.Ordinal);
        Assert.Equal(200, (await plan.PutAsync("/api/versions", JsonNode.Parse(was)!)).Status);
        Assert.Equal(2, await demo.Server.QueryAsync<long>("select count(*) from ledger where kind = 'version-calendar'"));
    }
}
