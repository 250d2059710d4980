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
}
