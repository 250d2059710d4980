using NodaTime;

namespace Imbrek.Core.Planning;

/// <content>How occurrences are found: by day numbers, day by day through the parts of the rule, or by elapsed time.</content>
public sealed partial class Recurrence
{
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

    /// <summary>
    /// A rule is given up when so many steps in a row match nothing: steps short enough to be that many within the horizon have been through all
    /// times of a day, on many days that fit, by then.
    /// </summary>
    private const int StepsWithoutMatch = 2_000_000;

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
        var positions = r.Positions.Count == 0 ? null : r.Positions.Select(p => p > 0 ? p - 1 : within.Length + p).Where(p => p >= 0 && p < within.Length).ToHashSet();
        if (positions is { Count: 0 })
        {
            return;
        }

        for (var fruitless = 0; at < sink.To && !sink.Done && fruitless < StepsWithoutMatch; fruitless++)
        {
            var local = offset.ToLocal(at);
            var day = (int)Math.Floor(local / 86_400_000.0);
            var inDay = local - (day * 86_400_000L);
            var second = (int)(inDay / 1000);
            if (day != lastDay)
            {
                (lastDay, lastFit) = (day, MatchesElapsed(new LocalDate(1970, 1, 1).PlusDays(day)) ? 1 : 0);
            }

            // What does not fit by its day, hour or minute cannot fit before the next one begins, unless the clock is changed before that.
            var skip = lastFit == 0 ? 86_400_000 - inDay
                : r.Hours.Count > 0 && !r.Hours.Contains(second / 3600) ? 3_600_000 - (inDay % 3_600_000)
                : r.Frequency != Frequency.Hourly && r.Minutes.Count > 0 && !r.Minutes.Contains(second / 60 % 60) ? 60_000 - (inDay % 60_000)
                : r.Frequency == Frequency.Secondly && r.Seconds.Count > 0 && !r.Seconds.Contains(second % 60) ? 1
                : 0;
            if (skip > 0)
            {
                at += step * Math.Max(1, (Math.Min(skip, offset.Until - at) + step - 1) / step);
                continue;
            }

            fruitless = 0;
            for (var i = 0; i < within.Length; i++)
            {
                var due = at + within[i];
                if (due >= start && due < sink.To && !sink.Done && positions?.Contains(i) != false)
                {
                    sink.Take(due, HasExceptions && Excepted(Instant.FromUnixTimeMilliseconds(due).InZone(Zone).LocalDateTime));
                }
            }

            at += step;
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

        /// <summary>When the offset looked up last ends.</summary>
        public readonly long Until => to;

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
