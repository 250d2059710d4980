namespace Imbrek.Core.Timetable;

/// <summary>Numbers that look drawn at random and are the same for the same seed.</summary>
public static class Draw
{
    /// <summary>A number in [0, 1).</summary>
    public static double Unit(ulong seed, long a, long b = 0)
    {
        var x = seed ^ ((ulong)a * 0x9E3779B97F4A7C15) ^ ((ulong)b * 0xC2B2AE3D27D4EB4F);
        x = (x ^ (x >> 30)) * 0xBF58476D1CE4E5B9;
        x = (x ^ (x >> 27)) * 0x94D049BB133111EB;
        return ((x ^ (x >> 31)) >> 11) * (1.0 / (1UL << 53));
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
