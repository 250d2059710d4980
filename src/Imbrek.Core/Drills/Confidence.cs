using System.Numerics;

namespace Imbrek.Core.Drills;

/// <summary>
/// What a draw of databases shows of all of them (section 11, how many): exact hypergeometric figures. Where two numbers are far apart logarithms tell which is greater; where they are not, whole numbers do.
/// </summary>
public static class Confidence
{
    /// <summary>The largest population.</summary>
    public const int MostPopulation = 10_000_000;

    /// <summary>Logarithms are trusted where they differ by more.</summary>
    private const double Doubt = 1e-6;

    private static readonly double[] SmallLogFactorials = [.. Enumerable.Range(0, 256).Select(n => Enumerable.Range(1, n).Sum(i => Math.Log(i)))];

    /// <summary>The largest number of failing databases for which so few failures among those drawn would still be likelier than 1 − c.</summary>
    /// <param name="population">N, how many there are.</param>
    /// <param name="tested">n, how many were drawn and tested.</param>
    /// <param name="failed">x, how many of those failed.</param>
    /// <param name="confidence">c, above 0 and below 1.</param>
    /// <exception cref="ArgumentOutOfRangeException">One of them is outside its range.</exception>
    public static int AtMostFailing(int population, int tested, int failed, DecimalShare confidence)
    {
        Require(population, confidence);
        ArgumentOutOfRangeException.ThrowIfNegative(tested);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(tested, population);
        ArgumentOutOfRangeException.ThrowIfNegative(failed);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(failed, tested);

        // So many failed, so it holds for that many; it holds for fewer whenever it holds for more.
        var (holds, fails) = (failed, population + 1);
        while (fails - holds > 1)
        {
            var middle = holds + ((fails - holds) / 2);
            (holds, fails) = IsLikelierThan(confidence.Rest, population, middle, tested, failed) ? (middle, fails) : (holds, middle);
        }

        return holds;
    }

    /// <summary>The least number of tests which, all passed, show that at most a share fails; 0 when that says nothing.</summary>
    /// <param name="population">N, how many there are.</param>
    /// <param name="confidence">c, above 0 and below 1.</param>
    /// <param name="share">p, 0 to 1.</param>
    /// <exception cref="ArgumentOutOfRangeException">One of them is outside its range.</exception>
    public static int Needed(int population, DecimalShare confidence, DecimalShare share)
    {
        Require(population, confidence);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(share.Over, share.Under, nameof(share));
        if (share.FloorOf(population) + 1 is var more && more > population)
        {
            return 0;
        }

        // With one more than are left when so many fail, one of them is found for certain.
        var failing = (int)more;
        var (few, enough) = (0, population - failing + 1);
        while (enough - few > 1)
        {
            var middle = few + ((enough - few) / 2);
            (few, enough) = IsLikelierThan(confidence.Rest, population, failing, middle, 0) ? (middle, enough) : (few, middle);
        }

        return enough;
    }

    /// <summary>Whether P(at most x fail among n drawn without replacement from N of which D fail) is greater than a share.</summary>
    private static bool IsLikelierThan(DecimalShare share, int population, int failing, int drawn, int most)
    {
        var (first, last) = (Math.Max(0, drawn - (population - failing)), Math.Min(most, Math.Min(failing, drawn)));
        if (first > last)
        {
            return false;
        }

        if (last == Math.Min(failing, drawn))
        {
            return true;
        }

        var all = LogChoose(population, drawn);
        double sum = 0, greatest = double.NegativeInfinity;
        for (var k = last; k >= first; k--)
        {
            var log = LogChoose(failing, k) + LogChoose(population - failing, drawn - k) - all;
            (sum, greatest) = log > greatest ? ((sum * Math.Exp(greatest - log)) + 1, log) : (sum + Math.Exp(log - greatest), greatest);
        }

        var difference = greatest + Math.Log(sum) - Math.Log(share.Nearly);
        return Math.Abs(difference) > Doubt ? difference > 0 : IsExactlyLikelierThan(share, population, failing, drawn, first, last);
    }

    private static bool IsExactlyLikelierThan(DecimalShare share, int population, int failing, int drawn, int first, int last)
    {
        var term = Choose(failing, first) * Choose(population - failing, drawn - first);
        var sum = term;
        for (var k = first; k < last; k++)
        {
            term = term * (failing - k) * (drawn - k) / ((k + 1) * (BigInteger)(population - failing - drawn + k + 1));
            sum += term;
        }

        return sum * share.Under > share.Over * Choose(population, drawn);
    }

    private static BigInteger Choose(int n, int k)
    {
        var (chosen, least) = (BigInteger.One, Math.Min(k, n - k));
        for (var i = 1; i <= least; i++)
        {
            chosen = chosen * (n - least + i) / i;
        }

        return chosen;
    }

    private static double LogChoose(int n, int k) => LogFactorial(n) - LogFactorial(k) - LogFactorial(n - k);

    /// <summary>By its series, whose first term left out is below 1e-17 from 256 on.</summary>
    private static double LogFactorial(int n)
    {
        if (n < SmallLogFactorials.Length)
        {
            return SmallLogFactorials[n];
        }

        double x = n;
        return (x * Math.Log(x)) - x + (0.5 * Math.Log(2 * Math.PI * x)) + (1 / (12 * x)) - (1 / (360 * x * x * x)) + (1 / (1260 * x * x * x * x * x));
    }

    private static void Require(int population, DecimalShare confidence)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(population, 1);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(population, MostPopulation);
        if (confidence.Over.IsZero || confidence.Over >= confidence.Under)
        {
            throw new ArgumentOutOfRangeException(nameof(confidence), "must be above 0 and below 1");
        }
    }
}
