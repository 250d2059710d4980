using NodaTime;
using NodaTime.Calendars;

namespace Imbrek.Core.Planning;

/// <summary>
/// When something recurs: an RRULE of RFC 5545 with its start in local time, its zone and its exceptions.
/// <para>Clock changes. Days, weeks, months and years count in local time: a local time that does not exist is taken with the offset
/// before the gap (02:30 becomes 03:30), one that comes twice is taken the first time (RFC 5545, 3.3.5). Hours, minutes and seconds count
/// elapsed time, so that "every 15 minutes" is never an hour apart and never twice at once; their BY parts look at the local clock.</para>
/// </summary>
public sealed class Recurrence : IEquatable<Recurrence>
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

    // ---- days and weeks, the usual case: day numbers alone ----
    private bool OnWeekDays => Rule.Frequency is Frequency.Daily or Frequency.Weekly && Rule.Months.Count + Rule.MonthDays.Count + Rule.Positions.Count == 0;

    private void ExpandWeekDays(ref Sink sink)
    {
        // Bit 0 is Monday; 1 January 1970 was a Thursday.
        var fits = Rule.Days.Count == 0
            ? Rule.Frequency == Frequency.Daily ? 0x7F : 1 << ((int)Start.DayOfWeek - 1)
            : Rule.Days.Aggregate(0, (bits, d) => bits | (1 << ((int)d.Day - 1)));
        var weekly = Rule.Frequency == Frequency.Weekly;
        var startDay = Days(Start.Date);
        var startWeek = Days(WeekOf(Start.Date));
        var offset = new CachedOffset(Zone);
        var start = ToInstant(Start).ToUnixTimeMilliseconds();
        var day = sink.Counts ? startDay : Math.Max(startDay, (int)(sink.From / 86_400_000) - 2);
        for (; !sink.Done && (day - 1) * 86_400_000L < sink.To; day++)
        {
            if ((fits & (1 << ((day + 3) % 7))) == 0 || (weekly ? (day - startWeek) / 7 % Rule.Interval : (day - startDay) % Rule.Interval) != 0)
            {
                continue;
            }

            foreach (var second in secondsOfDay)
            {
                var local = (day * 86_400_000L) + (second * 1000L);
                var at = offset.ToInstant(local);
                if (at >= sink.To || sink.Done)
                {
                    return;
                }

                if (at >= start)
                {
                    sink.Take(at, HasExceptions && Excepted(new LocalDate(1970, 1, 1).PlusDays(day).AtMidnight().PlusSeconds(second)));
                }
            }
        }
    }

    // ---- months, years and the rarer rules ----
    private void ExpandDays(ref Sink sink)
    {
        var lookedFor = 0;
        var period = FirstPeriod(sink);
        var days = new List<LocalDate>();
        var offset = new CachedOffset(Zone);
        var start = ToInstant(Start).ToUnixTimeMilliseconds();
        var one = Rule.Frequency == Frequency.Daily;
        while (!sink.Done)
        {
            LocalDate first, next;
            try
            {
                (first, next) = Period(period++);
            }
            catch (OverflowException)
            {
                return;
            }

            days.Clear();
            for (var day = first; day < next; day = day.PlusDays(1))
            {
                if (Matches(day))
                {
                    days.Add(day);
                }
            }

            // Nothing in this period is due before its first day's midnight, less what a zone may be ahead.
            if (days.Count == 0)
            {
                if (++lookedFor > YearsWithoutMatch * (one ? 366 : 60) || Midnight(first) - 86_400_000 > sink.To)
                {
                    return;
                }

                continue;
            }

            lookedFor = 0;
            if (Midnight(days[0]) - 86_400_000 > sink.To)
            {
                return;
            }

            if (Rule.Positions.Count == 0)
            {
                foreach (var day in days)
                {
                    foreach (var second in secondsOfDay)
                    {
                        if (!Emit(day, second, ref sink))
                        {
                            return;
                        }
                    }
                }

                continue;
            }

            var total = days.Count * secondsOfDay.Length;
            foreach (var place in Rule.Positions.Select(p => p > 0 ? p - 1 : total + p).Where(p => p >= 0 && p < total).Distinct().Order())
            {
                if (!Emit(days[place / secondsOfDay.Length], secondsOfDay[place % secondsOfDay.Length], ref sink))
                {
                    return;
                }
            }
        }

        bool Emit(LocalDate day, int second, ref Sink into)
        {
            var local = Midnight(day) + (second * 1000L);
            var at = offset.ToInstant(local);
            if (at >= start)
            {
                if (at >= into.To)
                {
                    return false;
                }

                into.Take(at, HasExceptions && Excepted(day.AtMidnight().PlusSeconds(second)));
            }

            return !into.Done;
        }
    }

    private static long Midnight(LocalDate day) => (long)Days(day) * 86_400_000;

    private static int Days(LocalDate day) => NodaTime.Period.DaysBetween(new LocalDate(1970, 1, 1), day);

    /// <summary>The number of the period to begin with: the first, or, when nobody counts, the one before the instant asked for.</summary>
    private long FirstPeriod(in Sink sink)
    {
        var from = Instant.FromUnixTimeMilliseconds(sink.From).InZone(Zone).Date;
        if (sink.Counts || from <= Start.Date)
        {
            return 0;
        }

        var passed = Rule.Frequency switch
        {
            Frequency.Yearly => from.Year - Start.Year,
            Frequency.Monthly => ((from.Year - Start.Year) * 12) + from.Month - Start.Month,
            Frequency.Weekly => (Days(from) - Days(WeekOf(Start.Date))) / 7,
            _ => Days(from) - Days(Start.Date),
        };
        return Math.Max(0, (passed / Rule.Interval) - 1);
    }

    private LocalDate WeekOf(LocalDate day) => day.PlusDays(-(((int)day.DayOfWeek - (int)Rule.WeekStart + 7) % 7));

    /// <summary>The days of the n-th period: the first, and the one after the last.</summary>
    private (LocalDate First, LocalDate Next) Period(long n)
    {
        var by = checked((int)(n * Rule.Interval));
        switch (Rule.Frequency)
        {
            case Frequency.Yearly when Start.Year + by > 9998:
            case Frequency.Monthly when by > 95_000:
            case Frequency.Weekly when by > 400_000:
            case Frequency.Daily when by > 2_800_000:
                throw new OverflowException();
            case Frequency.Yearly:
                return (new LocalDate(Start.Year + by, 1, 1), new LocalDate(Start.Year + by + 1, 1, 1));
            case Frequency.Monthly:
                var month = new LocalDate(Start.Year, Start.Month, 1).PlusMonths(by);
                return (month, month.PlusMonths(1));
            case Frequency.Weekly:
                var week = WeekOf(Start.Date).PlusWeeks(by);
                return (week, week.PlusWeeks(1));
            default:
                var day = Start.Date.PlusDays(by);
                return (day, day.PlusDays(1));
        }
    }

    private bool Matches(LocalDate day)
    {
        var r = Rule;
        var noDayPart = r.Weeks.Count + r.YearDays.Count + r.MonthDays.Count + r.Days.Count == 0;
        if (r.Months.Count > 0 ? !r.Months.Contains(day.Month) : noDayPart && r.Frequency == Frequency.Yearly && day.Month != Start.Month)
        {
            return false;
        }

        if (noDayPart)
        {
            return r.Frequency switch
            {
                Frequency.Yearly or Frequency.Monthly => day.Day == Start.Day,
                Frequency.Weekly => day.DayOfWeek == Start.DayOfWeek,
                _ => true,
            };
        }

        return (r.Weeks.Count == 0 || MatchesWeek(day))
            && (r.YearDays.Count == 0 || Listed(r.YearDays, day.DayOfYear, CalendarSystem.Iso.GetDaysInYear(day.Year)))
            && (r.MonthDays.Count == 0 || Listed(r.MonthDays, day.Day, CalendarSystem.Iso.GetDaysInMonth(day.Year, day.Month)))
            && (r.Days.Count == 0 ? r.Weeks.Count == 0 || r.YearDays.Count + r.MonthDays.Count > 0 || day.DayOfWeek == Start.DayOfWeek : MatchesDay(day));
    }

    private static bool Listed(IReadOnlyList<int> list, int number, int last) => list.Contains(number) || list.Contains(number - last - 1);

    private bool MatchesWeek(LocalDate day)
    {
        var year = weekYears.GetWeekYear(day);
        return Listed(Rule.Weeks, weekYears.GetWeekOfWeekYear(day), weekYears.GetWeeksInWeekYear(year, CalendarSystem.Iso));
    }

    private bool MatchesDay(LocalDate day)
    {
        // A number counts within the month, or within the year when no month is named.
        var inMonth = Rule.Frequency == Frequency.Monthly || Rule.Months.Count > 0;
        var (number, last) = inMonth
            ? (day.Day, CalendarSystem.Iso.GetDaysInMonth(day.Year, day.Month))
            : (day.DayOfYear, CalendarSystem.Iso.GetDaysInYear(day.Year));
        foreach (var d in Rule.Days)
        {
            if (d.Day == day.DayOfWeek
                && (d.Number == 0 || d.Number == ((number - 1) / 7) + 1 || d.Number == -(((last - number) / 7) + 1)))
            {
                return true;
            }
        }

        return false;
    }

    // ---- hours, minutes, seconds ----
    private void ExpandElapsed(ref Sink sink)
    {
        var r = Rule;
        var start = ToInstant(Start).ToUnixTimeMilliseconds();
        var (unit, floor) = r.Frequency switch
        {
            Frequency.Hourly => (3_600_000L, (Start.Minute * 60_000L) + (Start.Second * 1000L)),
            Frequency.Minutely => (60_000L, Start.Second * 1000L),
            _ => (1000L, 0L),
        };
        var step = unit * r.Interval;
        var first = start - floor;
        long[] within = r.Frequency switch
        {
            Frequency.Hourly => [.. from m in Or(r.Minutes, Start.Minute) from s in Or(r.Seconds, Start.Second) select (m * 60_000L) + (s * 1000L)],
            Frequency.Minutely => [.. Or(r.Seconds, Start.Second).Select(s => s * 1000L)],
            _ => [0L],
        };
        var at = sink.Counts || sink.From <= first ? first : first + ((sink.From - first) / step * step);
        var plain = !HasExceptions && r.Months.Count + r.YearDays.Count + r.MonthDays.Count + r.Days.Count + r.Hours.Count + r.Positions.Count == 0
            && (r.Frequency == Frequency.Hourly || r.Minutes.Count == 0) && (r.Frequency != Frequency.Secondly || r.Seconds.Count == 0);
        if (plain)
        {
            for (; at < sink.To && !sink.Done; at += step)
            {
                foreach (var more in within)
                {
                    if (at + more >= start && at + more < sink.To && !sink.Done)
                    {
                        sink.Take(at + more, false);
                    }
                }
            }

            return;
        }

        var offset = new CachedOffset(Zone);
        int lastDay = int.MinValue, lastFit = 0;
        var positions = r.Positions.Count == 0 ? null : r.Positions.Select(p => p > 0 ? p - 1 : within.Length + p).ToHashSet();
        for (; at < sink.To && !sink.Done; at += step)
        {
            var local = offset.ToLocal(at);
            var day = (int)Math.Floor(local / 86_400_000.0);
            var second = (int)((local - (day * 86_400_000L)) / 1000);
            if (day != lastDay)
            {
                (lastDay, lastFit) = (day, MatchesElapsed(new LocalDate(1970, 1, 1).PlusDays(day)) ? 1 : 0);
            }

            if (lastFit == 0
                || (r.Hours.Count > 0 && !r.Hours.Contains(second / 3600))
                || (r.Frequency != Frequency.Hourly && r.Minutes.Count > 0 && !r.Minutes.Contains(second / 60 % 60))
                || (r.Frequency == Frequency.Secondly && r.Seconds.Count > 0 && !r.Seconds.Contains(second % 60)))
            {
                continue;
            }

            for (var i = 0; i < within.Length; i++)
            {
                var due = at + within[i];
                if (due >= start && due < sink.To && !sink.Done && positions?.Contains(i) != false)
                {
                    sink.Take(due, HasExceptions && Excepted(Instant.FromUnixTimeMilliseconds(due).InZone(Zone).LocalDateTime));
                }
            }
        }
    }

    private bool MatchesElapsed(LocalDate day) =>
        (Rule.Months.Count == 0 || Rule.Months.Contains(day.Month))
        && (Rule.YearDays.Count == 0 || Listed(Rule.YearDays, day.DayOfYear, CalendarSystem.Iso.GetDaysInYear(day.Year)))
        && (Rule.MonthDays.Count == 0 || Listed(Rule.MonthDays, day.Day, CalendarSystem.Iso.GetDaysInMonth(day.Year, day.Month)))
        && (Rule.Days.Count == 0 || Rule.Days.Any(d => d.Day == day.DayOfWeek));

    /// <summary>The zone's offset, asked for again only when time has left the interval it holds in.</summary>
    private struct CachedOffset(DateTimeZone zone)
    {
        private long from = long.MaxValue / 2;
        private long to = long.MinValue / 2;
        private long offset;

        /// <summary>Local milliseconds of an instant.</summary>
        public long ToLocal(long at)
        {
            if (at < from || at >= to)
            {
                Look(Instant.FromUnixTimeMilliseconds(at));
            }

            return at + offset;
        }

        /// <summary>The instant of local milliseconds, well inside an interval at once, near a change with care.</summary>
        public long ToInstant(long local)
        {
            const long Care = 4 * 3_600_000;
            var at = local - offset;
            if (at >= from + Care && at < to - Care)
            {
                return at;
            }

            var when = new LocalDateTime(1970, 1, 1, 0, 0).PlusMilliseconds(local);
            var map = zone.MapLocal(when);
            var instant = when.WithOffset(map.EarlyInterval.WallOffset).ToInstant();
            Look(instant);
            return instant.ToUnixTimeMilliseconds();
        }

        private void Look(Instant at)
        {
            var interval = zone.GetZoneInterval(at);
            from = interval.HasStart ? interval.Start.ToUnixTimeMilliseconds() : long.MinValue / 2;
            to = interval.HasEnd ? interval.End.ToUnixTimeMilliseconds() : long.MaxValue / 2;
            offset = interval.WallOffset.Milliseconds;
        }
    }
}
