namespace Imbrek.Core.Moves;

/// <summary>
/// What a move comes to (ways, section 2): a first round that copies everything, rounds that copy what changed meanwhile while the source stays open, and a last one in which it is read-only.
/// </summary>
/// <param name="Rounds">The rounds in which the source stays open.</param>
/// <param name="Last">The one in which it is read-only.</param>
/// <param name="DowntimeSeconds">The last round, what is not in the database, and the check, seconds.</param>
/// <param name="Fits">Whether that is within the window.</param>
/// <param name="TotalSeconds">All rounds and what comes after them, seconds.</param>
public sealed record MoveForecast(IReadOnlyList<MoveForecast.Round> Rounds, MoveForecast.Round Last, double DowntimeSeconds, bool Fits, double TotalSeconds)
{
    /// <summary>A round that is not shorter than the one before by more than this share of it is the last that is tried.</summary>
    private const double LeastGain = 0.01;

    private const double Nearness = 1e-6, Little = 1e-4;
    private const int MostHalvings = 200;

    /// <summary>A round.</summary>
    /// <param name="Data">Bytes it copies.</param>
    /// <param name="Seconds">Seconds it takes.</param>
    public sealed record Round(double Data, double Seconds);

    /// <summary>What would make it fit that does not, each by itself.</summary>
    /// <param name="Window">The window, seconds.</param>
    /// <param name="Rate">Bytes per second that are moved; null where no rate is enough.</param>
    /// <param name="Change">Bytes per second that change; null where even none is too much.</param>
    public sealed record Remedy(double Window, double? Rate, double? Change);

    /// <summary>Forecasts a move.</summary>
    /// <exception cref="ArgumentException">A figure is out of bounds, see <see cref="MoveQuestion.Fault"/>.</exception>
    public static MoveForecast Of(MoveQuestion q)
    {
        if (q.Fault() is var (member, why))
        {
            throw new ArgumentException($"{member} {why}", nameof(q));
        }

        var rounds = new List<Round> { q.FirstRound is { } first ? new(q.Size, first) : Copy(q, q.Size) };
        while (true)
        {
            var last = Next(q, rounds[^1]);
            var downtime = last.Seconds + q.Metadata + q.Check;
            var gains = rounds.Count == 1 || rounds[^2].Seconds - rounds[^1].Seconds > LeastGain * rounds[^2].Seconds;
            if (downtime <= q.Window || !gains || rounds.Count > q.Most)
            {
                return new(rounds, last, downtime, downtime <= q.Window, rounds.Sum(r => r.Seconds) + downtime);
            }

            rounds.Add(last);
        }
    }

    /// <summary>What the next round would come to after one that really took so long: the last one, were it that.</summary>
    /// <param name="q">The figures.</param>
    /// <param name="seconds">Seconds that the round before took.</param>
    public static Round Following(MoveQuestion q, double seconds) => Next(q, new Round(0, seconds));

    /// <summary>What would have to be otherwise so that a move fits; null where it does.</summary>
    /// <remarks>Each is looked for by halving, to a millionth, between what does not fit and what does.</remarks>
    public static Remedy? RemedyOf(MoveQuestion q)
    {
        if (Of(q) is not { Fits: false } forecast)
        {
            return null;
        }

        return new(
            forecast.DowntimeSeconds,
            Of(q with { Rate = MoveQuestion.Largest }).Fits ? Least(q.Rate, MoveQuestion.Largest, rate => Of(q with { Rate = rate }).Fits) : null,
            Of(q with { Change = 0 }).Fits ? Least(q.Change, 0, change => Of(q with { Change = change }).Fits) : null);
    }

    /// <summary>What changed while a round was made.</summary>
    private static Round Next(MoveQuestion q, Round before) => Copy(q, q.Size * Share(q.Change * before.Seconds / q.Size));

    /// <summary>1 − e^−x, also where that is so little that it would be lost beside 1.</summary>
    private static double Share(double x) => x < Little ? x - (x * x / 2) + (x * x * x / 6) : 1 - Math.Exp(-x);

    private static Round Copy(MoveQuestion q, double data) => new(data, Math.Max(data / q.Rate, q.Read is { } read ? q.Size / read : 0) + q.Round);

    /// <summary>The value nearest to one that does not do, towards one that does.</summary>
    private static double Least(double no, double yes, Func<double, bool> does)
    {
        for (var i = 0; i < MostHalvings && Math.Abs(yes - no) > Nearness * Math.Max(Math.Abs(yes), Math.Abs(no)); i++)
        {
            // Over many powers of ten the middle is that of their logarithms.
            var middle = no > 0 && yes > 0 ? Math.Sqrt(no * yes) : (no + yes) / 2;
            (no, yes) = does(middle) ? (no, middle) : (middle, yes);
        }

        return yes;
    }
}
