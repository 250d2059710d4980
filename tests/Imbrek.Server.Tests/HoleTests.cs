using System.Text.Json;
using Xunit;
using static Imbrek.Server.Tests.Members;

namespace Imbrek.Server.Tests;

/// <summary>The hole that the history of the demo has. In a world of its own, that stands still: in one in which many days have passed the hole is past what is kept, and nothing of that history in the week looked at.</summary>
public class HoleTests(DemoServer demo) : IClassFixture<DemoServer>
{
    [Fact]
    public async Task Where_designed_and_observed_differ_by_more_than_a_tenth_it_is_said_why()
    {
        using var look = await demo.StillAsync("look");
        var (agree, differ) = (0, 0);
        foreach (var id in Of(await look.GetAsync("/api/fleet"), "rows").Where(r => Of(r, "plans").Length > 0).Select(r => Text(r, "id")))
        {
            var view = await look.GetAsync($"/api/databases/{id}/plan?loss=site");
            foreach (var f in Of(view, "figures"))
            {
                double? designed = f.GetProperty("designedExposureSeconds") is { ValueKind: JsonValueKind.Number } d ? d.GetDouble() : null;
                double? observed = f.GetProperty("observedExposureSeconds") is { ValueKind: JsonValueKind.Number } o ? o.GetDouble() : null;
                var far = designed is null != observed is null || Math.Abs((designed - observed) ?? 0) > 0.1 * Math.Max(designed ?? 0, observed ?? 0);
                Assert.Equal(far, Of(f, "whyTheyDiffer").Length > 0);
                _ = far ? differ++ : agree++;
            }

            Assert.NotEmpty(Of(view, "next"));
            Assert.Equal(Of(view, "next").Select(n => Time(n, "due")).Order(), Of(view, "next").Select(n => Time(n, "due")));
        }

        var hole = await look.GetAsync("/api/databases/cargo-manifests/plan?loss=site");
        Assert.Contains(Of(hole, "figures").SelectMany(f => Of(f, "whyTheyDiffer")), w => w.GetString()!.Contains("is in no set", StringComparison.Ordinal));

        Assert.True(agree > 0 && differ > 0, $"{agree} agree, {differ} differ");
    }

    [Fact]
    public async Task An_instant_in_a_hole_offers_its_neighbours_with_the_reason()
    {
        using var look = await demo.StillAsync("look");
        var gap = (await look.GetAsync("/api/databases/cargo-manifests/cover")).GetProperty("gaps").EnumerateArray().First(g => !g.GetProperty("atEnd").GetBoolean());
        var inside = gap.GetProperty("from").GetDateTimeOffset().AddMinutes(30).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", null);
        var nearest = (await look.GetAsync($"/api/recover/cargo-manifests?target={inside}")).GetProperty("nearest");
        Assert.False(nearest.GetProperty("recoverable").GetBoolean());
        Assert.Equal(gap.GetProperty("from").GetDateTimeOffset(), nearest.GetProperty("before").GetDateTimeOffset());
        Assert.Equal(gap.GetProperty("to").GetDateTimeOffset(), nearest.GetProperty("after").GetDateTimeOffset());
        Assert.NotEqual(0, nearest.GetProperty("reasons").GetArrayLength());
    }
}
