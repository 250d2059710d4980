using Imbrek.Core.Timetable;

namespace Imbrek.StandIn.Engine;

/// <summary>
/// The transactions of one database, drawn minute by minute from a seed at the rate of the hour. The state at any instant can
/// therefore be computed again, independently of every backup.
/// </summary>
internal sealed class TransactionStream
{
    private const long Minute = 60_000;

    private readonly ulong seed;
    private readonly int pages;
    private readonly double perMinute;
    private readonly IReadOnlyList<NamedChange> named;
    private readonly IReadOnlyList<MarkSpan> marks;
    private readonly Queue<Transaction> ready = new();
    private long[] times = [];
    private long nextMinute;
    private long position;

    /// <summary>Begins at the birth of the database.</summary>
    /// <param name="seed">The seed of the database.</param>
    /// <param name="pages">Pages of its image.</param>
    /// <param name="perMinute">Mean transactions a minute over a day.</param>
    /// <param name="birth">Its birth, milliseconds.</param>
    /// <param name="named">Named changes; may grow while the stream is read, but only later than what was read.</param>
    /// <param name="marks">Times in which markers are written each second; they may grow and end in the same way.</param>
    /// <param name="goesOnFrom">The position of what it held at its birth: all it commits comes after both; null where it held nothing.</param>
    public TransactionStream(ulong seed, int pages, double perMinute, long birth, IReadOnlyList<NamedChange> named, IReadOnlyList<MarkSpan> marks, long? goesOnFrom = null)
    {
        this.seed = seed;
        this.pages = pages;
        this.perMinute = perMinute;
        this.named = named;
        this.marks = marks;
        nextMinute = (goesOnFrom is null ? birth : birth + Minute) / Minute * Minute;
        position = goesOnFrom ?? 1000;
    }

    /// <summary>The transactions committed after what was read so far, up to and including an instant.</summary>
    public IEnumerable<Transaction> Until(long time)
    {
        while (true)
        {
            while (ready.Count > 0 && ready.Peek().Time <= time)
            {
                yield return ready.Dequeue();
            }

            // A minute is drawn only when it has wholly passed or is passing, so that changes named until then are in it.
            if (ready.Count > 0 || nextMinute > time)
            {
                yield break;
            }

            DrawMinute(nextMinute);
            nextMinute += Minute;
        }
    }

    /// <summary>Takes in a change that was named after its minute was drawn; it comes later than what was read so far, and at an instant of its own.</summary>
    public void TakeIn(NamedChange change)
    {
        if (change.Time >= nextMinute)
        {
            return;
        }

        var step = Step(change.Time);
        Transaction[] drawn = [.. ready];
        ready.Clear();
        var before = drawn.TakeWhile(t => t.Time < change.Time).ToArray();
        var at = before.Length > 0 ? before[^1].Position : drawn.Length > 0 ? drawn[0].Position - Step(drawn[0].Time) : position;
        foreach (var t in (Transaction[])[.. before, new Transaction(at + step, change.Time, Writes(change.Time, change), change.Name), .. drawn.Skip(before.Length).Select(t => t with { Position = t.Position + step })])
        {
            ready.Enqueue(t);
        }

        position += step;
    }

    /// <summary>The first instant after another one, milliseconds, at which nothing is committed as far as it is drawn.</summary>
    public long FreeAfter(long time)
    {
        var taken = ready.Select(t => t.Time).ToHashSet();
        do
        {
            time++;
        }
        while (taken.Contains(time));
        return time;
    }

    /// <summary>Share of the daily mean in each hour (UTC): quiet nights, busy mornings and evenings.</summary>
    public static IReadOnlyList<double> FactorByHour { get; } =
        [0.05, 0.02, 0.02, 0.05, 0.3, 1.1, 2.2, 2.0, 1.5, 1.3, 1.2, 1.3, 1.4, 1.3, 1.3, 1.6, 2.1, 1.8, 1.2, 0.8, 0.5, 0.3, 0.2, 0.1];

    /// <summary>The share of the hour of an instant.</summary>
    public static double HourFactor(long time) => FactorByHour[(int)(time / 3_600_000 % 24)];

    private void DrawMinute(long minute)
    {
        var wanted = perMinute * HourFactor(minute);
        var count = (int)wanted + (Draw.Unit(seed, minute, 1) < wanted - Math.Floor(wanted) ? 1 : 0);
        if (count == 0 && named.Count == 0 && marks.Count == 0)
        {
            return;
        }

        if (times.Length < count)
        {
            times = new long[count * 2];
        }

        var drawn = times.AsSpan(0, count);
        for (var i = 0; i < count; i++)
        {
            drawn[i] = minute + (long)(Draw.Unit(seed, minute, 100 + i) * Minute);
        }

        drawn.Sort();
        var own = Named(minute);
        var next = 0;
        foreach (var time in drawn)
        {
            for (; next < own.Count && own[next].Time < time; next++)
            {
                Commit(own[next].Time, own[next]);
            }

            Commit(time, null);
        }

        for (; next < own.Count; next++)
        {
            Commit(own[next].Time, own[next]);
        }
    }

    /// <summary>What is named within a minute, by time.</summary>
    private IReadOnlyList<NamedChange> Named(long minute)
    {
        List<NamedChange>? found = null;
        foreach (var change in named)
        {
            if (change.Time >= minute && change.Time < minute + Minute)
            {
                (found ??= []).Add(change);
            }
        }

        foreach (var mark in marks)
        {
            if (mark.From < minute + Minute && mark.To > minute)
            {
                (found ??= []).AddRange(mark.Within(minute, Minute));
            }
        }

        return found is null ? [] : [.. found.OrderBy(c => c.Time)];
    }

    private void Commit(long time, NamedChange? change)
    {
        position += Step(time);
        ready.Enqueue(new Transaction(position, time, Writes(time, change), change?.Name));
    }

    /// <summary>How far the log grows with what is committed at an instant.</summary>
    private long Step(long time) => 1 + (long)(Draw.Bits(seed, time, 2) % 60);

    private RowWrite[] Writes(long time, NamedChange? change)
    {
        var rows = pages * PageImage.RowsPerPage;
        if (change?.Statement is { } statement)
        {
            return WorldStatement.Read(statement, rows)?.Writes ?? [];
        }

        if (change is not null)
        {
            var first = (int)(Draw.Bits(seed, time, 3) % (ulong)Math.Max(1, rows - change.CancelsRows));
            return [.. Enumerable.Range(first, change.CancelsRows).Select(r => new RowWrite(r, PageImage.Cancelled))];
        }

        var writes = new RowWrite[1 + (int)(Draw.Bits(seed, time, 4) % 3)];
        for (var i = 0; i < writes.Length; i++)
        {
            var bits = Draw.Bits(seed, time, 10 + i);

            // Most writes fall on a hot tenth of the pages, so that differentials are smaller than fulls.
            var span = (bits & 7) == 0 ? rows : Math.Max(1, rows / 10);
            writes[i] = new RowWrite((int)((bits >> 8) % (ulong)span), (uint)(bits >> 33));
        }

        return writes;
    }
}
