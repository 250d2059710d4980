using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A move computed before anything is touched, on the real process.</summary>
[Collection("demo")]
public class MoveTests(DemoServer demo)
{
    [Fact]
    public async Task The_archive_never_gets_to_Hillhouse_at_its_rate_and_does_at_twice_that()
    {
        using var look = await demo.StillAsync("look");
        var asked = new { database = "plan-archive", to = "hill-h2", rate = (double?)null };
        var (status, move) = await look.PostAsync("/api/moves/worksheet", asked);
        Assert.True(status == 200, move.ToString());
        Assert.False(move.GetProperty("fits").GetBoolean());
        var (rate, remedy) = (move.GetProperty("rate").GetDouble(), move.GetProperty("remedy"));
        Assert.InRange(remedy.GetProperty("rate").GetDouble(), rate * 1.0001, rate * 2);

        var twice = (await look.PostAsync("/api/moves/worksheet", asked with { rate = rate * 2 })).Body;
        Assert.True(twice.GetProperty("fits").GetBoolean());
        Assert.InRange(twice.GetProperty("downtimeSeconds").GetDouble(), 180, 300);

        // What is said to be enough is, and a little less is not.
        var needed = remedy.GetProperty("rate").GetDouble();
        Assert.True((await look.PostAsync("/api/moves/worksheet", asked with { rate = needed * 1.00001 })).Body.GetProperty("fits").GetBoolean());
        Assert.False((await look.PostAsync("/api/moves/worksheet", asked with { rate = needed * 0.999 })).Body.GetProperty("fits").GetBoolean());

        Assert.Equal((400, "to"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { to = "nowhere" })));
        Assert.Equal((400, "to"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { to = "quay-h3" })));
        Assert.Equal((409, "to"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { to = "skerry-h1" })));
        Assert.Equal((400, "rate"), Session.Fault(await look.PostAsync("/api/moves/worksheet", asked with { rate = -1 })));
    }
}
