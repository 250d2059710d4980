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

    /// <summary>Reads an instant.</summary>
    /// <param name="text">The text.</param>
    /// <param name="value">The instant, when the answer is true.</param>
    public static bool TryParse(string text, out Instant value) => InstantPattern.ExtendedIso.Parse(text).TryGetValue(default, out value);
}
