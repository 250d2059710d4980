using System.Runtime;
using Imbrek.Server.Features.Files;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A time without collection: one at a time, and never more than a gain in speed.</summary>
public sealed class UncollectedTests
{
    private const long Some = 100 << 20;

    [Fact]
    public void There_is_one_at_a_time_which_ends_however_much_is_made_and_none_that_is_not_worth_it_or_too_much()
    {
        Assert.Null(Uncollected.For(1000));
        Assert.Null(Uncollected.For(long.MaxValue));
        using (Uncollected.For(Some))
        {
            Assert.Equal(GCLatencyMode.NoGCRegion, GCSettings.LatencyMode);
            Assert.Null(Uncollected.For(Some));
            var collections = GC.CollectionCount(0);
            Assert.Equal(Some / 2, Make(Some / 2));
            Assert.Equal(collections, GC.CollectionCount(0));
            Assert.Equal(Some * 2, Make(Some * 2));
        }

        Assert.NotEqual(GCLatencyMode.NoGCRegion, GCSettings.LatencyMode);
        using var again = Uncollected.For(Some);
        Assert.NotNull(again);
    }

    private static long Make(long bytes)
    {
        var kept = new List<byte[]>();
        for (var made = 0L; made < bytes; made += 10 << 10)
        {
            kept.Add(new byte[10 << 10]);
        }

        return Math.Min(bytes, kept.Sum(k => (long)k.Length));
    }
}
