using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>How likely a plan keeps its objectives, from many weeks drawn with the failures and spread of durations seen.</summary>
/// <param name="Database">The database.</param>
/// <param name="Loss">The loss.</param>
/// <param name="Weeks">How many weeks were drawn.</param>
/// <param name="KeepsRpoForMonth">Chance that the RPO is kept for 30 days: that of a week, taken 30/7 times.</param>
/// <param name="Exposure95">95th percentile of a week's worst exposure, seconds; null when something could be unprotected so often.</param>
/// <param name="Restore95">95th percentile of a week's longest restore, service seconds; null when there was none so often.</param>
public sealed record Chances(Id<Database> Database, Loss Loss, int Weeks, double KeepsRpoForMonth, double? Exposure95, double? Restore95)
{
    /// <summary>How far durations spread where too little was seen.</summary>
    public const double UsualSpread = 0.2;

    private const int FewestRuns = 50;

    /// <summary>Draws weeks.</summary>
    /// <param name="question">What is asked; its chance gives the shares and the spread, its seed the first week's.</param>
    /// <param name="weeks">How many weeks to draw.</param>
    public static IReadOnlyList<Chances> Of(DesignQuestion question, int weeks)
    {
        var chance = question.Chance ?? new Chance(1, _ => 0, 0);
        var seen = new Dictionary<(Id<Database>, Loss), List<(double Exposure, double Restore)>>();
        for (var week = 0; week < weeks; week++)
        {
            var answer = Designer.Design(question with { Chance = chance with { Seed = chance.Seed + (ulong)week } });
            foreach (var (database, figures) in answer.ByDatabase)
            {
                foreach (var f in figures)
                {
                    var list = seen.TryGetValue((database, f.Loss), out var known) ? known : seen[(database, f.Loss)] = [];
                    list.Add((
                        f.Window.SecondsUnprotected > 0 ? double.PositiveInfinity : f.Window.WorstExposureSeconds ?? double.PositiveInfinity,
                        f.LongestRestore?.ServiceSeconds ?? double.PositiveInfinity));
                }
            }
        }

        return
        [
            .. seen.Select(s =>
            {
                var rpo = question.Fleet.ObjectiveOf(question.Fleet.DatabaseById[s.Key.Item1])?.RpoSeconds ?? double.PositiveInfinity;
                var kept = s.Value.Count(v => v.Exposure <= rpo) / (double)s.Value.Count;
                return new Chances(s.Key.Item1, s.Key.Item2, weeks, Math.Pow(kept, 30.0 / 7), At95(s.Value.Select(v => v.Exposure)), At95(s.Value.Select(v => v.Restore)));
            }),
        ];
    }

    /// <summary>
    /// The share of attempts that failed, and how far durations spread about what was expected (standard deviation of the logarithm of
    /// their ratio), from runs that are over; null when there were too few to say.
    /// </summary>
    public static (double Share, double Spread)? LearnedFrom(IEnumerable<TaskRun> runs)
    {
        int over = 0, attempts = 0, good = 0;
        var ratios = new List<double>();
        foreach (var r in runs.Where(r => r.State is RunState.Done or RunState.Failed))
        {
            over++;
            attempts += r.Attempts;
            if (r.State == RunState.Done)
            {
                good++;
                if (r is { ExpectedSeconds: > 0, Started: { } started, Ended: { } ended })
                {
                    ratios.Add(Math.Log(Math.Max((ended - started).TotalSeconds, 0.5) / r.ExpectedSeconds));
                }
            }
        }

        if (over < FewestRuns)
        {
            return null;
        }

        var mean = ratios.DefaultIfEmpty().Average();
        var spread = ratios.Count < 2 ? UsualSpread : Math.Sqrt(ratios.Sum(r => (r - mean) * (r - mean)) / (ratios.Count - 1));
        return (Math.Clamp(1 - (good / (double)Math.Max(attempts, 1)), 0, 0.5), Math.Clamp(spread, 0, 1));
    }

    private static double? At95(IEnumerable<double> values)
    {
        var sorted = values.Order().ToArray();
        var at = sorted[(int)Math.Ceiling(0.95 * sorted.Length) - 1];
        return double.IsInfinity(at) ? null : at;
    }
}
