using System.Numerics;

namespace Imbrek.Core.Drills;

/// <summary>A number read as the decimal it is written as: 0.95 is ninety-five hundredths, not the nearest binary fraction.</summary>
public readonly record struct DecimalShare
{
    /// <summary>The longest text that is read.</summary>
    public const int MostDigits = 40;

    private DecimalShare(BigInteger over, BigInteger under) => (Over, Under) = (over, under);

    /// <summary>The numerator.</summary>
    public BigInteger Over { get; }

    /// <summary>The denominator, a power of ten.</summary>
    public BigInteger Under { get; }

    /// <summary>What it lacks to 1.</summary>
    public DecimalShare Rest => new(Under - Over, Under);

    /// <summary>The nearest binary fraction.</summary>
    public double Nearly => (double)Over / (double)Under;

    /// <summary>Reads digits with at most one point, such as 0.95 or 1.</summary>
    /// <param name="text">The text.</param>
    /// <param name="share">What was read.</param>
    /// <returns>Whether it is such a number.</returns>
    public static bool TryParse(string text, out DecimalShare share)
    {
        share = default;
        var point = text.IndexOf('.', StringComparison.Ordinal);
        var digits = point < 0 ? text : text.Remove(point, 1);
        if (digits.Length is 0 or > MostDigits || !digits.All(char.IsAsciiDigit))
        {
            return false;
        }

        share = new(BigInteger.Parse(digits, System.Globalization.CultureInfo.InvariantCulture), BigInteger.Pow(10, point < 0 ? 0 : text.Length - point - 1));
        return true;
    }

    /// <summary>The whole part of a share of a number.</summary>
    public BigInteger FloorOf(int number) => Over * number / Under;
}
