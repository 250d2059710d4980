namespace Imbrek.StandIn;

/// <summary>Numbers drawn from a seed and a place, not from a sequence: the same whatever was drawn before, so a world can resume anywhere.</summary>
internal static class Seeded
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
}
