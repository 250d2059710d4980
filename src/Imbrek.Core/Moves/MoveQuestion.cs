namespace Imbrek.Core.Moves;

/// <summary>A move of a database with little downtime, as figures (ways, section 2).</summary>
/// <param name="Size">Its bytes; above 0.</param>
/// <param name="Change">Bytes per second that change.</param>
/// <param name="Rate">Bytes per second that are moved; above 0.</param>
/// <param name="Round">Fixed seconds a round.</param>
/// <param name="Window">The seconds in which it may be read-only.</param>
/// <param name="Metadata">Seconds for what is not in the database.</param>
/// <param name="Check">Seconds to check it.</param>
/// <param name="Read">Bytes per second at which the source is read whole in each round, because it does not track what changes; above 0, null where it does.</param>
/// <param name="Most">The most rounds after the first in which the source stays open.</param>
/// <param name="FirstRound">Seconds that the first round takes, where the way by which all of it is moved is known; null where that goes at the rate too.</param>
public sealed record MoveQuestion(double Size, double Change, double Rate, double Round, double Window, double Metadata, double Check, double? Read = null, int Most = MoveQuestion.UsualMost, double? FirstRound = null)
{
    /// <summary>The most rounds where nothing is said.</summary>
    public const int UsualMost = 50;

    /// <summary>The most rounds that may be asked for.</summary>
    public const int MostRounds = 10_000;

    /// <summary>The largest of all figures.</summary>
    public const double Largest = 1e18;

    /// <summary>What is wrong with it: the member, and why; null when nothing is.</summary>
    public (string Member, string Why)? Fault()
    {
        foreach (var (member, value) in (IEnumerable<(string, double)>)[("size", Size), ("rate", Rate), ("read", Read ?? 1)])
        {
            if (!(value > 0 && value <= Largest))
            {
                return (member, $"must be above 0 and at most {Largest:0e+0}");
            }
        }

        foreach (var (member, value) in (IEnumerable<(string, double)>)[("change", Change), ("round", Round), ("window", Window), ("metadata", Metadata), ("check", Check), ("firstRound", FirstRound ?? 0)])
        {
            if (!(value >= 0 && value <= Largest))
            {
                return (member, $"must be at least 0 and at most {Largest:0e+0}");
            }
        }

        return Most is < 0 or > MostRounds ? ("most", $"must be 0 to {MostRounds}") : null;
    }
}
