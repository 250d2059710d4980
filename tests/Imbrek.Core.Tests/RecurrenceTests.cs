using System.Globalization;
using CsCheck;
using Ical.Net.CalendarComponents;
using Imbrek.Core.Planning;
using NodaTime;
using NodaTime.Text;
using Xunit;
using CalDateTime = Ical.Net.DataTypes.CalDateTime;

namespace Imbrek.Core.Tests;

/// <summary>Recurrences: the examples of RFC 5545 (3.8.5.3), clock changes, words, and another library as reference.</summary>
public class RecurrenceTests
{
    private static readonly DateTimeZone NewYork = DateTimeZoneProviders.Tzdb["America/New_York"];
    private static readonly DateTimeZone Oslo = DateTimeZoneProviders.Tzdb["Europe/Oslo"];
    private static readonly LocalDateTimePattern Text = LocalDateTimePattern.CreateWithInvariantCulture("uuuuMMdd'T'HHmmss");

    private static Recurrence Of(string rule, string start = "19970902T090000", DateTimeZone? zone = null) =>
        new(RecurrenceRule.Parse(rule), Text.Parse(start).Value, zone ?? NewYork);

    /// <summary>Days of month by month: "9709: 2 4; 9710: 1" is 2 and 4 September and 1 October 1997.</summary>
    private static IEnumerable<LocalDate> Dates(string text) =>
        from month in text.Split(';', StringSplitOptions.TrimEntries)
        let parts = month.Split(':', StringSplitOptions.TrimEntries)
        let yy = int.Parse(parts[0][..2], CultureInfo.InvariantCulture)
        from day in parts[1].Split(' ', StringSplitOptions.RemoveEmptyEntries)
        select new LocalDate(yy < 50 ? 2000 + yy : 1900 + yy, int.Parse(parts[0][2..], CultureInfo.InvariantCulture), int.Parse(day, CultureInfo.InvariantCulture));

    [Theory]
    [InlineData("FREQ=DAILY;COUNT=10", "9709: 2 3 4 5 6 7 8 9 10 11", true)]
    [InlineData("FREQ=DAILY;INTERVAL=2", "9709: 2 4 6 8 10 12 14 16 18 20 22 24 26 28 30; 9710: 2 4 6", false)]
    [InlineData("FREQ=DAILY;INTERVAL=10;COUNT=5", "9709: 2 12 22; 9710: 2 12", true)]
    [InlineData("FREQ=WEEKLY;COUNT=10", "9709: 2 9 16 23 30; 9710: 7 14 21 28; 9711: 4", true)]
    [InlineData("FREQ=WEEKLY;UNTIL=19971224T000000Z", "9709: 2 9 16 23 30; 9710: 7 14 21 28; 9711: 4 11 18 25; 9712: 2 9 16 23", true)]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;WKST=SU", "9709: 2 16 30; 9710: 14 28; 9711: 11 25; 9712: 9 23; 9801: 6 20; 9802: 3 17", false)]
    [InlineData("FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "9709: 2 4 9 11 16 18 23 25 30; 9710: 2", true)]
    [InlineData("FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH", "9709: 2 4 9 11 16 18 23 25 30; 9710: 2", true)]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "9709: 2 4 16 18 30; 9710: 2 14 16", true)]
    [InlineData("FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYMONTHDAY=1,15", "9709: 15; 9711: 1 15; 9801: 1 15; 9803: 1 15; 9805: 1 15; 9807: 1", true)]
    [InlineData("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "9709: 2 15; 9710: 2 15; 9711: 2 15; 9712: 2 15; 9801: 2 15", true)]
    [InlineData("FREQ=MONTHLY;BYDAY=TU", "9709: 2 9 16 23 30; 9710: 7 14 21 28; 9711: 4 11 18 25; 9712: 2 9 16 23 30", false)]
    [InlineData("FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15", "9709: 10 11 12 13 14 15; 9903: 10 11 12 13", true)]
    [InlineData("FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200", "0001: 1; 0004: 9; 0007: 18; 0301: 1; 0304: 10; 0307: 19; 0601: 1; 0604: 10; 0607: 19; 0901: 1", true)]
    [InlineData("FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "9709: 4; 9710: 7; 9711: 6", true)]
    [InlineData("FREQ=YEARLY;BYMONTH=6,7;COUNT=4", "9806: 2; 9807: 2; 9906: 2; 9907: 2", true)]
    public void The_examples_that_start_on_2_September_1997(string rule, string dates, bool all) =>
        Expect(Of(rule), dates, all);

    [Theory]
    [InlineData("FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "19970905T090000", "9709: 5; 9710: 3; 9711: 7; 9712: 5; 9801: 2; 9802: 6; 9803: 6; 9804: 3; 9805: 1; 9806: 5", true)]
    [InlineData("FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR", "19970905T090000", "9709: 5; 9710: 3; 9711: 7; 9712: 5", true)]
    [InlineData("FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "19970907T090000", "9709: 7 28; 9711: 2 30; 9801: 4 25; 9803: 1 29; 9805: 3 31", true)]
    [InlineData("FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "19970922T090000", "9709: 22; 9710: 20; 9711: 17; 9712: 22; 9801: 19; 9802: 16", true)]
    [InlineData("FREQ=MONTHLY;BYMONTHDAY=-3", "19970928T090000", "9709: 28; 9710: 29; 9711: 28; 9712: 29; 9801: 29; 9802: 26", false)]
    [InlineData("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "19970930T090000", "9709: 30; 9710: 1 31; 9711: 1 30; 9712: 1 31; 9801: 1 31; 9802: 1", true)]
    [InlineData("FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "19970610T090000", "9706: 10; 9707: 10; 9806: 10; 9807: 10; 9906: 10; 9907: 10; 0006: 10; 0007: 10; 0106: 10; 0107: 10", true)]
    [InlineData("FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3", "19970310T090000", "9703: 10; 9901: 10; 9902: 10; 9903: 10; 0101: 10; 0102: 10; 0103: 10; 0301: 10; 0302: 10; 0303: 10", true)]
    [InlineData("FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200", "19970101T090000", "9701: 1; 9704: 10; 9707: 19; 0001: 1; 0004: 9; 0007: 18; 0301: 1; 0304: 10; 0307: 19; 0601: 1", true)]
    [InlineData("FREQ=YEARLY;BYDAY=20MO", "19970519T090000", "9705: 19; 9805: 18; 9905: 17", false)]
    [InlineData("FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "19970512T090000", "9705: 12; 9805: 11; 9905: 17", false)]
    [InlineData("FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "19970313T090000", "9703: 13 20 27; 9803: 5 12 19 26; 9903: 4 11 18 25", false)]
    [InlineData("FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8", "19970605T090000", "9706: 5 12 19 26; 9707: 3 10 17 24 31; 9708: 7 14 21 28; 9806: 4 11 18 25", false)]
    [InlineData("FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "19970902T090000", "9802: 13; 9803: 13; 9811: 13; 9908: 13; 0010: 13", false)]
    [InlineData("FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "19970913T090000", "9709: 13; 9710: 11; 9711: 8; 9712: 13; 9801: 10; 9802: 7; 9803: 7; 9804: 11; 9805: 9; 9806: 13", false)]
    [InlineData("FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "19961105T090000", "9611: 5; 0011: 7; 0411: 2", false)]
    [InlineData("FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "19970904T090000", "9709: 4; 9710: 7; 9711: 6", true)]
    [InlineData("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "19970929T090000", "9709: 29; 9710: 30; 9711: 27; 9712: 30; 9801: 29; 9802: 26; 9803: 30", false)]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "19970805T090000", "9708: 5 10 19 24", true)]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "19970805T090000", "9708: 5 17 19 31", true)]
    [InlineData("FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "20070115T090000", "0701: 15 30; 0702: 15; 0703: 15 30", true)]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR", "19970901T090000", "9709: 1 3 5 15 17 19 29; 9710: 1 3 13 15 17 27 29 31; 9711: 10 12 14 24 26 28; 9712: 8 10 12 22", true)]
    [InlineData("FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA", "20000128T090000", "0001: 28 29 30 31", true)]
    public void The_other_dated_examples(string rule, string start, string dates, bool all) => Expect(Of(rule, start), dates, all);

    [Theory]
    [InlineData("FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z", "09:00 12:00 15:00")]
    [InlineData("FREQ=MINUTELY;INTERVAL=15;COUNT=6", "09:00 09:15 09:30 09:45 10:00 10:15")]
    [InlineData("FREQ=MINUTELY;INTERVAL=90;COUNT=4", "09:00 10:30 12:00 13:30")]
    public void The_examples_within_a_day(string rule, string times) =>
        Assert.Equal(times, string.Join(' ', Of(rule).NextAfter(Instant.FromUtc(1997, 1, 1, 0, 0), 10).Select(i => i.InZone(NewYork).ToString("HH:mm", CultureInfo.InvariantCulture))));

    [Fact]
    public void Every_twenty_minutes_from_nine_to_twenty_to_five_can_be_written_in_two_ways()
    {
        var (from, to) = (Instant.FromUtc(1997, 9, 1, 0, 0), Instant.FromUtc(1997, 12, 1, 0, 0));
        var daily = Of("FREQ=DAILY;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=0,20,40").Between(from, to).ToArray();
        Assert.Equal(daily, Of("FREQ=MINUTELY;INTERVAL=20;BYHOUR=9,10,11,12,13,14,15,16").Between(from, to));
        Assert.Equal(24, daily.Count(i => i.InZone(NewYork).Date == new LocalDate(1997, 9, 3)));
        var january = Of("FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1", "19980101T090000").Between(from, Instant.FromUtc(2001, 1, 1, 0, 0)).ToArray();
        Assert.Equal(93, january.Length);
        Assert.Equal(january, Of("FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA", "19980101T090000").Between(from, Instant.FromUtc(2001, 1, 1, 0, 0)));
    }

    [Fact]
    public void A_local_time_that_does_not_exist_is_taken_with_the_offset_before_and_one_that_comes_twice_the_first_time()
    {
        var half = Of("FREQ=DAILY", "20260328T023000", Oslo);
        Assert.Equal(
            [Instant.FromUtc(2026, 3, 28, 1, 30), Instant.FromUtc(2026, 3, 29, 1, 30), Instant.FromUtc(2026, 3, 30, 0, 30)],
            half.Between(Instant.FromUtc(2026, 3, 28, 0, 0), Instant.FromUtc(2026, 3, 31, 0, 0)));
        Assert.Equal([new LocalDateTime(2026, 3, 29, 2, 30)], half.InGaps(Instant.FromUtc(2026, 1, 1, 0, 0), Instant.FromUtc(2026, 12, 31, 0, 0)));
        Assert.Empty(Of("FREQ=DAILY", "20260328T033000", Oslo).InGaps(Instant.FromUtc(2026, 1, 1, 0, 0), Instant.FromUtc(2026, 12, 31, 0, 0)));
        Assert.Equal(
            [Instant.FromUtc(2026, 10, 25, 0, 30), Instant.FromUtc(2026, 10, 26, 1, 30)],
            half.Between(Instant.FromUtc(2026, 10, 25, 0, 0), Instant.FromUtc(2026, 10, 27, 0, 0)));
    }

    [Theory]
    [InlineData("FREQ=MINUTELY;INTERVAL=15", 15)]
    [InlineData("FREQ=HOURLY", 60)]
    public void What_counts_minutes_or_hours_keeps_its_step_through_both_clock_changes(string rule, int minutes)
    {
        foreach (var day in (Instant[])[Instant.FromUtc(2026, 3, 28, 12, 0), Instant.FromUtc(2026, 10, 24, 12, 0)])
        {
            var all = Of(rule, "20260101T000000", Oslo).Between(day, day + Duration.FromDays(1)).ToArray();
            Assert.Equal(24 * 60 / minutes, all.Length);
            Assert.All(all.Zip(all.Skip(1)), p => Assert.Equal(Duration.FromMinutes(minutes), p.Second - p.First));
        }
    }

    [Fact]
    public void Exceptions_leave_out_days_and_times_and_still_count()
    {
        var all = new Recurrence(
            RecurrenceRule.Parse("FREQ=DAILY;BYHOUR=6,18;COUNT=8"), new LocalDateTime(2026, 1, 1, 6, 0), Oslo, [new LocalDate(2026, 1, 2)], [new LocalDateTime(2026, 1, 3, 18, 0)]);
        Assert.Equal(
            ["01 06", "01 18", "03 06", "04 06", "04 18"],
            all.NextAfter(Instant.FromUtc(2025, 1, 1, 0, 0), 20).Select(i => i.InZone(Oslo).ToString("dd HH", CultureInfo.InvariantCulture)));
    }

    [Fact]
    public void A_rule_that_matches_nothing_ends()
    {
        Assert.Empty(Of("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30").NextAfter(Instant.FromUtc(1997, 1, 1, 0, 0), 1));
        Assert.Empty(Of("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30").NextAfter(Instant.FromUtc(1997, 1, 1, 0, 0), 1));
    }

    [Theory]
    [InlineData("FREQ=DAYLY", "FREQ")]
    [InlineData("INTERVAL=2", "FREQ")]
    [InlineData("FREQ=DAILY;INTERVAL=0", "INTERVAL")]
    [InlineData("FREQ=DAILY;COUNT=2;UNTIL=20260101", "COUNT and UNTIL")]
    [InlineData("FREQ=DAILY;BYHOUR=24", "BYHOUR")]
    [InlineData("FREQ=WEEKLY;BYDAY=1MO", "BYDAY")]
    [InlineData("FREQ=WEEKLY;BYMONTHDAY=1", "BYMONTHDAY")]
    [InlineData("FREQ=DAILY;BYWEEKNO=1", "BYWEEKNO")]
    [InlineData("FREQ=DAILY;BYYEARDAY=1", "BYYEARDAY")]
    [InlineData("FREQ=DAILY;BYSETPOS=1", "BYSETPOS")]
    [InlineData("FREQ=DAILY;UNTIL=soon", "UNTIL")]
    [InlineData("FREQ=DAILY;BYEASTER=0", "BYEASTER")]
    [InlineData("FREQ=DAILY;BYDAY=XX", "BYDAY")]
    public void A_wrong_rule_names_the_part_at_fault(string rule, string part) =>
        Assert.Contains(part, Assert.Throws<FormatException>(() => RecurrenceRule.Parse(rule)).Message, StringComparison.Ordinal);

    /// <summary>Rules on whose meaning both libraries agree: a day of the month in a yearly rule comes with its month, and not with the n-th day of a week.</summary>
    private static readonly Gen<string> Rules =
        from freq in Gen.OneOf(Gen.Const("YEARLY"), Gen.Const("MONTHLY"), Gen.Const("WEEKLY"), Gen.Const("DAILY"))
        from interval in Gen.Int[1, 4]
        from months in Gen.Int[1, 12].Array[0, 2]
        from monthDays in Gen.OneOf(Gen.Int[1, 31], Gen.Int[-31, -1]).Array[0, 2]
        from days in Gen.OneOf(Gen.Const("MO"), Gen.Const("TU"), Gen.Const("WE"), Gen.Const("TH"), Gen.Const("FR"), Gen.Const("SA"), Gen.Const("SU")).Array[0, 3]
        from number in Gen.OneOf(Gen.Const(""), Gen.Const(""), Gen.Const("1"), Gen.Const("2"), Gen.Const("-1"))
        from hours in Gen.Int[4, 23].Array[0, 2]
        select $"FREQ={freq};INTERVAL={interval}"
            + List("BYMONTH", freq is "YEARLY" or "MONTHLY" ? months : [])
            + List("BYMONTHDAY", freq is "MONTHLY" || (freq is "YEARLY" && months.Length > 0) ? monthDays : [])
            + List("BYDAY", [.. days.Distinct().Select(d => (freq is "MONTHLY" && monthDays.Length == 0 ? number : "") + d)])
            + List("BYHOUR", hours);

    private static string List<T>(string name, T[] values) => values.Length == 0 ? "" : $";{name}={string.Join(',', values.Distinct())}";

    [Fact]
    public void Another_library_finds_the_same_occurrences() => Rules.Sample(
        rule =>
        {
            var start = new LocalDateTime(2024, 1, 9, 9, 15);
            var (from, to) = (Instant.FromUtc(2024, 1, 1, 0, 0), Instant.FromUtc(2027, 1, 1, 0, 0));
            var theirs = new CalendarEvent { Start = new CalDateTime(2024, 1, 9, 9, 15, 0, "Europe/Oslo"), RecurrenceRule = new Ical.Net.DataTypes.RecurrenceRule(rule) };
            Instant[] expected;
            try
            {
                // It counts the start as an occurrence even where the rule leaves it out; we do not.
                expected = [.. theirs.GetOccurrences(new CalDateTime(2024, 1, 1, 0, 0, 0, "UTC")).Select(o => Instant.FromDateTimeUtc(o.Period.StartTime.AsUtc)).TakeWhile(i => i < to).Where(i => i != start.InZoneLeniently(Oslo).ToInstant())];
            }
            catch (Ical.Net.Evaluation.EvaluationException)
            {
                // It gives up on a rule that matches nothing.
                expected = [];
            }

            var ours = new Recurrence(RecurrenceRule.Parse(rule), start, Oslo).Between(from, to).Where(i => i != start.InZoneLeniently(Oslo).ToInstant()).ToArray();
            Assert.Equal(expected, ours);
        },
        iter: 300);

    [Fact]
    public void A_window_asked_for_by_itself_gives_what_the_whole_gives_there() => Gen.Select(Rules, Gen.Int[0, 900], Gen.Int[1, 60]).Sample(
        (rule, day, days) =>
        {
            var recurrence = new Recurrence(RecurrenceRule.Parse(rule), new LocalDateTime(2024, 1, 9, 9, 15), Oslo);
            var from = Instant.FromUtc(2024, 1, 1, 0, 0) + Duration.FromDays(day);
            var to = from + Duration.FromDays(days);
            Assert.Equal(recurrence.Between(Instant.FromUtc(2024, 1, 1, 0, 0), to).Where(i => i >= from), recurrence.Between(from, to));
        },
        iter: 500);

    private static readonly Gen<string> ElapsedRules = Gen.Select(
        Gen.OneOf(Gen.Const("HOURLY"), Gen.Const("MINUTELY"), Gen.Const("SECONDLY;BYSECOND=5,35")), Gen.Int[1, 50], Gen.OneOf(Gen.Const(""), Gen.Const(";BYDAY=MO,SA"), Gen.Const(";BYHOUR=3,4,16")),
        (frequency, interval, more) => $"FREQ={frequency};INTERVAL={interval}{more}");

    [Fact]
    public void Had_it_always_been_in_force_it_would_come_as_before_from_its_start_on_and_in_step_with_it_before() => Gen.Select(Gen.OneOf(Rules, ElapsedRules), Gen.Int[1, 700]).Sample(
        (text, days) =>
        {
            var start = new LocalDateTime(2024, 1, 9, 9, 15);
            var recurrence = new Recurrence(RecurrenceRule.Parse(text), start, Oslo);
            var elapsed = recurrence.Rule.Frequency >= Frequency.Hourly;
            var began = start.InZoneLeniently(Oslo).ToInstant();
            var since = began - Duration.FromDays(days);
            var always = recurrence.InForceSince(since);
            Assert.True(always.Start.InZoneLeniently(Oslo).ToInstant() <= since, $"{text}: {always.Start}");
            Assert.Same(always, always.InForceSince(since));
            var until = began + Duration.FromDays(elapsed ? 3 : 1200);
            Assert.Equal(recurrence.Between(began, until), always.Between(began, until));

            // What came before is in step with what comes: begun at any of it, it is the same.
            foreach (var one in always.Between(Instant.Max(since, began - Duration.FromDays(3)), began).Take(1))
            {
                var local = one.InZone(Oslo).LocalDateTime;
                if (elapsed && local.InZoneLeniently(Oslo).ToInstant() == one)
                {
                    Assert.Equal(recurrence.Between(began, until), new Recurrence(recurrence.Rule, local, Oslo).Between(began, until));
                }
            }
        },
        iter: 300);

    [Theory]
    [InlineData("FREQ=DAILY;COUNT=3")]
    [InlineData("FREQ=YEARLY;INTERVAL=99999")]
    public void What_is_counted_or_comes_too_seldom_is_in_force_from_its_start(string rule)
    {
        var recurrence = new Recurrence(RecurrenceRule.Parse(rule), new LocalDateTime(2024, 1, 9, 9, 15), Oslo);
        Assert.Same(recurrence, recurrence.InForceSince(Instant.FromUtc(2020, 1, 1, 0, 0)));
    }

    [Theory]
    [InlineData("every 15 minutes", "FREQ=MINUTELY;INTERVAL=15", "every 15 minutes")]
    [InlineData("Every 5 mins between 06:00 and 22:00", "FREQ=MINUTELY;INTERVAL=5;BYHOUR=6,7,8,9,10,11,12,13,14,15,16,17,18,19,20,21", "every 5 minutes between 06:00 and 22:00")]
    [InlineData("every 30 minutes between 22:00 and 02:00", "FREQ=MINUTELY;INTERVAL=30;BYHOUR=0,1,22,23", "every 30 minutes between 22:00 and 02:00")]
    [InlineData("hourly at :20", "FREQ=HOURLY", "every hour at :20")]
    [InlineData("every 2 hours on weekdays", "FREQ=HOURLY;INTERVAL=2;BYDAY=MO,TU,WE,TH,FR", "every 2 hours on weekdays")]
    [InlineData("daily at 01:30", "FREQ=DAILY", "daily 01:30")]
    [InlineData("every night 01:30", "FREQ=DAILY", "daily 01:30")]
    [InlineData("daily 06:00, 12:00 and 18:00", "FREQ=DAILY;BYHOUR=6,12,18", "daily 06:00, 12:00, 18:00")]
    [InlineData("every 3 days 04:00", "FREQ=DAILY;INTERVAL=3", "every 3 days 04:00")]
    [InlineData("Saturdays 23:30", "FREQ=WEEKLY;BYDAY=SA", "Saturdays 23:30")]
    [InlineData("mon, wed and fri 2:15", "FREQ=WEEKLY;BYDAY=MO,WE,FR", "Mondays, Wednesdays and Fridays 02:15")]
    [InlineData("Monday to Saturday 00:20", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR,SA", "Monday to Saturday 00:20")]
    [InlineData("every second Saturday 23:30", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SA", "every second Saturday 23:30")]
    [InlineData("every 3 weeks on Mondays and Tuesdays 05:00", "FREQ=WEEKLY;INTERVAL=3;BYDAY=MO,TU", "every 3 weeks on Mondays and Tuesdays 05:00")]
    [InlineData("last Friday of the month 22:00", "FREQ=MONTHLY;BYDAY=-1FR", "last Friday of the month 22:00")]
    [InlineData("first and third Sunday of each month at 04:00", "FREQ=MONTHLY;BYDAY=1SU,3SU", "first and third Sunday of the month 04:00")]
    [InlineData("day 1, 15 of the month 03:00", "FREQ=MONTHLY;BYMONTHDAY=1,15", "day 1, 15 of the month 03:00")]
    [InlineData("the 1st of the month 03:00", "FREQ=MONTHLY;BYMONTHDAY=1", "day 1 of the month 03:00")]
    [InlineData("last day of the month 21:00", "FREQ=MONTHLY;BYMONTHDAY=-1", "last day of the month 21:00")]
    [InlineData("last weekday of the month 21:00", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "last weekday of the month 21:00")]
    [InlineData("first Sunday of January and July 05:00", "FREQ=YEARLY;BYMONTH=1,7;BYDAY=1SU", "first Sunday of January and July 05:00")]
    [InlineData("31 December 20:00", "FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=31", "31 December 20:00")]
    [InlineData("Sundays 04:00 until 2026-12-31", "FREQ=WEEKLY;UNTIL=20261231;BYDAY=SU", "Sundays 04:00, until 2026-12-31")]
    [InlineData("daily 04:00, 12 times", "FREQ=DAILY;COUNT=12", "daily 04:00, 12 times")]
    [InlineData("FREQ=YEARLY;BYYEARDAY=100", "FREQ=YEARLY;BYYEARDAY=100", "FREQ=YEARLY;BYYEARDAY=100")]
    public void Words_are_read_and_said_back(string words, string rule, string said)
    {
        Assert.True(RecurrenceWords.TryParse(words, Oslo, new LocalDate(2026, 1, 1), out var read, out var error), error);
        Assert.Equal(RecurrenceRule.Parse(rule), read!.Rule);
        Assert.Equal(said, RecurrenceWords.Of(read));
        Assert.True(RecurrenceWords.TryParse(said, Oslo, new LocalDate(2026, 1, 1), out var again, out _));
        Assert.Equal(read, again);
    }

    [Fact]
    public void What_is_said_of_any_rule_is_understood_as_that_rule() => Rules.Sample(
        rule =>
        {
            var meant = new Recurrence(RecurrenceRule.Parse(rule), new LocalDateTime(2024, 1, 9, 9, 15), Oslo);
            var said = RecurrenceWords.Of(meant);
            Assert.True(RecurrenceWords.TryParse(said, Oslo, new LocalDate(2024, 1, 9), out var understood, out var error), $"{rule}: {said}: {error}");
            var (from, to) = (Instant.FromUtc(2024, 3, 1, 0, 0), Instant.FromUtc(2027, 3, 1, 0, 0));
            Assert.Equal(meant.Between(from, to), understood!.Between(from, to));
        },
        iter: 500);

    [Fact]
    public void Every_example_given_as_a_hint_can_be_read() =>
        Assert.All(RecurrenceWords.Examples, e => Assert.True(RecurrenceWords.TryParse(e, Oslo, new LocalDate(2026, 1, 1), out _, out var error), $"{e}: {error}"));

    [Theory]
    [InlineData("")]
    [InlineData("sometimes")]
    [InlineData("daily")]
    [InlineData("Satursundays 12:00")]
    [InlineData("daily 25:00")]
    [InlineData("daily 06:00, 12:30")]
    [InlineData("every 0 minutes")]
    [InlineData("every 5 minutes between 06:30 and 07:00")]
    [InlineData("fourteenth Monday of the month 12:00")]
    public void Words_that_mean_nothing_say_what_is_wrong(string words)
    {
        Assert.False(RecurrenceWords.TryParse(words, Oslo, new LocalDate(2026, 1, 1), out var none, out var error));
        Assert.Null(none);
        Assert.NotEmpty(error!);
    }

    private static void Expect(Recurrence recurrence, string dates, bool all)
    {
        var expected = Dates(dates).Select(d => d.At(recurrence.Start.TimeOfDay)).ToArray();
        var found = recurrence.NextAfter(Instant.FromUtc(1990, 1, 1, 0, 0), expected.Length + 1).Select(i => i.InZone(NewYork).LocalDateTime).ToArray();
        Assert.Equal(expected, found.Take(expected.Length));
        Assert.Equal(all ? expected.Length : expected.Length + 1, found.Length);
    }
}
