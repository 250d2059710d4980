using System.Globalization;

namespace Imbrek.Core.Timetable;

/// <summary>
/// Whether a value stands out among its like: further from their median than six times their median absolute deviation (scaled by
/// 1.4826 to compare with a standard deviation), and by more than a third of the median. Robust: a few odd ones before do not hide it.
/// </summary>
public static class OutlierTest
{
    /// <summary>How many like values are needed to tell.</summary>
    public const int Least = 8;

    private const double Deviations = 6;
    private const double Scale = 1.4826;
    private const double Share = 1.0 / 3;

    /// <summary>Durations vary with what else runs: only what takes over twice the usual stands out.</summary>
    private const double LongShare = 1;

    /// <summary>How many scaled deviations a value lies from the median; null when it does not stand out or too few are known.</summary>
    /// <param name="value">The value.</param>
    /// <param name="like">Its like.</param>
    /// <param name="share">By what share of the median it must differ at least.</param>
    public static double? Distance(double value, IReadOnlyCollection<double> like, double share = Share)
    {
        if (like.Count < Least)
        {
            return null;
        }

        var values = like.ToArray();
        var median = Median(values);
        var away = value - median;
        if (Math.Abs(away) <= share * Math.Abs(median))
        {
            // Nearly all are: every run is compared with its like.
            return null;
        }

        for (var i = 0; i < values.Length; i++)
        {
            values[i] = Math.Abs(values[i] - median);
        }

        var deviation = Scale * Median(values);
        return Math.Abs(away) <= Deviations * deviation ? null
            : deviation == 0 ? double.CopySign(double.PositiveInfinity, away)
            : away / deviation;
    }

    /// <summary>What stands out about a run, in words; null when nothing does.</summary>
    public static string? Of(double bytes, double seconds, IReadOnlyCollection<double> likeBytes, IReadOnlyCollection<double> likeSeconds)
    {
        var size = Distance(bytes, likeBytes) is { } d ? Say(bytes, likeBytes, d < 0 ? "smaller" : "larger") : null;
        var time = Distance(seconds, likeSeconds, LongShare) is { } t && t > 0 ? Say(seconds, likeSeconds, "longer") : null;
        return size is null ? time : time is null ? size : $"{size}; {time}";

        static string Say(double value, IReadOnlyCollection<double> like, string word)
        {
            var median = Median(like.ToArray());
            var ratio = value / Math.Max(median, 1e-9);
            var times = ratio >= 1 ? ratio : median / Math.Max(value, 1e-9);
            return string.Create(CultureInfo.InvariantCulture, $"{times:0.#} times {word} than usual");
        }
    }

    /// <summary>The median of values, which are in order afterwards.</summary>
    private static double Median(double[] values)
    {
        Array.Sort(values);
        return values.Length % 2 == 1 ? values[values.Length / 2] : (values[(values.Length / 2) - 1] + values[values.Length / 2]) / 2;
    }
}
