using System.Globalization;

namespace Imbrek.Core.Recovery;

/// <summary>Seconds in the words the product shows: "4 min 10 s", "2 d 3 h".</summary>
public static class PlainDuration
{
    /// <summary>At most two units, the larger ones.</summary>
    /// <param name="seconds">Seconds; negative is shown as 0.</param>
    public static string Of(double seconds)
    {
        var s = (long)Math.Round(Math.Max(0, seconds));
        if (seconds is > 0 and < 0.05)
        {
            return "under 0.1 s";
        }

        if (seconds is > 0 and < 0.95)
        {
            return string.Create(CultureInfo.InvariantCulture, $"{seconds:0.0} s");
        }

        return s switch
        {
            < 60 => $"{s} s",
            < 3600 => Two(s / 60, "min", s % 60, "s"),
            < 86400 => Two(s / 3600, "h", s % 3600 / 60, "min"),
            _ => Two(s / 86400, "d", s % 86400 / 3600, "h"),
        };
    }

    /// <summary>Seconds beside what is allowed; where two units show no difference, by how much it is more.</summary>
    /// <param name="seconds">Seconds, more than allowed.</param>
    /// <param name="allowed">Seconds allowed.</param>
    public static string Beyond(double seconds, double allowed) => Of(seconds) is var words && words != Of(allowed)
        ? $"{words}, {Of(allowed)} is allowed"
        : $"{words}, {Of(seconds - allowed)} more than allowed";

    private static string Two(long big, string bigUnit, long small, string smallUnit) =>
        small == 0 ? $"{big} {bigUnit}" : $"{big} {bigUnit} {small} {smallUnit}";
}
