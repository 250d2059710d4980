using System.Globalization;
using System.Text.RegularExpressions;
using Imbrek.Core.Fleet;

namespace Imbrek.StandIn.Engine;

/// <summary>A statement that a simulated database carries out: what it writes, and what of the database it must read or write for that.</summary>
/// <param name="Writes">The rows it writes.</param>
/// <param name="Share">The share of the database that it moves at the rate of its host.</param>
/// <param name="RebuildsIndexes">Whether it rebuilds all indexes.</param>
/// <param name="CollectsStatistics">Whether the engine knows afterwards what its tables hold.</param>
/// <param name="Said">What it says when it is done.</param>
internal sealed partial record WorldStatement(RowWrite[] Writes, double Share, bool RebuildsIndexes, bool CollectsStatistics, string Said)
{
    /// <summary>The statements.</summary>
    public const string Help = "set rows from 10 to 200 to 7, clear rows from 10 to 200, collect statistics, rebuild indexes";

    private const double ShortestSeconds = 0.2, StatisticsShare = 0.15;

    /// <summary>Reads a statement; null when it is none that is known.</summary>
    /// <param name="text">The statement.</param>
    /// <param name="rows">How many rows there are.</param>
    public static WorldStatement? Read(string text, int rows)
    {
        switch (WorldQuery.Plain(text))
        {
            case "collect statistics":
                return new([], StatisticsShare, false, true, "statistics collected");
            case "rebuild indexes":
                return new([], 0, true, false, "indexes rebuilt");
            default:
                if (Rows().Match(WorldQuery.Plain(text)) is not { Success: true } asked || Range(asked, rows) is not var (from, to) || (asked.Groups["value"].Success && !uint.TryParse(asked.Groups["value"].Value, out _)))
                {
                    return null;
                }

                var value = asked.Groups["value"].Success ? uint.Parse(asked.Groups["value"].Value, CultureInfo.InvariantCulture) : 0;
                var many = Math.Max(0, to - from + 1);
                return new([.. Enumerable.Range(from, many).Select(r => new RowWrite(r, value))], (double)many / rows, false, false, $"{many} rows written");
        }
    }

    /// <summary>Seconds it takes on a host.</summary>
    public double Seconds(Database database, EngineProfile engine, Host host) =>
        ShortestSeconds + (Share * database.SizeBytes / Math.Min(host.WriteBytesPerSecond, engine.RestoreBytesPerSecond)) + (RebuildsIndexes ? database.SizeBytes / engine.IndexBytesPerSecond : 0);

    /// <summary>The rows that a pattern names; null for none that are there.</summary>
    internal static (int From, int To)? Range(Match asked, int rows) =>
        !asked.Groups["from"].Success ? (0, rows - 1)
        : int.TryParse(asked.Groups["from"].Value, out var from) && int.TryParse(asked.Groups["to"].Value, out var to) && from < rows ? (from, Math.Min(to, rows - 1))
        : null;

    [GeneratedRegex("^(?:clear rows|(?<set>set rows)) from (?<from>[0-9]+) to (?<to>[0-9]+)(?(set) to (?<value>[0-9]+))$")]
    private static partial Regex Rows();
}
