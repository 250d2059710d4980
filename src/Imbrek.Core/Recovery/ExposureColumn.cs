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
        var width = (to - from).TotalSeconds / columns;
        for (var i = 0; i < steps.Count; i++)
        {
            var (start, end) = (steps[i].At, i + 1 < steps.Count ? steps[i + 1].At : to);
            var first = Math.Clamp((int)((start - from).TotalSeconds / width), 0, columns - 1);
            var last = Math.Clamp((int)Math.Ceiling((end - from).TotalSeconds / width) - 1, first, columns - 1);
            for (var c = first; c <= last; c++)
            {
                if (steps[i].Latest is not { } latest)
                {
                    nothing[c] = true;
                    continue;
                }

                var columnStart = Instant.Max(start, from + Duration.FromSeconds(c * width));
                var columnEnd = Instant.Min(end, from + Duration.FromSeconds((c + 1) * width));
                worst[c] = Math.Max(worst[c] ?? 0, (columnEnd - latest).TotalSeconds);
                least[c] = Math.Min(least[c] ?? double.MaxValue, (columnStart - latest).TotalSeconds);
            }
        }

        return [.. Enumerable.Range(0, columns).Select(c => new ExposureColumn(from + Duration.FromSeconds(c * width), worst[c], least[c], nothing[c]))];
    }
}
