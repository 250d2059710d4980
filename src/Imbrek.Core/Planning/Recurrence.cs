using NodaTime;
using NodaTime.Calendars;

namespace Imbrek.Core.Planning;

/// <summary>
/// When something recurs: an RRULE of RFC 5545 with its start in local time, its zone and its exceptions.
/// <para>Clock changes. Days, weeks, months and years count in local time: a local time that does not exist is taken with the offset
/// before the gap (02:30 becomes 03:30), one that comes twice is taken the first time (RFC 5545, 3.3.5). Hours, minutes and seconds count
/// elapsed time, so that "every 15 minutes" is never an hour apart and never twice at once; their BY parts look at the local clock.</para>
/// </summary>
public sealed partial class Recurrence : IEquatable<Recurrence>
{
    /// <summary>A rule that matches nothing (30 February) is given up after so many years.</summary>
    private const int YearsWithoutMatch = 40;

    private readonly HashSet<LocalDate> exceptDays;
    private readonly HashSet<LocalDateTime> exceptTimes;
    private readonly int[] secondsOfDay;
    private readonly Instant? until;
    private readonly IWeekYearRule weekYears;

    /// <summary>Makes a recurrence.</summary>
    /// <param name="rule">The rule.</param>
    /// <param name="start">DTSTART: the first local time it may fire, whole seconds; fills in what the rule leaves open.</param>
    /// <param name="zone">The time zone.</param>
    /// <param name="exceptDays">Local days on which it does not fire.</param>
    /// <param name="exceptTimes">Local times at which it does not fire.</param>
    public Recurrence(
        RecurrenceRule rule, LocalDateTime start, DateTimeZone zone, IEnumerable<LocalDate>? exceptDays = null, IEnumerable<LocalDateTime>? exceptTimes = null)
    {
        (Rule, Start, Zone) = (rule, start.With(TimeAdjusters.TruncateToSecond), zone);
        ExceptDays = [.. (exceptDays ?? []).Distinct().Order()];
        ExceptTimes = [.. (exceptTimes ?? []).Distinct().Order()];
        this.exceptDays = [.. ExceptDays];
        this.exceptTimes = [.. ExceptTimes];
        secondsOfDay =
        [
            .. from h in Or(rule.Hours, Start.Hour)
               from m in Or(rule.Minutes, Start.Minute)
               from s in Or(rule.Seconds, Start.Second)
               select (h * 3600) + (m * 60) + s,
        ];
        until = rule.Until ?? (rule.UntilLocal is { } local ? ToInstant(local) : null);
        weekYears = WeekYearRules.ForMinDaysInFirstWeek(4, rule.WeekStart);
    }

    /// <summary>The rule.</summary>
    public RecurrenceRule Rule { get; }

    /// <summary>DTSTART in local time.</summary>
    public LocalDateTime Start { get; }

    /// <summary>The zone its local times belong to.</summary>
    public DateTimeZone Zone { get; }

    /// <summary>Local days on which it does not fire.</summary>
    public IReadOnlyList<LocalDate> ExceptDays { get; }

    /// <summary>Local times at which it does not fire.</summary>
    public IReadOnlyList<LocalDateTime> ExceptTimes { get; }

    private bool Elapsed => Rule.Frequency >= Frequency.Hourly;

    /// <summary>The occurrences in [from, to), in order.</summary>
    public IEnumerable<Instant> Between(Instant from, Instant to)
    {
        var found = new List<long>();
        Expand(from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds(), found);
        return found.Select(Instant.FromUnixTimeMilliseconds);
    }

    /// <summary>The next occurrences after an instant; fewer when it ends.</summary>
    public IReadOnlyList<Instant> NextAfter(Instant after, int count)
    {
        var found = new List<long>();
        var from = Instant.Max(after + Duration.FromMilliseconds(1), ToInstant(Start));
        for (var span = Duration.FromDays(2); found.Count < count && span < Duration.FromDays(366 * YearsWithoutMatch); span *= 4)
        {
            found.Clear();
            Expand(from.ToUnixTimeMilliseconds(), (from + span).ToUnixTimeMilliseconds(), found, count);
        }

        return [.. found.Take(count).Select(Instant.FromUnixTimeMilliseconds)];
    }

    /// <summary>Appends the occurrences in [from, to), milliseconds of the Unix epoch, in order.</summary>
    /// <param name="from">The first instant.</param>
    /// <param name="to">The instant after the last.</param>
    /// <param name="into">Where they go.</param>
    /// <param name="atMost">Stop after so many.</param>
    public void Expand(long from, long to, List<long> into, int atMost = int.MaxValue)
    {
        if (until is { } last)
        {
            to = Math.Min(to, last.ToUnixTimeMilliseconds() + 1);
        }

        var sink = new Sink(from, to, Rule.Count ?? int.MaxValue, into, atMost);
        if (Elapsed)
        {
            ExpandElapsed(ref sink);
        }
        else if (OnWeekDays)
        {
            ExpandWeekDays(ref sink);
        }
        else
        {
            ExpandDays(ref sink);
        }
    }

    /// <summary>
    /// The same recurrence had it been in force since before an instant: the same occurrences from its start on, and before them those that
    /// keep step with it. One that began before is given back as it is, and so is one that ends after so many times, or comes too seldom to matter.
    /// </summary>
    /// <param name="since">The instant.</param>
    public Recurrence InForceSince(Instant since)
    {
        var start = ToInstant(Start);
        if (start <= since || Rule.Count is not null)
        {
            return this;
        }

        if (Elapsed)
        {
            var step = Duration.FromSeconds((double)Rule.Interval * (Rule.Frequency switch { Frequency.Hourly => 3600, Frequency.Minutely => 60, _ => 1 }));
            var at = start - (step * (1 + Math.Floor((start - since) / step)));
            while (ToInstant(at.InZone(Zone).LocalDateTime) != at)
            {
                // A local time that comes twice means the first of the two.
                at -= step;
            }

            return StartingAt(at.InZone(Zone).LocalDateTime);
        }

        // Back by whole intervals, and so far that what the start fills in for the rule stays: its day of the week, of the month, of a leap year.
        var (days, each) = Rule.Frequency switch
        {
            Frequency.Daily => (1L, 1),
            Frequency.Weekly => (7L, 1),
            Frequency.Monthly => (1461L, 48),
            _ => (146_097L, 400),
        };
        var times = Rule.Interval * (1 + ((long)(start - since).TotalDays / (days * Rule.Interval)));
        if (days * times > 3_000_000)
        {
            return this;
        }

        var count = each * (int)times;
        return StartingAt(Rule.Frequency switch
        {
            Frequency.Daily => Start.PlusDays(-count),
            Frequency.Weekly => Start.PlusWeeks(-count),
            Frequency.Monthly => Start.PlusMonths(-count),
            _ => Start.PlusYears(-count),
        });

        Recurrence StartingAt(LocalDateTime earlier) => new(Rule, earlier, Zone, ExceptDays, ExceptTimes);
    }

    /// <summary>The occurrences in [from, to) whose local time does not exist, because the clock is put forward over it.</summary>
    public IEnumerable<LocalDateTime> InGaps(Instant from, Instant to)
    {
        if (Elapsed)
        {
            yield break;
        }

        foreach (var interval in Zone.GetZoneIntervals(from, to).Where(i => i.HasStart && i.Start >= from))
        {
            var before = Zone.GetZoneInterval(interval.Start - Duration.Epsilon).WallOffset;
            var gap = interval.WallOffset - before;
            if (gap <= Offset.Zero)
            {
                continue;
            }

            // What was shifted lies one gap later than it says.
            foreach (var at in Between(interval.Start, interval.Start + Duration.FromSeconds(gap.Seconds)))
            {
                var asked = at.WithOffset(before).LocalDateTime;
                if (secondsOfDay.Contains((int)(asked.NanosecondOfDay / NodaConstants.NanosecondsPerSecond)))
                {
                    yield return asked;
                }
            }
        }
    }

    /// <inheritdoc/>
    public bool Equals(Recurrence? other) => other is not null && Rule.Equals(other.Rule) && Start == other.Start && Zone.Id == other.Zone.Id
        && ExceptDays.SequenceEqual(other.ExceptDays) && ExceptTimes.SequenceEqual(other.ExceptTimes);

    /// <inheritdoc/>
    public override bool Equals(object? obj) => Equals(obj as Recurrence);

    /// <inheritdoc/>
    public override int GetHashCode() => HashCode.Combine(Rule, Start, Zone.Id);

    /// <summary>The instant of a local time: with the offset before a gap, and the first of two.</summary>
    private Instant ToInstant(LocalDateTime local)
    {
        var map = Zone.MapLocal(local);
        return local.WithOffset(map.EarlyInterval.WallOffset).ToInstant();
    }

    private static IReadOnlyList<int> Or(IReadOnlyList<int> given, int fallback) => given.Count > 0 ? given : [fallback];

    /// <summary>Takes occurrences, counts them, and keeps those within bounds.</summary>
    private struct Sink(long from, long to, int count, List<long> into, int atMost)
    {
        private readonly bool counts = count != int.MaxValue;
        private int left = count;
        private int room = atMost;

        public readonly long From => from;

        public readonly long To => to;

        public readonly bool Counts => counts;

        public readonly bool Done => left == 0 || room == 0;

        public void Take(long at, bool excepted)
        {
            left--;
            if (!excepted && at >= from && at < to)
            {
                into.Add(at);
                room--;
            }
        }
    }

    private bool Excepted(LocalDateTime local) => exceptDays.Contains(local.Date) || exceptTimes.Contains(local);

    private bool HasExceptions => exceptDays.Count + exceptTimes.Count > 0;
}
