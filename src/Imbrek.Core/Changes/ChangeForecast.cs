using Imbrek.Core.Fleet;

namespace Imbrek.Core.Changes;

/// <summary>How long a change is expected to take in production, from what rehearsals measured (ways, section 10).</summary>
/// <param name="Seconds">The expected seconds of its parts together.</param>
/// <param name="From">The least it may take.</param>
/// <param name="To">The most it may take.</param>
/// <param name="Rehearsals">From how many rehearsals.</param>
/// <param name="Parts">The expected seconds of each part.</param>
/// <param name="Scaled">Whether one of them ran on a host of another speed, so that its seconds are scaled.</param>
public sealed record ChangeForecast(double Seconds, double From, double To, int Rehearsals, IReadOnlyList<double> Parts, bool Scaled)
{
    private const int FewRehearsals = 3;
    private const double FewWiden = 0.1, SameSpeed = 0.01;

    /// <summary>What a rehearsal measured.</summary>
    /// <param name="Parts">Seconds of each part.</param>
    /// <param name="Scale">How many times as long the host of the database takes: the rate of the host it ran on over that.</param>
    public sealed record Rehearsed(IReadOnlyList<double> Parts, double Scale)
    {
        /// <summary>Seconds of its parts together.</summary>
        public double Seconds => Parts.Sum();
    }

    /// <summary>The forecast; null without a rehearsal. All are of the same change.</summary>
    /// <remarks>Expected is the median of what was measured × its scale. The band goes from the least to the most of what was measured and of what it is scaled to; of fewer than three rehearsals it is wider by a tenth on both sides.</remarks>
    public static ChangeForecast? Of(IReadOnlyList<Rehearsed> rehearsals)
    {
        if (rehearsals.Count == 0)
        {
            return null;
        }

        var widen = rehearsals.Count < FewRehearsals ? FewWiden : 0;
        return new(
            Median(rehearsals.Select(r => r.Seconds * r.Scale)),
            rehearsals.Min(r => r.Seconds * Math.Min(1, r.Scale)) * (1 - widen),
            rehearsals.Max(r => r.Seconds * Math.Max(1, r.Scale)) * (1 + widen),
            rehearsals.Count,
            [.. Enumerable.Range(0, rehearsals[0].Parts.Count).Select(i => Median(rehearsals.Select(r => r.Parts[i] * r.Scale)))],
            rehearsals.Any(r => IsOtherSpeed(r.Scale)));

        static double Median(IEnumerable<double> of)
        {
            double[] sorted = [.. of.Order()];
            return (sorted[(sorted.Length - 1) / 2] + sorted[sorted.Length / 2]) / 2;
        }
    }

    /// <summary>Whether a host with such a scale is of another speed than the database's own.</summary>
    public static bool IsOtherSpeed(double scale) => Math.Abs(scale - 1) > SameSpeed;

    /// <summary>How many times as long a database's own host takes for what was done on another: the ratio of the rates at which they write, as far as the engine can use them.</summary>
    public static double ScaleOf(FleetModel fleet, Database database, Host ran)
    {
        var engine = fleet.Engines[database.Engine];
        return RateOf(ran) / RateOf(fleet.Hosts[database.Host]);

        double RateOf(Host h) => Math.Min(h.WriteBytesPerSecond, engine.RestoreBytesPerSecond);
    }
}
