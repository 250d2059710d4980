using NodaTime;

namespace Imbrek.PostgreSql.Log;

/// <summary>
/// When the log of a cluster stood where, by its own clock: who has received up to a position has all that was committed up to the instant at which the log had not come further than
/// that. Bounded: of what lies long ago every second mark is let go, and never the oldest.
/// </summary>
internal sealed class LogClock
{
    /// <summary>How many marks are kept.</summary>
    internal const int Most = 4096;

    private readonly List<(Instant At, Lsn Position)> marks = [];

    /// <summary>The log stood at a position at an instant: all that was committed by then lies before it. What is not later than what is known already says nothing new.</summary>
    public void Stood(Instant at, Lsn position)
    {
        if (marks.Count > 0 && (at <= marks[^1].At || position < marks[^1].Position))
        {
            return;
        }

        if (marks.Count > 0 && position == marks[^1].Position)
        {
            // Nothing was written meanwhile.
            marks[^1] = (at, position);
            return;
        }

        marks.Add((at, position));
        if (marks.Count > Most)
        {
            for (var i = Most / 2; i > 0; i -= 2)
            {
                marks.RemoveAt(i);
            }
        }
    }

    /// <summary>The first instant of which anything is known; null before.</summary>
    public Instant? First => marks.Count > 0 ? marks[0].At : null;

    /// <summary>Up to when everything committed lies before a position; null when that is not known.</summary>
    public Instant? CommittedBefore(Lsn position)
    {
        var (low, high) = (0, marks.Count);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (marks[middle].Position <= position)
            {
                low = middle + 1;
            }
            else
            {
                high = middle;
            }
        }

        return low == 0 ? null : marks[low - 1].At;
    }
}
