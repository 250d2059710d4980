using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>All instants from one to another, both included; a single instant is an interval of length 0.</summary>
public readonly record struct ClosedInterval
{
    /// <summary>Makes an interval.</summary>
    /// <exception cref="ArgumentException"><paramref name="to"/> is before <paramref name="from"/>.</exception>
    public ClosedInterval(Instant from, Instant to)
    {
        if (to < from)
        {
            throw new ArgumentException($"an interval cannot end ({to}) before it starts ({from})", nameof(to));
        }

        From = from;
        To = to;
    }

    /// <summary>The first instant.</summary>
    public Instant From { get; }

    /// <summary>The last instant.</summary>
    public Instant To { get; }

    /// <summary>Whether an instant lies in it.</summary>
    public bool Contains(Instant t) => From <= t && t <= To;

    /// <summary>Sorts, and joins the overlapping and touching ones.</summary>
    public static IReadOnlyList<ClosedInterval> Merge(IEnumerable<ClosedInterval> intervals)
    {
        var merged = new List<ClosedInterval>();
        foreach (var next in intervals.OrderBy(i => i.From).ThenBy(i => i.To))
        {
            if (merged.Count > 0 && next.From <= merged[^1].To)
            {
                merged[^1] = new(merged[^1].From, Instant.Max(merged[^1].To, next.To));
            }
            else
            {
                merged.Add(next);
            }
        }

        return merged;
    }
}
