using System.Diagnostics;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Server.State;

/// <summary>What needs somebody, of the whole fleet, in groups. Made at most every few seconds: the pages of one list are of one making.</summary>
internal sealed class FindingsState(FleetState fleet, DesignedState designed, RunHealth health)
{
    private static readonly TimeSpan Kept = TimeSpan.FromSeconds(2);
    private readonly Lock gate = new();
    private (long At, FleetModel Fleet, object? Designed, IReadOnlyList<FindingGroup> Groups)? made;

    /// <summary>The groups, most urgent first.</summary>
    public IReadOnlyList<FindingGroup> Groups(Instant at, CancellationToken cancel)
    {
        lock (gate)
        {
            var f = fleet.Fleet;

            // What takes long to make is kept longer, so that making it never takes more than a part of the time.
            if (made is not { } m || !ReferenceEquals(m.Fleet, f) || !ReferenceEquals(m.Designed, designed.Known) || Stopwatch.GetElapsedTime(m.At) > Kept + (lasted * 5))
            {
                var began = Stopwatch.GetTimestamp();
                var each = new Finding[f.Databases.Count][];
                Parallel.For(0, each.Length, new ParallelOptions { CancellationToken = cancel }, i => each[i] = [.. Of(f.Databases[i], at)]);
                var groups = FindingGroup.Of(each.SelectMany(e => e));
                lasted = Stopwatch.GetElapsedTime(began);
                made = m = (Stopwatch.GetTimestamp(), f, designed.Known, groups);
            }

            return m.Groups;
        }
    }

    private TimeSpan lasted;

    /// <summary>What needs somebody about one database. What two rules see of one trouble is said once: by the sets there are rather than by the plan.</summary>
    public IEnumerable<Finding> Of(Database d, Instant at)
    {
        var seen = fleet[d.Id].Findings(at, fleet.PlanChanged(d));
        string[] covered =
        [
            .. seen.SelectMany(f => f.Code switch
            {
                "no-sets" => new[] { "no-plan" },
                "same-failure-domain" => ["copies-in-failure-domain"],
                "log-discarded" => ["log-task-without-log"],
                "never-restored" => ["never-test-restored"],
                _ => [],
            }),
        ];
        return seen.Concat(health.Findings(fleet.Fleet, d, at)).Concat(designed.Findings(d, at).Where(f => !covered.Contains(f.Code)));
    }
}
