using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>The recoverable instants next to one that may not be.</summary>
/// <param name="Recoverable">Whether the instant itself is recoverable.</param>
/// <param name="Before">The last recoverable one before it, or itself; null when there is none.</param>
/// <param name="After">The first recoverable one after it, or itself; null when there is none.</param>
public sealed record NearestInstants(bool Recoverable, Instant? Before, Instant? After)
{
    /// <summary>Looks in a recoverable set.</summary>
    public static NearestInstants To(Instant wanted, IReadOnlyList<ClosedInterval> recoverable)
    {
        Instant? before = null, after = null;
        foreach (var interval in recoverable)
        {
            if (interval.Contains(wanted))
            {
                return new(true, wanted, wanted);
            }

            if (interval.To < wanted)
            {
                before = interval.To;
            }
            else if (after is null)
            {
                after = interval.From;
            }
        }

        return new(false, before, after);
    }
}
