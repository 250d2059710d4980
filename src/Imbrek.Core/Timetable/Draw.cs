namespace Imbrek.Core.Timetable;

/// <summary>Numbers drawn from a seed and a place, not from a sequence: the same whatever was drawn before, so that one can begin anywhere.</summary>
public static class Draw
{
    /// <summary>64 well-mixed bits for a seed and up to two coordinates (SplitMix64 finalizer).</summary>
    public static ulong Bits(ulong seed, long a, long b = 0)
    {
        var z = seed + (0x9E3779B97F4A7C15UL * unchecked((ulong)a + 1)) + (0xD1B54A32D192ED03UL * unchecked((ulong)b + 1));
        z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9UL;
        z = (z ^ (z >> 27)) * 0x94D049BB133111EBUL;
        return z ^ (z >> 31);
    }

    /// <summary>A number of 0 (included) to 1 (not included).</summary>
    public static double Unit(ulong seed, long a, long b = 0) => (Bits(seed, a, b) >> 11) * (1.0 / (1UL << 53));

    /// <summary>The seed of a name.</summary>
    public static ulong Of(ulong seed, string name)
    {
        foreach (var ch in name)
        {
            seed = Bits(seed, ch);
        }

        return seed;
    }

    /// <summary>A factor about 1 whose logarithm is spread normally.</summary>
    /// <param name="seed">The seed.</param>
    /// <param name="a">What it is drawn for.</param>
    /// <param name="b">What it is drawn for.</param>
    /// <param name="spread">Standard deviation of the logarithm; 0 gives 1.</param>
    public static double Factor(ulong seed, long a, long b, double spread)
    {
        if (spread <= 0)
        {
            return 1;
        }

        var (u, v) = (Math.Max(Unit(seed ^ 0x5EED, a, b), 1e-12), Unit(seed ^ 0xFACE, a, b));
        return Math.Exp(spread * Math.Sqrt(-2 * Math.Log(u)) * Math.Cos(2 * Math.PI * v));
    }
}
