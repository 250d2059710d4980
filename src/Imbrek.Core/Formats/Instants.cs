using System.Text;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Formats;

/// <summary>Instants as the open files write them: ISO 8601 in UTC with Z, to the millisecond.</summary>
public static class Instants
{
    private static readonly InstantPattern Whole = InstantPattern.CreateWithInvariantCulture("uuuu-MM-ddTHH:mm:ss'Z'");
    private static readonly InstantPattern Millis = InstantPattern.CreateWithInvariantCulture("uuuu-MM-ddTHH:mm:ss.fff'Z'");

    /// <summary>Writes an instant.</summary>
    public static string Write(Instant t) => (t.ToUnixTimeMilliseconds() % 1000 == 0 ? Whole : Millis).Format(t);

    /// <summary>Writes an instant, or null.</summary>
    public static string? Write(Instant? t) => t is { } known ? Write(known) : null;

    /// <summary>An instant as the files and the database hold it: the millisecond it lies in.</summary>
    public static Instant Floor(Instant t) => Instant.FromUnixTimeMilliseconds(t.ToUnixTimeMilliseconds());

    /// <summary>What is expected where something else stood.</summary>
    public const string Expected = "an instant in UTC between 1900 and 2200, such as 2026-03-01T02:41:00Z";

    private const int Longest = 40;

    /// <summary>Reads what <see cref="Write(Instant)"/> wrote.</summary>
    /// <exception cref="FormatException">It is something else.</exception>
    public static Instant Parse(string text) => TryParse(text, out var t) ? t : throw new FormatException($"expected {Expected}");

    /// <summary>Reads an instant within <see cref="InputBounds"/>.</summary>
    /// <param name="text">The text.</param>
    /// <param name="value">The instant, when the answer is true.</param>
    public static bool TryParse(string text, out Instant value)
    {
        value = default;
        return text.Length <= Longest && InstantPattern.ExtendedIso.Parse(text).TryGetValue(default, out value) && InputBounds.Allows(value);
    }

    /// <summary>The same of UTF-8. Files hold them by the million, as <see cref="Write(Instant)"/> writes them: those are read without a text being made of each.</summary>
    internal static bool TryParse(ReadOnlySpan<byte> utf8, out Instant value) =>
        TryParseWritten(utf8, out value) ? InputBounds.Allows(value) : TryParse(Encoding.UTF8.GetString(utf8), out value);

    /// <summary>Reads <c>2026-03-01T02:41:00Z</c> and <c>2026-03-01T02:41:00.123Z</c>; false also for instants that are written in another way.</summary>
    private static bool TryParseWritten(ReadOnlySpan<byte> t, out Instant value)
    {
        value = default;
        if (t.Length is not (20 or 24) || t[4] != '-' || t[7] != '-' || t[10] != 'T' || t[13] != ':' || t[16] != ':' || t[^1] != 'Z' || (t.Length == 24 && t[19] != '.'))
        {
            return false;
        }

        var milli = 0;
        if (!Digits(t[..4], out var year) || !Digits(t[5..7], out var month) || !Digits(t[8..10], out var day) || !Digits(t[11..13], out var hour) || !Digits(t[14..16], out var minute)
            || !Digits(t[17..19], out var second) || (t.Length == 24 && !Digits(t[20..23], out milli)))
        {
            return false;
        }

        if (year == 0 || month is 0 or > 12 || day == 0 || day > DateTime.DaysInMonth(year, month) || hour > 23 || minute > 59 || second > 59)
        {
            return false;
        }

        value = Instant.FromUnixTimeTicks(new DateTime(year, month, day, hour, minute, second, milli, DateTimeKind.Utc).Ticks - DateTime.UnixEpoch.Ticks);
        return true;

        static bool Digits(ReadOnlySpan<byte> digits, out int number)
        {
            number = 0;
            foreach (var d in digits)
            {
                if (d is < (byte)'0' or > (byte)'9')
                {
                    return false;
                }

                number = (number * 10) + d - '0';
            }

            return true;
        }
    }
}
