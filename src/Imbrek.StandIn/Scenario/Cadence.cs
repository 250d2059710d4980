using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>When a task of the scenario is due.</summary>
public abstract record Cadence
{
    /// <summary>The first time it is due after an instant.</summary>
    public abstract Instant NextAfter(Instant t);

    /// <summary>Again and again after the same time, counted from the start of the Unix epoch.</summary>
    /// <param name="Period">Time between two.</param>
    /// <param name="Offset">Shift against full multiples of the period, so that not all start at once.</param>
    public sealed record Every(Duration Period, Duration Offset) : Cadence
    {
        /// <inheritdoc/>
        public override Instant NextAfter(Instant t)
        {
            var (period, offset) = ((long)Period.TotalMilliseconds, (long)Offset.TotalMilliseconds);
            var since = t.ToUnixTimeMilliseconds() - offset;
            return Instant.FromUnixTimeMilliseconds((Math.DivRem(since, period).Quotient * period) + period + offset);
        }
    }

    /// <summary>At a local time on some days of the week.</summary>
    /// <param name="Time">The local time; one that a clock change leaves out runs when the clock has jumped, one that comes twice runs the first time.</param>
    /// <param name="Zone">The time zone.</param>
    /// <param name="Days">The days; empty means every day.</param>
    public sealed record At(LocalTime Time, DateTimeZone Zone, IReadOnlyList<IsoDayOfWeek> Days) : Cadence
    {
        /// <inheritdoc/>
        public override Instant NextAfter(Instant t)
        {
            for (var day = t.InZone(Zone).Date; ; day = day.PlusDays(1))
            {
                if (Days.Count == 0 || Days.Contains(day.DayOfWeek))
                {
                    var due = day.At(Time).InZoneLeniently(Zone).ToInstant();
                    if (due > t)
                    {
                        return due;
                    }
                }
            }
        }
    }
}
