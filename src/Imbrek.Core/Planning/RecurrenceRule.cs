using System.Globalization;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Planning;

/// <summary>The parts of an RRULE (RFC 5545, 3.3.10), checked; equal rules have equal <see cref="Text"/>.</summary>
public sealed record RecurrenceRule
{
    private static readonly string[] DayNames = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];
    private static readonly LocalDateTimePattern Local = LocalDateTimePattern.CreateWithInvariantCulture("uuuuMMdd'T'HHmmss");
    private static readonly LocalDatePattern Date = LocalDatePattern.CreateWithInvariantCulture("uuuuMMdd");

    /// <summary>The longest text that is read; one that names all days of a year has 1,500 characters.</summary>
    private const int Longest = 2_000;

    private RecurrenceRule(string text) => Text = text;

    /// <summary>A day of the week, with a number when only the n-th (or, below zero, n-th last) counts.</summary>
    /// <param name="Number">Which one in the month or year; 0 for all.</param>
    /// <param name="Day">The day.</param>
    public readonly record struct WeekDay(int Number, IsoDayOfWeek Day);

    /// <summary>FREQ.</summary>
    public Frequency Frequency { get; private init; }

    /// <summary>INTERVAL, at least 1.</summary>
    public int Interval { get; private init; } = 1;

    /// <summary>COUNT; null when not limited.</summary>
    public int? Count { get; private init; }

    /// <summary>UNTIL as an instant, when it was given in UTC.</summary>
    public Instant? Until { get; private init; }

    /// <summary>UNTIL as local time, when it was given without Z; a bare date means its last second.</summary>
    public LocalDateTime? UntilLocal { get; private init; }

    /// <summary>BYMONTH.</summary>
    public IReadOnlyList<int> Months { get; private init; } = [];

    /// <summary>BYWEEKNO.</summary>
    public IReadOnlyList<int> Weeks { get; private init; } = [];

    /// <summary>BYYEARDAY.</summary>
    public IReadOnlyList<int> YearDays { get; private init; } = [];

    /// <summary>BYMONTHDAY.</summary>
    public IReadOnlyList<int> MonthDays { get; private init; } = [];

    /// <summary>BYDAY.</summary>
    public IReadOnlyList<WeekDay> Days { get; private init; } = [];

    /// <summary>BYHOUR.</summary>
    public IReadOnlyList<int> Hours { get; private init; } = [];

    /// <summary>BYMINUTE.</summary>
    public IReadOnlyList<int> Minutes { get; private init; } = [];

    /// <summary>BYSECOND.</summary>
    public IReadOnlyList<int> Seconds { get; private init; } = [];

    /// <summary>BYSETPOS.</summary>
    public IReadOnlyList<int> Positions { get; private init; } = [];

    /// <summary>WKST.</summary>
    public IsoDayOfWeek WeekStart { get; private init; } = IsoDayOfWeek.Monday;

    /// <summary>The rule as RFC 5545 writes it, without "RRULE:".</summary>
    public string Text { get; }

    /// <summary>Reads an RRULE value, with or without "RRULE:" before it.</summary>
    /// <param name="text">The text.</param>
    /// <exception cref="FormatException">It is none; the message names the part at fault.</exception>
    public static RecurrenceRule Parse(string text)
    {
        if (text.Length > Longest)
        {
            throw new FormatException($"a recurrence rule has at most {Longest} characters");
        }

        var body = text.Trim();
        body = body.StartsWith("RRULE:", StringComparison.OrdinalIgnoreCase) ? body[6..] : body;
        var parts = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        foreach (var part in body.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries))
        {
            var equals = part.IndexOf('=', StringComparison.Ordinal);
            if (equals <= 0 || !parts.TryAdd(part[..equals].ToUpperInvariant(), part[(equals + 1)..].ToUpperInvariant()))
            {
                throw new FormatException($"'{part}' is not one NAME=VALUE that comes once");
            }
        }

        string[] known = ["FREQ", "INTERVAL", "COUNT", "UNTIL", "BYMONTH", "BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY", "BYHOUR", "BYMINUTE", "BYSECOND", "BYSETPOS", "WKST"];
        if (parts.Keys.FirstOrDefault(k => !known.Contains(k)) is { } stranger)
        {
            throw new FormatException($"'{stranger}' is not a part of a recurrence rule");
        }

        if (!parts.TryGetValue("FREQ", out var freq) || !Enum.TryParse<Frequency>(freq, ignoreCase: true, out var frequency) || int.TryParse(freq, out _))
        {
            throw new FormatException("FREQ is missing or is not one of YEARLY, MONTHLY, WEEKLY, DAILY, HOURLY, MINUTELY, SECONDLY");
        }

        if (parts.ContainsKey("COUNT") && parts.ContainsKey("UNTIL"))
        {
            throw new FormatException("COUNT and UNTIL exclude each other");
        }

        var (until, untilLocal) = ReadUntil(parts.GetValueOrDefault("UNTIL"));
        var rule = new RecurrenceRule(string.Join(';', known.Where(parts.ContainsKey).Where(k => k != "INTERVAL" || parts[k] != "1").Select(k => $"{k}={parts[k]}")))
        {
            Frequency = frequency,
            Interval = One(parts, "INTERVAL", 1, 100_000) ?? 1,
            Count = One(parts, "COUNT", 1, 1_000_000),
            Until = until,
            UntilLocal = untilLocal,
            Months = Numbers(parts, "BYMONTH", 1, 12),
            Weeks = Numbers(parts, "BYWEEKNO", 1, 53, signed: true),
            YearDays = Numbers(parts, "BYYEARDAY", 1, 366, signed: true),
            MonthDays = Numbers(parts, "BYMONTHDAY", 1, 31, signed: true),
            Days = ReadDays(parts.GetValueOrDefault("BYDAY")),
            Hours = Numbers(parts, "BYHOUR", 0, 23),
            Minutes = Numbers(parts, "BYMINUTE", 0, 59),
            Seconds = Numbers(parts, "BYSECOND", 0, 59),
            Positions = Numbers(parts, "BYSETPOS", 1, 366, signed: true),
            WeekStart = parts.TryGetValue("WKST", out var wkst) ? Day(wkst, "WKST") : IsoDayOfWeek.Monday,
        };
        rule.Check();
        return rule;
    }

    /// <inheritdoc/>
    public bool Equals(RecurrenceRule? other) => other is not null && other.Text == Text;

    /// <inheritdoc/>
    public override int GetHashCode() => Text.GetHashCode(StringComparison.Ordinal);

    /// <inheritdoc/>
    public override string ToString() => Text;

    private void Check()
    {
        if (Weeks.Count > 0 && Frequency != Frequency.Yearly)
        {
            throw new FormatException("BYWEEKNO goes with FREQ=YEARLY only");
        }

        if (YearDays.Count > 0 && Frequency is (Frequency.Daily or Frequency.Weekly or Frequency.Monthly))
        {
            throw new FormatException("BYYEARDAY does not go with FREQ=DAILY, WEEKLY or MONTHLY");
        }

        if (MonthDays.Count > 0 && Frequency == Frequency.Weekly)
        {
            throw new FormatException("BYMONTHDAY does not go with FREQ=WEEKLY");
        }

        if (Days.Any(d => d.Number != 0) && (Frequency is not (Frequency.Monthly or Frequency.Yearly) || Weeks.Count > 0))
        {
            throw new FormatException("BYDAY with a number goes with FREQ=MONTHLY, or YEARLY without BYWEEKNO, only");
        }

        if (Positions.Count > 0 && Months.Count + Weeks.Count + YearDays.Count + MonthDays.Count + Days.Count + Hours.Count + Minutes.Count + Seconds.Count == 0)
        {
            throw new FormatException("BYSETPOS needs another BY part");
        }
    }

    private static (Instant?, LocalDateTime?) ReadUntil(string? text)
    {
        if (text is null)
        {
            return (null, null);
        }

        var utc = text.EndsWith('Z');
        LocalDateTime? until = Local.Parse(utc ? text[..^1] : text) is { Success: true } time ? time.Value
            : !utc && Date.Parse(text) is { Success: true } date ? date.Value.At(new LocalTime(23, 59, 59))
            : null;
        return until is not { Year: >= 1900 and <= 2200 } at ? throw new FormatException($"UNTIL '{text}' is neither a date (20260301) nor a time (20260301T024100Z) between 1900 and 2200")
            : utc ? (at.InUtc().ToInstant(), null)
            : (null, at);
    }

    private static int? One(Dictionary<string, string> parts, string name, int least, int most) =>
        !parts.TryGetValue(name, out var text) ? null
        : int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var n) && n >= least && n <= most ? n
        : throw new FormatException($"{name} '{text}' is not a number from {least} to {most}");

    private static int[] Numbers(Dictionary<string, string> parts, string name, int least, int most, bool signed = false)
    {
        if (!parts.TryGetValue(name, out var text))
        {
            return [];
        }

        var numbers = text.Split(',').Select(t =>
            int.TryParse(t, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var n) && n >= -most && n <= most && (signed ? Math.Abs(n) : n) >= least
                ? n
                : throw new FormatException($"{name} '{t}' is not a number from {least} to {most}{(signed ? ", or the same below zero" : "")}"));
        return [.. numbers.Distinct().Order()];
    }

    private static WeekDay[] ReadDays(string? text) => text is null ? [] :
    [
        .. text.Split(',').Select(t =>
        {
            var day = Day(t.Length < 2 ? t : t[^2..], "BYDAY");
            var number = 0;
            return t.Length == 2 || (int.TryParse(t[..^2], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out number) && number is not 0 and >= -53 and <= 53)
                ? new WeekDay(number, day)
                : throw new FormatException($"BYDAY '{t}' is not a day such as MO, 1MO or -1SU");
        }).Distinct(),
    ];

    private static IsoDayOfWeek Day(string text, string part) => Array.IndexOf(DayNames, text) is var at and >= 0
        ? (IsoDayOfWeek)(at + 1)
        : throw new FormatException($"{part} '{text}' is not one of {string.Join(", ", DayNames)}");
}
