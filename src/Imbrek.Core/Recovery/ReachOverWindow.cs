using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Span = Imbrek.Core.Recovery.Availability.Span;

namespace Imbrek.Core.Recovery;

/// <summary>
/// In one ordered pass over the sets: for each state, the as-of instants of a window at which it can be reached; from those and from
/// what replicas add, in one sweep over the window, how the latest recoverable instant moves. Nothing is evaluated again per event.
/// </summary>
internal sealed class ReachOverWindow
{
    [ThreadStatic]
    private static ReachOverWindow? cached;

    private readonly List<Span> arena = [];
    private readonly List<Span> available = [];
    private readonly PriorityQueue<long, long> bounded = new();
    private readonly List<ReplicaSpan> under = [];
    private ReplicaSpan[] replicaSpans = new ReplicaSpan[64];
    private int replicaSpanCount;
    private Span[] offers = [];
    private long[] offerStarts = [];
    private long[] offerValues = [];
    private int offerCount;
    private int[] starts = [];
    private int[] counts = [];

    private ReachOverWindow()
    {
    }

    /// <summary>What the sweep hands over: from this instant on, until the next call, this is how far one can get.</summary>
    public delegate void Segment(long from, long to, Reach reach);

    private const long Nothing = long.MinValue;

    /// <summary>As-of instants in which a replica gets one to an instant (<paramref name="Latest"/>), or, where that is <see cref="Nothing"/>, to so much before the as-of instant.</summary>
    private readonly record struct ReplicaSpan(long From, long Until, long Latest, long Lag);

    /// <summary>
    /// Sweeps a window. The loss of the place where the database runs now was, at each instant, that of the place where it ran then (<see cref="Branch.LeftHost"/>); one of another place is the same throughout.
    /// </summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss, resolved.</param>
    /// <param name="w0">First as-of instant, milliseconds.</param>
    /// <param name="w1">Last as-of instant, milliseconds.</param>
    /// <param name="segment">Called for each stretch of the window in order, and at last for the single instant w1.</param>
    public static void Sweep(RecoverySubject subject, Loss loss, long w0, long w1, Segment segment)
    {
        var d = subject.Database;
        if (d.Branches.Any(b => b.LeftHost is not null) && loss.Kind is not (LossKind.None or LossKind.Hostile) && Loss.OfKind(loss.Kind).For(d, subject.Fleet) == loss)
        {
            foreach (var move in d.Branches.Where(b => b.LeftHost is not null).OrderBy(b => b.StartsAt))
            {
                var (at, then) = (move.StartsAt.ToUnixTimeMilliseconds(), Loss.OfKind(loss.Kind).For(d with { Host = move.LeftHost!.Value }, subject.Fleet));
                if (at > w1)
                {
                    loss = then;
                    break;
                }

                if (at > w0)
                {
                    // The single instant at its end is the first of the next place.
                    SweepUnder(subject, then, w0, at, (from, to, reach) =>
                    {
                        if (from < to)
                        {
                            segment(from, to, reach);
                        }
                    });
                    w0 = at;
                }
            }
        }

        SweepUnder(subject, loss, w0, w1, segment);
    }

    private static void SweepUnder(RecoverySubject subject, Loss loss, long w0, long w1, Segment segment)
    {
        var pass = cached ?? new ReachOverWindow();
        cached = null;
        pass.Propagate(subject, new Availability(subject, loss), w0, w1);
        pass.replicaSpanCount = 0;
        var several = false;
        foreach (var replica in subject.Replicas)
        {
            var before = pass.replicaSpanCount;
            replica.Over(loss, w0, w1, pass);
            several |= before > 0 && pass.replicaSpanCount > before;
        }

        if (several)
        {
            Array.Sort(pass.replicaSpans, 0, pass.replicaSpanCount, ByStart);
        }

        pass.Run(w0, w1, several, segment);
        cached = pass;
    }

    private void Propagate(RecoverySubject subject, Availability availability, long w0, long w1)
    {
        var lineage = subject.Lineage;
        var c = lineage.Catalogue;
        var order = lineage.Order;
        arena.Clear();
        offerCount = 0;
        if (starts.Length < lineage.Count)
        {
            starts = new int[lineage.Count];
            counts = new int[lineage.Count];
        }

        Array.Fill(counts, -1, 0, lineage.Count);
        for (var k = 0; k < lineage.Count; k++)
        {
            var node = order is null ? k : order[k];
            var set = lineage.SetOf(node);
            available.Clear();
            availability.AddSpans(set, w0, w1, available);
            if (c.Kinds[set] != SetKind.Log)
            {
                ThroughParents(c, availability, node, w0, w1);
            }
            else
            {
                ThroughSources(lineage.SourcesOf(node), node);
            }

            if (lineage.IsForkStop(node) || lineage.StartOfBranch(set) > c.CoversTo[set] && c.Kinds[set] == SetKind.Log)
            {
                continue;
            }

            for (var i = 0; i < counts[node]; i++)
            {
                Offer(arena[starts[node] + i], c.CoversTo[set], w1);
            }
        }

        foreach (var start in lineage.Starts)
        {
            foreach (var node in start.Nodes)
            {
                for (var i = 0; i < counts[node]; i++)
                {
                    var s = arena[starts[node] + i];
                    Offer(new Span(Math.Max(s.From, start.StartsAt), s.Until), start.StartsAt, w1);
                }
            }
        }
    }

    /// <summary>A base can be reached while it and its parents, all the way down, are available.</summary>
    private void ThroughParents(DatabaseCatalogue c, Availability availability, int node, long w0, long w1)
    {
        var at = node;
        while (c.Parents[at] != DatabaseCatalogue.NoParent && available.Count > 0)
        {
            at = c.Parents[at];
            if (at < 0)
            {
                available.Clear();
                break;
            }

            if (counts[at] >= 0)
            {
                // Its parents are in what it already knows.
                IntersectAvailable(starts[at], counts[at]);
                break;
            }

            var first = arena.Count;
            availability.AddSpans(at, w0, w1, arena);
            IntersectAvailable(first, arena.Count - first);
        }

        Keep(node);
    }

    /// <summary>A log can be reached while it is available and some state it applies to can be.</summary>
    private void ThroughSources(ReadOnlySpan<int> sources, int node)
    {
        if (available.Count == 0 || sources.Length == 0)
        {
            (starts[node], counts[node]) = (arena.Count, 0);
            return;
        }

        if (available.Count == 1)
        {
            // The usual case: one source is there for as long as the log is.
            var whole = available[0];
            for (var i = sources.Length - 1; i >= 0; i--)
            {
                var s = sources[i];
                if (counts[s] == 1 && arena[starts[s]] is var span && span.From <= whole.From && span.Until >= whole.Until)
                {
                    Keep(node);
                    return;
                }
            }
        }

        var first = arena.Count;
        foreach (var source in sources)
        {
            for (var i = 0; i < counts[source]; i++)
            {
                var s = arena[starts[source] + i];
                foreach (var a in available)
                {
                    var both = new Span(Math.Max(s.From, a.From), Math.Min(s.Until, a.Until));
                    if (both.From < both.Until)
                    {
                        arena.Add(both);
                    }
                }
            }
        }

        Span.Normalize(arena, first);
        (starts[node], counts[node]) = (first, arena.Count - first);
    }

    private void IntersectAvailable(int first, int count)
    {
        var had = available.Count;
        for (var i = 0; i < had; i++)
        {
            for (var j = 0; j < count; j++)
            {
                var (a, b) = (available[i], arena[first + j]);
                var both = new Span(Math.Max(a.From, b.From), Math.Min(a.Until, b.Until));
                if (both.From < both.Until)
                {
                    available.Add(both);
                }
            }
        }

        available.RemoveRange(0, had);
    }

    private void Keep(int node)
    {
        (starts[node], counts[node]) = (arena.Count, available.Count);
        arena.AddRange(available);
    }

    /// <summary>Told of a span in which a replica gets one to an instant; of one replica in order.</summary>
    public void Stands(long from, long until, long latest) => Add(new ReplicaSpan(from, until, latest, long.MaxValue));

    /// <summary>Told of a span in which a replica gets one to so much before the as-of instant; of one replica in order.</summary>
    public void Moves(long from, long until, long lag) => Add(new ReplicaSpan(from, until, Nothing, lag));

    private void Add(in ReplicaSpan span)
    {
        if (replicaSpanCount == replicaSpans.Length)
        {
            Array.Resize(ref replicaSpans, replicaSpanCount * 2);
        }

        replicaSpans[replicaSpanCount++] = span;
    }

    private static readonly Comparer<ReplicaSpan> ByStart = Comparer<ReplicaSpan>.Create((a, b) => a.From.CompareTo(b.From));

    private void Offer(Span span, long value, long w1)
    {
        if (span.From > w1 || span.From >= span.Until)
        {
            return;
        }

        if (offerCount == offers.Length)
        {
            var size = Math.Max(256, offerCount * 2);
            Array.Resize(ref offers, size);
            Array.Resize(ref offerStarts, size);
            Array.Resize(ref offerValues, size);
        }

        offers[offerCount] = span;
        offerStarts[offerCount] = span.From;
        offerValues[offerCount] = value;
        offerCount++;
    }

    private void Run(long w0, long w1, bool several, Segment segment)
    {
        // Most sets come in order; sorting what is sorted is wasted.
        for (var i = 1; i < offerCount; i++)
        {
            if (offerStarts[i] < offerStarts[i - 1])
            {
                var keys = offerStarts.AsSpan(0, offerCount);
                var order = new int[offerCount];
                for (var k = 0; k < offerCount; k++)
                {
                    order[k] = k;
                }

                keys.Sort(order.AsSpan());
                var spans = new Span[offerCount];
                var values = new long[offerCount];
                for (var k = 0; k < offerCount; k++)
                {
                    spans[k] = offers[order[k]];
                    values[k] = offerValues[order[k]];
                }

                spans.CopyTo(offers, 0);
                values.CopyTo(offerValues, 0);
                break;
            }
        }

        bounded.Clear();
        under.Clear();
        var open = Nothing;
        long top = Nothing, topUntil = 0;
        int next = 0, nextSpan = 0;
        var near = new ReplicaSpan(0, long.MinValue, Nothing, long.MaxValue);
        var now = w0;
        while (true)
        {
            for (; next < offerCount && offerStarts[next] <= now; next++)
            {
                var (until, value) = (offers[next].Until, offerValues[next]);
                if (until == DatabaseCatalogue.Open)
                {
                    open = Math.Max(open, value);
                }
                else if (value > open)
                {
                    bounded.Enqueue(until, -value);
                }
            }

            top = Nothing;
            while (bounded.TryPeek(out topUntil, out var negative))
            {
                if (topUntil > now && -negative > open)
                {
                    top = -negative;
                    break;
                }

                bounded.Dequeue();
            }

            var latest = Math.Max(open, top);
            var to = w1;
            var moves = false;
            if (replicaSpanCount > 0)
            {
                if (several)
                {
                    near = Nearest(now, ref nextSpan);
                }
                else
                {
                    // Of one replica one span ends before the next begins.
                    for (; nextSpan < replicaSpanCount && replicaSpans[nextSpan].From <= now; nextSpan++)
                    {
                        near = replicaSpans[nextSpan];
                    }
                }

                to = nextSpan < replicaSpanCount ? Math.Min(to, replicaSpans[nextSpan].From) : to;
                if (near.Until > now)
                {
                    // What moves stays behind by as much, and so passes what stands.
                    to = Math.Min(to, near.Until);
                    latest = Math.Max(latest, near.Latest);
                    moves = near.Lag != long.MaxValue && (latest == Nothing || now - near.Lag >= latest);
                    to = moves || near.Lag == long.MaxValue ? to : Math.Min(to, latest + near.Lag);
                }
            }

            var reach = moves ? Reach.Behind(near.Lag) : latest == Nothing ? Reach.Nothing : Reach.To(latest);
            if (now == w1)
            {
                segment(w1, w1, reach);
                return;
            }

            if (moves)
            {
                // What stands matters again where something comes that is nearer; all else may come and go meanwhile.
                var (begins, values) = (offerStarts, offerValues);
                for (var i = next; i < offerCount && begins[i] < to; i++)
                {
                    to = values[i] > begins[i] - near.Lag ? begins[i] : to;
                }
            }
            else
            {
                to = next < offerCount ? Math.Min(to, offerStarts[next]) : to;
                to = top != Nothing ? Math.Min(to, topUntil) : to;
            }

            segment(now, to, reach);
            now = to;
        }
    }

    /// <summary>Of several replicas the nearest that moves and the latest that stands, and until when it is certain that they are.</summary>
    private ReplicaSpan Nearest(long now, ref int next)
    {
        for (; next < replicaSpanCount && replicaSpans[next].From <= now; next++)
        {
            under.Add(replicaSpans[next]);
        }

        var (until, latest, lag) = (long.MaxValue, Nothing, long.MaxValue);
        for (var i = under.Count - 1; i >= 0; i--)
        {
            if (under[i].Until <= now)
            {
                under.RemoveAt(i);
                continue;
            }

            until = Math.Min(until, under[i].Until);
            latest = Math.Max(latest, under[i].Latest);
            lag = Math.Min(lag, under[i].Lag);
        }

        return new ReplicaSpan(now, under.Count == 0 ? long.MinValue : until, latest, lag);
    }
}
