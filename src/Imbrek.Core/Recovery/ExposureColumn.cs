using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>The exposure curve within one column of a picture: its worst, so that no peak is lost, and its least.</summary>
/// <param name="At">Where the column begins.</param>
/// <param name="WorstSeconds">The supremum in it; null when nothing could be restored throughout.</param>
/// <param name="LeastSeconds">The least in it; null when nothing could be restored throughout.</param>
/// <param name="Unprotected">Whether at some instant in it nothing could be restored.</param>
public readonly record struct ExposureColumn(Instant At, double? WorstSeconds, double? LeastSeconds, bool Unprotected)
{
    /// <summary>Folds a curve into columns of equal width.</summary>
    /// <param name="steps">The curve.</param>
    /// <param name="from">Where the first column begins.</param>
    /// <param name="to">Where the last ends.</param>
    /// <param name="columns">How many; at least 1.</param>
    public static IReadOnlyList<ExposureColumn> Fold(IReadOnlyList<ExposureStep> steps, Instant from, Instant to, int columns)
    {
        var worst = new double?[columns];
        var least = new double?[columns];
        var nothing = new bool[columns];
        var span = (to - from).BclCompatibleTicks;

        // In whole ticks: with fractions a step could fall into the column before the one it begins in.
        Instant Edge(int column) => from + Duration.FromTicks((long)((Int128)span * column / columns));
        var c = 0;
        for (var i = 0; i < steps.Count; i++)
        {
            var (start, end) = (steps[i].At, i + 1 < steps.Count ? steps[i + 1].At : to);
            while (c + 1 < columns && Edge(c + 1) <= start)
            {
                c++;
            }

            for (; ; c++)
            {
                if (steps[i].Reach.IsNothing)
                {
                    nothing[c] = true;
                }
                else
                {
                    worst[c] = Math.Max(worst[c] ?? 0, steps[i].SecondsAt(Instant.Min(end, Edge(c + 1)))!.Value);
                    least[c] = Math.Min(least[c] ?? double.MaxValue, steps[i].SecondsAt(Instant.Max(start, Edge(c)))!.Value);
                }

                if (c + 1 == columns || Edge(c + 1) >= end)
                {
                    break;
                }
            }
        }

        return [.. Enumerable.Range(0, columns).Select(i => new ExposureColumn(Edge(i), worst[i], least[i], nothing[i]))];
    }
}
