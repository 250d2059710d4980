using CsCheck;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Properties that are about some of the worlds that are drawn.</summary>
internal static class Sampled
{
    /// <summary>Looks at those a property is about, and makes sure that there were enough of them: one that is about none proves nothing.</summary>
    public static void OfThose<T>(this Gen<T> worlds, Predicate<T> about, Action<T> holds, int samples)
    {
        var looked = 0;
        worlds.Sample(
            w =>
            {
                if (about(w))
                {
                    holds(w);
                    Interlocked.Increment(ref looked);
                }
            },
            iter: samples);
        Assert.True(looked > samples / 40, $"only {looked} of {samples} worlds were looked at");
    }
}
