using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>
/// g(t) of section 7: the bytes of log a second a database writes at an instant, the same every day, even within each hour (UTC). Everything that is asked of it is worked out
/// by whole days and hours. Offsets are seconds from an instant, so that nothing is lost to large numbers.
/// </summary>
public sealed class LogFlow
{
    private const double Hour = 3600, Day = 86_400;
    private const double MostDays = 1e6;
    private const double CatchUpWithinSeconds = 30 * Day;

    private readonly double[] rates;

    /// <summary>Bytes from midnight to the beginning of each hour; the last is a whole day.</summary>
    private readonly double[] before = new double[25];

    private LogFlow(double[] rates)
    {
        this.rates = rates;
        for (var h = 0; h < 24; h++)
        {
            before[h + 1] = before[h] + (rates[h] * Hour);
        }
    }

    /// <summary>The log flow of a database; null when its rate is not stated.</summary>
    public static LogFlow? Of(Database database) => database.LogBytesPerSecond is { } rate
        ? new([.. Enumerable.Range(0, 24).Select(h => rate * (database.LogByHour.Count == 0 ? 1 : database.LogByHour[h]))])
        : null;

    /// <summary>The log flow of several databases together.</summary>
    public static LogFlow OfAll(IReadOnlyCollection<LogFlow> flows) => new([.. Enumerable.Range(0, 24).Select(h => flows.Sum(f => f.rates[h]))]);

    /// <summary>The mean rate, bytes per second.</summary>
    public double Mean => before[24] / Day;

    /// <summary>The rate of the busiest hour, bytes per second.</summary>
    public double Busiest => rates.Max();

    /// <summary>The rate of an hour of the day (UTC), bytes per second.</summary>
    public double InHour(int hour) => rates[hour];

    /// <summary>Bytes written between two instants.</summary>
    /// <param name="at">The instant the offsets are from.</param>
    /// <param name="from">Where to begin, seconds after it; may be before it.</param>
    /// <param name="to">Where to end.</param>
    public double Between(Instant at, double from, double to)
    {
        var clock = ClockOf(at);
        return Written(clock + to) - Written(clock + from);
    }

    /// <summary>The greatest c at which what is written from an instant until c seconds later is within a limit; infinite when that is not within a million days.</summary>
    /// <param name="at">The instant.</param>
    /// <param name="limit">The limit, bytes; at least 0.</param>
    public double SecondsUntil(Instant at, double limit)
    {
        if (limit >= before[24] * MostDays)
        {
            return double.PositiveInfinity;
        }

        var clock = ClockOf(at);
        var days = Math.Floor(limit / before[24]);
        var left = limit - (days * before[24]);
        var x = clock;
        while (true)
        {
            var (hour, rest) = HourAt(x);
            var bytes = rates[hour] * rest;
            if (bytes > left)
            {
                return (days * Day) + (x - clock) + (left / rates[hour]);
            }

            // An hour in which nothing is written is within any limit.
            left -= bytes;
            x += rest;
        }
    }

    /// <summary>The least c, from a first one on, at which a backlog and what is written meanwhile have been worked off at a rate; null when that is not within 30 days.</summary>
    /// <param name="at">The instant the backlog is of.</param>
    /// <param name="offset">How many seconds after that instant it begins to be worked off.</param>
    /// <param name="backlog">The backlog, bytes.</param>
    /// <param name="rate">The rate, bytes per second; infinite takes no time.</param>
    /// <param name="atLeast">The first c looked at.</param>
    public double? CatchUp(Instant at, double offset, double backlog, double rate, double atLeast = 0)
    {
        if (double.IsPositiveInfinity(rate))
        {
            return atLeast;
        }

        var clock = ClockOf(at) + offset;
        var left = backlog + Written(clock + atLeast) - Written(clock) - (rate * atLeast);
        for (var c = atLeast; c <= CatchUpWithinSeconds;)
        {
            if (left <= 0)
            {
                return c;
            }

            var (hour, rest) = HourAt(clock + c);
            var slope = rates[hour] - rate;
            if (left + (slope * rest) <= 0)
            {
                var found = c + (left / -slope);
                return found <= CatchUpWithinSeconds ? found : null;
            }

            left += slope * rest;
            c += rest;
        }

        return null;
    }

    /// <summary>The most that waits at any time of a day when log is worked off at a rate, bytes: of the second of two days that begin empty at midnight (UTC). Null when more is written than is worked off.</summary>
    /// <param name="rate">The rate, bytes per second; infinite leaves nothing waiting.</param>
    public double? LongestQueue(double rate)
    {
        if (double.IsPositiveInfinity(rate))
        {
            return 0;
        }

        if (Mean >= rate)
        {
            return null;
        }

        double queue = 0, most = 0;
        for (var h = 0; h < 48; h++)
        {
            if (h >= 24)
            {
                most = Math.Max(most, queue);
            }

            queue = Math.Max(0, queue + ((rates[h % 24] - rate) * Hour));
        }

        return Math.Max(most, queue);
    }

    /// <summary>Seconds since midnight (UTC), exact to the millisecond.</summary>
    private static double ClockOf(Instant at) => (((at.ToUnixTimeMilliseconds() % 86_400_000) + 86_400_000) % 86_400_000) / 1000.0;

    /// <summary>Bytes written since midnight of the day the clock is of.</summary>
    private double Written(double clock)
    {
        var days = Math.Floor(clock / Day);
        var second = clock - (days * Day);
        var hour = Math.Min(23, (int)(second / Hour));
        return (days * before[24]) + before[hour] + (rates[hour] * (second - (hour * Hour)));
    }

    /// <summary>The hour of the day and how many seconds of it are left; more than none.</summary>
    private static (int Hour, double Left) HourAt(double clock)
    {
        var hours = Math.Floor(clock / Hour);
        var rest = ((hours + 1) * Hour) - clock;
        return ((int)(((hours % 24) + 24) % 24), rest);
    }
}
