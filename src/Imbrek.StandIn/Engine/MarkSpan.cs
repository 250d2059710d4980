namespace Imbrek.StandIn.Engine;

/// <summary>A time in which a marker row is written each second. It begins and ends with a minute, because a minute is drawn whole.</summary>
/// <param name="Name">What the markers are called; each with its second behind it.</param>
/// <param name="From">The first, milliseconds.</param>
/// <param name="To">Before this one, milliseconds.</param>
public sealed record MarkSpan(string Name, long From, long To)
{
    /// <summary>How the names of all of them begin: they are told of to nobody but those who look for them.</summary>
    public const string Prefix = "drill ";

    /// <summary>How long a marker is written at the longest, milliseconds, whatever becomes of who asked for it.</summary>
    public const long Longest = 12 * 3_600_000;

    /// <summary>Its markers within a minute.</summary>
    internal IEnumerable<NamedChange> Within(long minute, long length)
    {
        for (var t = Math.Max(From, minute); t < Math.Min(To, minute + length); t += 1000)
        {
            yield return new NamedChange($"{Name} {(t - From) / 1000}", t, 0);
        }
    }
}
