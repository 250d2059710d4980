using System.Globalization;
using System.Text.RegularExpressions;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Planning;

/// <summary>
/// Recurrences in words, both ways: "every 15 minutes", "Saturdays 23:30", "last Friday of the month 22:00". What is said of a rule can be
/// read again and gives the same rule; a rule that has no words is said as its RRULE.
/// </summary>
public static partial class RecurrenceWords
{
    /// <summary>The longest words that are read: patterns try many ways through what is long.</summary>
    private const int Longest = 300;

    private static readonly string[] Days = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
    private static readonly string[] Codes = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];
    private static readonly string[] Months = ["January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"];
    private static readonly (string Word, int Number)[] Ordinals = [("first", 1), ("second", 2), ("third", 3), ("fourth", 4), ("fifth", 5), ("last", -1), ("second last", -2)];
    private static readonly LocalTimePattern HourMinute = LocalTimePattern.CreateWithInvariantCulture("H:mm");

    /// <summary>What may be entered, for hints.</summary>
    public static IReadOnlyList<string> Examples { get; } =
    [
        "every 15 minutes", "every 10 minutes between 06:00 and 22:00", "every hour at :20", "daily 01:30", "daily 06:00, 12:00, 18:00", "weekdays 20:00", "Saturdays 23:30",
        "Mondays, Wednesdays and Fridays 02:15", "every second Saturday 23:30", "last Friday of the month 22:00", "first and third Sunday of the month 04:00",
        "day 1, 15 of the month 03:00", "last day of the month 21:00", "first Sunday of January and July 05:00", "31 December 20:00",
    ];

    /// <summary>Reads words, or an RRULE.</summary>
    /// <param name="text">The words.</param>
    /// <param name="zone">The zone the times belong to.</param>
    /// <param name="from">The first day it may fire.</param>
    /// <param name="recurrence">The recurrence; null on error.</param>
    /// <param name="error">What could not be understood, and what can.</param>
    public static bool TryParse(string text, DateTimeZone zone, LocalDate from, out Recurrence? recurrence, out string? error)
    {
        (recurrence, error) = (null, null);
        try
        {
            if (text.Length > Longest && !IsRule(text))
            {
                throw new FormatException($"when something recurs is said in at most {Longest} characters");
            }

            if (from.Year is < 1900 or > 2200)
            {
                throw new FormatException("the first day must lie between 1900 and 2200");
            }

            var (rule, time) = Read(Squeeze(text));
            recurrence = new Recurrence(RecurrenceRule.Parse(rule), from.At(time), zone);
            return true;
        }
        catch (FormatException e)
        {
            error = e.Message;
            return false;
        }
    }

    /// <summary>Whether a text is an RRULE rather than words.</summary>
    public static bool IsRule(string text) => text.Contains("FREQ=", StringComparison.OrdinalIgnoreCase);

    /// <summary>The recurrence in words.</summary>
    public static string Of(Recurrence recurrence)
    {
        var said = Say(recurrence);
        var (rule, except) = (recurrence.Rule, recurrence.ExceptDays.Count + recurrence.ExceptTimes.Count);
        if (said is null)
        {
            return Whole(recurrence);
        }

        said += rule.Count is { } count ? $", {count} times" : "";
        said += rule.Until is { } until ? $", until {LocalDatePattern.Iso.Format(until.InZone(recurrence.Zone).Date)}" : "";
        said += rule.UntilLocal is { } local ? $", until {LocalDatePattern.Iso.Format(local.Date)}" : "";
        return except == 0 ? said : $"{said}, but for {except} {(except == 1 ? "exception" : "exceptions")}";
    }

    /// <summary>The rule as text that also holds what the recurrence takes from its start: the time of day, and the day where no part of the rule says one.</summary>
    private static string Whole(Recurrence recurrence)
    {
        var (rule, start) = (recurrence.Rule, recurrence.Start);
        if (rule.Frequency is Frequency.Hourly or Frequency.Minutely or Frequency.Secondly)
        {
            return rule.Text;
        }

        var daysSaid = rule.Days.Count + rule.MonthDays.Count + rule.YearDays.Count + rule.Weeks.Count > 0;
        var text = rule.Text;
        text += rule.Hours.Count == 0 && start.Hour != 0 ? $";BYHOUR={start.Hour}" : "";
        text += rule.Minutes.Count == 0 && start.Minute != 0 ? $";BYMINUTE={start.Minute}" : "";
        text += rule.Seconds.Count == 0 && start.Second != 0 ? $";BYSECOND={start.Second}" : "";
        text += !daysSaid && rule.Frequency == Frequency.Weekly ? $";BYDAY={start.DayOfWeek.ToString()[..2].ToUpperInvariant()}" : "";
        text += !daysSaid && rule.Frequency is Frequency.Monthly or Frequency.Yearly ? $";BYMONTHDAY={start.Day}" : "";
        text += !daysSaid && rule.Frequency == Frequency.Yearly && rule.Months.Count == 0 ? $";BYMONTH={start.Month}" : "";
        return RecurrenceRule.Parse(text).Text;
    }

    // ---- reading ----
    private static string Squeeze(string text) => Spaces().Replace(text.Trim(), " ").TrimEnd('.');

    private static (string Rule, LocalTime Time) Read(string text)
    {
        if (text.Length == 0)
        {
            throw new FormatException("say when, for example \"every 15 minutes\" or \"Saturdays 23:30\"");
        }

        if (IsRule(text))
        {
            return (text, LocalTime.Midnight);
        }

        var end = "";
        if (Ends().Match(text) is { Success: true } ends)
        {
            text = text[..ends.Index];
            end = ends.Groups["times"].Success ? $";COUNT={ends.Groups["times"].Value}" : $";UNTIL={ends.Groups["date"].Value.Replace("-", "", StringComparison.Ordinal)}";
        }

        var (rule, time) = ReadElapsed(text) ?? ReadCalendar(text);
        return (rule + end, time);
    }

    private static (string, LocalTime)? ReadElapsed(string text)
    {
        if (Elapsed().Match(text) is not { Success: true } m)
        {
            return null;
        }

        var number = !m.Groups["n"].Success ? 1 : int.TryParse(m.Groups["n"].Value, CultureInfo.InvariantCulture, out var n) ? n : 0;
        var unit = m.Groups["unit"].Value.ToUpperInvariant().TrimEnd('S') is var u && u is "HOURLY" or "HOUR" ? "HOURLY" : u[..3] == "MIN" ? "MINUTELY" : "SECONDLY";
        var minute = m.Groups["minute"].Success ? int.Parse(m.Groups["minute"].Value, CultureInfo.InvariantCulture) : 0;
        if (number < 1 || minute > 59 || (m.Groups["minute"].Success && unit != "HOURLY"))
        {
            throw new FormatException($"'{text}': a number from 1 to 100000, and a minute from 0 to 59 with hours only");
        }

        var rule = $"FREQ={unit};INTERVAL={number}";
        if (m.Groups["days"].Success)
        {
            rule += $";BYDAY={DaysIn(m.Groups["days"].Value) ?? throw new FormatException($"'{m.Groups["days"].Value}' are no days of the week")}";
        }

        if (m.Groups["from"].Success)
        {
            var (from, to) = (Time(m.Groups["from"].Value), Time(m.Groups["to"].Value));
            if (from.Minute != 0 || to.Minute != 0)
            {
                throw new FormatException("between … and … takes whole hours, such as 06:00 and 22:00");
            }

            var last = to == LocalTime.Midnight || m.Groups["to"].Value.StartsWith("24", StringComparison.Ordinal) ? 24 : to.Hour;
            var hours = from.Hour < last ? Enumerable.Range(from.Hour, last - from.Hour) : Enumerable.Range(0, 24).Where(h => h >= from.Hour || h < last);
            rule += $";BYHOUR={string.Join(',', hours)}";
        }

        return (rule, new LocalTime(0, minute));
    }

    private static (string, LocalTime) ReadCalendar(string text)
    {
        var m = Times().Match(text);
        if (!m.Success)
        {
            throw new FormatException($"'{text}' cannot be understood: a time such as 23:30 is missing, or say \"every 15 minutes\"");
        }

        var times = m.Groups["time"].Captures.Select(c => Time(c.Value)).Distinct().Order().ToArray();
        var when = text[..m.Index].Trim().TrimEnd(',');
        when = when.EndsWith(" at", StringComparison.OrdinalIgnoreCase) ? when[..^3] : when;
        var rule = ReadDays(when) ?? throw new FormatException($"'{when}' cannot be understood; examples: {string.Join("; ", Examples)}");
        if (times.Length > 1)
        {
            if (times.Select(t => t.Minute).Distinct().Count() > 1)
            {
                throw new FormatException("several times of a day must share the minute, such as 06:00, 12:00");
            }

            rule += $";BYHOUR={string.Join(',', times.Select(t => t.Hour))}";
        }

        return (rule, times[0]);
    }

    private static string? ReadDays(string when)
    {
        const RegexOptions Plain = RegexOptions.IgnoreCase | RegexOptions.CultureInvariant;
        var text = Regex.Replace(when, "^every (?!second|other|[0-9])", "", Plain);
        if (text.Length == 0 || Regex.IsMatch(text, "^(daily|nightly|days?|nights?)$", Plain))
        {
            return "FREQ=DAILY";
        }

        if (Regex.Match(text, "^every ((?<n>[0-9]+)|second|other) days?$", Plain) is { Success: true } someDays)
        {
            return $"FREQ=DAILY;INTERVAL={(someDays.Groups["n"].Success ? someDays.Groups["n"].Value : "2")}";
        }

        if (DaysIn(text) is { } days)
        {
            return $"FREQ=WEEKLY;BYDAY={days}";
        }

        if (Regex.Match(text, "^every (?:(?<n>[0-9]+)(?:rd|th)?(?: weeks on)?|second|other) (?<days>.+)$", Plain) is { Success: true } weeks && DaysIn(weeks.Groups["days"].Value) is { } some)
        {
            return $"FREQ=WEEKLY;INTERVAL={(weeks.Groups["n"].Success ? weeks.Groups["n"].Value : "2")};BYDAY={some}";
        }

        if (Regex.Match(text, "^(?<which>.+?) of (?:the |each |every )?(?<month>.+)$", Plain) is { Success: true } of)
        {
            var months = of.Groups["month"].Value.Equals("month", StringComparison.OrdinalIgnoreCase) ? "" : MonthsIn(of.Groups["month"].Value);
            var which = InMonth(Regex.Replace(of.Groups["which"].Value, "^(on )?the ", "", Plain));
            return months is null || which is null ? null : months.Length == 0 ? $"FREQ=MONTHLY;{which}" : $"FREQ=YEARLY;BYMONTH={months};{which}";
        }

        if (Regex.Match(text, "^(?<day>[0-9]{1,2})\\.? (?<month>[a-z]+)$", Plain) is { Success: true } date && MonthsIn(date.Groups["month"].Value) is { } month)
        {
            return $"FREQ=YEARLY;BYMONTH={month};BYMONTHDAY={date.Groups["day"].Value}";
        }

        return null;
    }

    private static string? InMonth(string which)
    {
        const RegexOptions Plain = RegexOptions.IgnoreCase | RegexOptions.CultureInvariant;
        if (Regex.Match(which, "^(?:day )?(?<n>[0-9]{1,2})(?:st|nd|rd|th)?(?:(?:, ?| and )(?<n>[0-9]{1,2})(?:st|nd|rd|th)?)*$", Plain) is { Success: true } numbers)
        {
            return $"BYMONTHDAY={string.Join(',', numbers.Groups["n"].Captures.Select(c => c.Value))}";
        }

        if (Regex.Match(which, "^(?<o>second last|[a-z]+)(?:(?:, | and )(?<o>second last|[a-z]+))* (?<day>[a-z]+)$", Plain) is not { Success: true } m)
        {
            return null;
        }

        var ordinals = m.Groups["o"].Captures.Select(c => Array.Find(Ordinals, o => o.Word.Equals(c.Value, StringComparison.OrdinalIgnoreCase)).Number).ToArray();
        if (ordinals.Contains(0))
        {
            return null;
        }

        var day = m.Groups["day"].Value;
        return day.Equals("day", StringComparison.OrdinalIgnoreCase) ? $"BYMONTHDAY={string.Join(',', ordinals)}"
            : day.Equals("weekday", StringComparison.OrdinalIgnoreCase) ? $"BYDAY=MO,TU,WE,TH,FR;BYSETPOS={string.Join(',', ordinals)}"
            : DayAt(day) is { } d ? $"BYDAY={string.Join(',', ordinals.Select(o => $"{o}{Codes[d]}"))}"
            : null;
    }

    private static string? DaysIn(string text)
    {
        if (Regex.IsMatch(text, "^(on )?(weekdays?|working days?)$", RegexOptions.IgnoreCase))
        {
            return "MO,TU,WE,TH,FR";
        }

        if (Regex.IsMatch(text, "^(on )?weekends?$", RegexOptions.IgnoreCase))
        {
            return "SA,SU";
        }

        var found = new SortedSet<int>();
        foreach (var word in Regex.Split(Regex.Replace(text, "^on ", "", RegexOptions.IgnoreCase), "(?:, and | and |, ?)", RegexOptions.IgnoreCase))
        {
            if (Regex.Match(word, "^(?<a>[a-z]+) to (?<b>[a-z]+)$", RegexOptions.IgnoreCase) is { Success: true } range)
            {
                if (DayAt(range.Groups["a"].Value) is not { } a || DayAt(range.Groups["b"].Value) is not { } b)
                {
                    return null;
                }

                for (var d = a; ; d = (d + 1) % 7)
                {
                    found.Add(d);
                    if (d == b)
                    {
                        break;
                    }
                }
            }
            else if (DayAt(word) is { } day)
            {
                found.Add(day);
            }
            else
            {
                return null;
            }
        }

        return string.Join(',', found.Select(d => Codes[d]));
    }

    private static int? DayAt(string word)
    {
        var at = Array.FindIndex(Days, d => word.Length >= 2 && (d + "s").StartsWith(word, StringComparison.OrdinalIgnoreCase));
        return at < 0 ? null : at;
    }

    private static string? MonthsIn(string text)
    {
        var found = Regex.Split(text, "(?:, and | and |, ?)").Select(w => Array.FindIndex(Months, m => w.Length >= 3 && m.StartsWith(w, StringComparison.OrdinalIgnoreCase)) + 1).ToArray();
        return found.Contains(0) ? null : string.Join(',', found.Order());
    }

    private static LocalTime Time(string text) =>
        text is "24:00" ? LocalTime.Midnight
        : HourMinute.Parse(text) is { Success: true } t ? t.Value : throw new FormatException($"'{text}' is not a time of day such as 23:30");

    // ---- saying ----
    private static string? Say(Recurrence recurrence)
    {
        var r = recurrence.Rule;
        if (r.Weeks.Count + r.YearDays.Count + r.Minutes.Count + r.Seconds.Count > 0 || r.WeekStart != IsoDayOfWeek.Monday || recurrence.Start.Second != 0)
        {
            return null;
        }

        if (r.Frequency >= Frequency.Hourly)
        {
            return SayElapsed(recurrence);
        }

        var times = (r.Hours.Count > 0 ? r.Hours : [recurrence.Start.Hour]).Select(h => $"{h:00}:{recurrence.Start.Minute:00}");
        return SayDays(r, recurrence.Start) is { } days ? $"{days} {string.Join(", ", times)}" : null;
    }

    private static string? SayElapsed(Recurrence recurrence)
    {
        var r = recurrence.Rule;
        var unit = r.Frequency switch { Frequency.Hourly => "hour", Frequency.Minutely => "minute", _ => "second" };
        if (r.Months.Count + r.MonthDays.Count + r.Positions.Count > 0 || r.Days.Any(d => d.Number != 0))
        {
            return null;
        }

        var said = r.Interval == 1 ? $"every {unit}" : $"every {r.Interval} {unit}s";
        if (recurrence.Start.TimeOfDay is { TickOfDay: > 0 } start)
        {
            if (r.Frequency != Frequency.Hourly || start.Hour != 0)
            {
                return null;
            }

            said += $" at :{start.Minute:00}";
        }

        said += r.Days.Count > 0 ? $" on {SayWeek(r.Days)}" : "";
        if (r.Hours.Count == 0)
        {
            return said;
        }

        // One run of hours around the clock.
        var first = r.Hours.FirstOrDefault(h => !r.Hours.Contains((h + 23) % 24), -1);
        var run = Enumerable.Range(0, r.Hours.Count).All(i => r.Hours.Contains((first + i) % 24));
        return first < 0 || !run ? null : $"{said} between {first:00}:00 and {(first + r.Hours.Count) % 24:00}:00";
    }

    private static string? SayDays(RecurrenceRule r, LocalDateTime start)
    {
        switch (r.Frequency)
        {
            case Frequency.Daily when r.Months.Count + r.MonthDays.Count + r.Days.Count + r.Positions.Count == 0:
                return r.Interval == 1 ? "daily" : $"every {r.Interval} days";
            case Frequency.Weekly when r.Months.Count + r.Positions.Count == 0:
                var days = r.Days.Count == 0 ? [new(0, start.DayOfWeek)] : r.Days;
                return r.Interval == 1 ? SayWeek(days) : $"every {(r.Interval == 2 ? "second" : r.Interval.ToString(CultureInfo.InvariantCulture))}{(r.Interval > 2 ? " weeks on" : "")} {(r.Interval == 2 && days.Count == 1 ? Days[(int)days[0].Day - 1] : SayWeek(days))}";
            case Frequency.Monthly when r.Interval == 1 && r.Months.Count == 0:
                return SayInMonth(r, start) is { } which ? $"{which} of the month" : null;
            case Frequency.Yearly when r.Interval == 1 && r.Months.Count > 0:
                if (r.MonthDays is [> 0 and var day] && r.Months is [var month] && r.Days.Count + r.Positions.Count == 0)
                {
                    return $"{day} {Months[month - 1]}";
                }

                return SayInMonth(r, start) is { } one ? $"{one} of {And([.. r.Months.Select(m => Months[m - 1])])}" : null;
            default:
                return null;
        }
    }

    private static string? SayInMonth(RecurrenceRule r, LocalDateTime start)
    {
        if (r.Days.Count == 0 && r.Positions.Count == 0)
        {
            var days = r.MonthDays.Count == 0 ? [start.Day] : r.MonthDays;
            return days.All(d => d > 0) ? $"day {string.Join(", ", days)}" : Ordered(days) is { } o ? $"{o} day" : null;
        }

        if (r.MonthDays.Count > 0)
        {
            return null;
        }

        if (r.Positions.Count > 0)
        {
            return Codes.Take(5).SequenceEqual(r.Days.Where(d => d.Number == 0).Select(d => Codes[(int)d.Day - 1])) && r.Days.Count == 5 && Ordered(r.Positions) is { } o ? $"{o} weekday" : null;
        }

        return r.Days.Select(d => d.Day).Distinct().Count() == 1 && Ordered([.. r.Days.Select(d => d.Number)]) is { } numbers ? $"{numbers} {Days[(int)r.Days[0].Day - 1]}" : null;
    }

    private static string? Ordered(IReadOnlyList<int> numbers)
    {
        var words = numbers.Select(n => Array.Find(Ordinals, o => o.Number == n).Word).ToArray();
        return words.Contains(null) ? null : And(words);
    }

    private static string SayWeek(IReadOnlyList<RecurrenceRule.WeekDay> days)
    {
        var at = days.Select(d => (int)d.Day - 1).Order().ToArray();
        return at.SequenceEqual([0, 1, 2, 3, 4]) ? "weekdays"
            : at.SequenceEqual([5, 6]) ? "weekends"
            : at.Length >= 3 && at[^1] - at[0] == at.Length - 1 ? $"{Days[at[0]]} to {Days[at[^1]]}"
            : And([.. at.Select(d => Days[d] + "s")]);
    }

    private static string And(string[] words) => words.Length < 2 ? string.Concat(words) : $"{string.Join(", ", words[..^1])} and {words[^1]}";

    [GeneratedRegex(" +")]
    private static partial Regex Spaces();

    [GeneratedRegex(",? (?:until (?<date>[0-9]{4}-[0-9]{2}-[0-9]{2})|(?<times>[0-9]+) times)$", RegexOptions.IgnoreCase)]
    private static partial Regex Ends();

    [GeneratedRegex("^(?:every (?:(?<n>[0-9]+) ?)?(?<unit>hours?|minutes?|mins?|seconds?|secs?)|(?<unit>hourly))(?: at (?:minute |:)(?<minute>[0-9]{1,2}))?(?: on (?<days>.+?))?(?: (?:between|from) (?<from>[0-9]{1,2}:[0-9]{2}) (?:and|to) (?<to>[0-9]{1,2}:[0-9]{2}))?$", RegexOptions.IgnoreCase)]
    private static partial Regex Elapsed();

    [GeneratedRegex("(?<time>[0-9]{1,2}:[0-9]{2})(?:(?:, ?| and )(?<time>[0-9]{1,2}:[0-9]{2}))*$")]
    private static partial Regex Times();
}
