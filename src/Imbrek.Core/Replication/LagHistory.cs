using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>All stretches of lag of one replica, immutable, as columns in order of time (about 70 bytes a stretch). Times and lags are milliseconds.</summary>
public sealed class LagHistory
{
    /// <summary>Stands for "no position stated".</summary>
    internal const long NoPosition = long.MinValue;

    internal readonly int[] Branches;
    internal readonly long[] From;
    internal readonly long[] To;
    internal readonly long[] ReceivedLag;
    internal readonly long[] AppliedLag;
    internal readonly long[] LeastLag;
    internal readonly long[] PendingBytes;
    internal readonly long[] ReceivedPosition;

    /// <summary>Builds the columns.</summary>
    /// <param name="replica">The replica.</param>
    /// <param name="stretches">Its stretches in any order; they touch at most.</param>
    public LagHistory(Id<Replica> replica, IEnumerable<LagStretch> stretches)
    {
        Replica = replica;
        LagStretch[] all = [.. stretches.OrderBy(s => s.From).ThenBy(s => s.To)];
        Branches = [.. all.Select(s => s.Branch)];
        From = [.. all.Select(s => s.From.ToUnixTimeMilliseconds())];
        To = [.. all.Select(s => s.To.ToUnixTimeMilliseconds())];
        ReceivedLag = [.. all.Select(s => Milliseconds(s.ReceivedLag))];
        AppliedLag = [.. all.Select(s => Milliseconds(s.AppliedLag))];
        LeastLag = [.. all.Select(s => Milliseconds(s.AppliedLeastLag))];
        PendingBytes = [.. all.Select(s => s.PendingBytes)];
        ReceivedPosition = [.. all.Select(s => s.ReceivedPosition ?? NoPosition)];
    }

    /// <summary>The replica these are of.</summary>
    public Id<Replica> Replica { get; }

    /// <summary>How many stretches there are.</summary>
    public int Count => From.Length;

    /// <summary>The stretches in order of time.</summary>
    public IEnumerable<LagStretch> Stretches => Enumerable.Range(0, Count).Select(i => this[i]);

    /// <summary>One stretch, put together from the columns.</summary>
    public LagStretch this[int index] => new(
        Replica,
        Branches[index],
        Instant.FromUnixTimeMilliseconds(From[index]),
        Instant.FromUnixTimeMilliseconds(To[index]),
        Duration.FromMilliseconds(ReceivedLag[index]),
        Duration.FromMilliseconds(AppliedLag[index]),
        Duration.FromMilliseconds(LeastLag[index]),
        PendingBytes[index],
        ReceivedPosition[index] == NoPosition ? null : ReceivedPosition[index]);

    /// <summary>The spans in which it was followed, within two instants: from one stretch to the next there is at most a given time, else it was cut off between.</summary>
    /// <param name="from">The first instant.</param>
    /// <param name="to">The last instant.</param>
    /// <param name="most">What may lie between two stretches without an outage.</param>
    public IReadOnlyList<(Instant From, Instant To)> Followed(Instant from, Instant to, Duration most)
    {
        var spans = new List<(Instant From, Instant To)>();
        var (first, last) = (from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds());
        for (var i = Math.Max(0, IndexAt(first)); i < Count && From[i] <= last; i++)
        {
            if (To[i] < first)
            {
                continue;
            }

            var (a, b) = (Instant.FromUnixTimeMilliseconds(Math.Max(first, From[i])), Instant.FromUnixTimeMilliseconds(Math.Min(last, To[i])));
            if (spans.Count > 0 && a - spans[^1].To <= most)
            {
                spans[^1] = (spans[^1].From, Instant.Max(b, spans[^1].To));
            }
            else
            {
                spans.Add((a, b));
            }
        }

        return spans;
    }

    /// <summary>The place of the stretch with the greatest beginning up to an instant; -1 when there is none.</summary>
    internal int IndexAt(long at)
    {
        var found = Array.BinarySearch(From, at);
        if (found < 0)
        {
            return ~found - 1;
        }

        // Of stretches that begin at once (the first of them a single instant) the last holds.
        while (found + 1 < From.Length && From[found + 1] == at)
        {
            found++;
        }

        return found;
    }

    /// <summary>The stretches of which some instant lies in a window, in order.</summary>
    public IEnumerable<LagStretch> Within(Instant from, Instant to)
    {
        var (first, last) = (from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds());
        for (var i = Math.Max(0, IndexAt(first)); i < Count && From[i] <= last; i++)
        {
            if (To[i] >= first)
            {
                yield return this[i];
            }
        }
    }

    /// <summary>The most by which what was received lagged at any instant of a window, while nothing was received too; null when nothing is known of it.</summary>
    public Duration? WorstReceivedLag(Instant from, Instant to)
    {
        var (first, last) = (from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds());
        long? worst = null;
        for (var i = Math.Max(0, IndexAt(first)); i < Count && From[i] <= last; i++)
        {
            // After its end what was received stands still until the next begins, or the window ends.
            var until = Math.Min(last, i + 1 < Count ? From[i + 1] : last);
            worst = Math.Max(worst ?? 0, ReceivedLag[i] + Math.Max(0, until - To[i]));
        }

        return worst is { } ms ? Duration.FromMilliseconds(ms) : null;
    }

    /// <summary>The same history with some stretches added: over the span of theirs they are all there is.</summary>
    public LagHistory With(IReadOnlyCollection<LagStretch> changed)
    {
        var (from, to) = (changed.Min(s => s.From), changed.Max(s => s.To));
        return new(Replica, [
            .. Stretches.Where(s => s.From < from).Select(s => s.To > from ? s with { To = from, ReceivedPosition = null } : s),
            .. changed,
            .. Stretches.Where(s => s.To > to).Select(s => s.From < to ? s with { From = to } : s)]);
    }

    private static long Milliseconds(Duration d) => (long)Math.Round(d.TotalMilliseconds);
}
