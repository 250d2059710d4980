namespace Imbrek.Core.Recovery;

/// <summary>
/// How finished runs of the same database, store and host compared with the profile (section 4): a factor on the profile's seconds.
/// </summary>
/// <param name="Median">Median of actual seconds over profile seconds.</param>
/// <param name="Cautious">90th percentile of the same.</param>
/// <param name="Runs">How many finished steps it rests on; at least 1.</param>
public sealed record LearnedPace(double Median, double Cautious, int Runs)
{
    /// <summary>Learns from finished steps.</summary>
    /// <param name="ratios">Actual seconds over profile seconds of each; must not be empty.</param>
    public static LearnedPace From(IReadOnlyCollection<double> ratios)
    {
        var sorted = ratios.Order().ToArray();
        return new LearnedPace(Quantile(sorted, 0.5), Quantile(sorted, 0.9), sorted.Length);
    }

    private static double Quantile(double[] sorted, double q)
    {
        var place = q * (sorted.Length - 1);
        var low = (int)place;
        var high = Math.Min(low + 1, sorted.Length - 1);
        return sorted[low] + ((sorted[high] - sorted[low]) * (place - low));
    }
}
