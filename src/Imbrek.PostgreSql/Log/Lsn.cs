using System.Globalization;

namespace Imbrek.PostgreSql.Log;

/// <summary>A position in a cluster's log, in bytes from its beginning; written as the engine writes it, <c>hi/lo</c> in hexadecimal.</summary>
/// <param name="Value">The position; below 2^63, as positions of Imbrek are.</param>
internal readonly record struct Lsn(long Value) : IComparable<Lsn>
{
    /// <summary>Reads <c>0/16B3748</c>.</summary>
    /// <exception cref="FormatException">It is none.</exception>
    public static Lsn Parse(string text)
    {
        var slash = text.IndexOf('/', StringComparison.Ordinal);
        return slash > 0
            && uint.TryParse(text.AsSpan(0, slash), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var high)
            && uint.TryParse(text.AsSpan(slash + 1), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var low)
            && high <= int.MaxValue
            ? new(((long)high << 32) | low)
            : throw new FormatException($"'{text}' is no log position");
    }

    public int CompareTo(Lsn other) => Value.CompareTo(other.Value);

    public static bool operator <(Lsn a, Lsn b) => a.Value < b.Value;

    public static bool operator >(Lsn a, Lsn b) => a.Value > b.Value;

    public static bool operator <=(Lsn a, Lsn b) => a.Value <= b.Value;

    public static bool operator >=(Lsn a, Lsn b) => a.Value >= b.Value;

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Value >> 32:X}/{Value & 0xFFFFFFFF:X}");
}
