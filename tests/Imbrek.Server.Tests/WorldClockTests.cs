using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>The world is brought forward by hand.</summary>
[Collection("demo")]
public class WorldClockTests(DemoServer demo)
{
    [Theory]
    [InlineData(0.25, 0)]
    [InlineData(1_234.567, 1_234)]
    [InlineData(61_000.5, 61_000)]
    public async Task Forward_by_any_time_it_stands_at_the_millisecond_that_lies_in(double by, int goes)
    {
        using var admin = await demo.StillAsync("admin");
        var before = await NowAsync(admin);
        Assert.Equal(204, (await admin.PostAsync("/api/world/forward", new { minutes = by / 60_000 })).Status);
        Assert.Equal(before.AddMilliseconds(goes), await NowAsync(admin));
    }

    [Theory]
    [InlineData(0)]
    [InlineData(-1)]
    [InlineData((7 * 24 * 60) + 1)]
    public async Task Backward_or_by_more_than_a_week_is_refused(double minutes)
    {
        using var admin = await demo.StillAsync("admin");
        Assert.Equal((400, "minutes"), Session.Fault(await admin.PostAsync("/api/world/forward", new { minutes })));
    }

    private static async Task<DateTimeOffset> NowAsync(Session session) => (await session.GetAsync("/api/clock")).GetProperty("now").GetDateTimeOffset();
}
