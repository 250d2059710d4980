using System.Diagnostics;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Server.State;

/// <summary>What needs somebody, of the whole fleet, in groups. Kept for a moment: the pages of one list are of one making.</summary>
internal sealed class FindingsState(FleetState fleet, DesignedState designed, RunHealth health, IEnumerable<IFindingSource> further)
{
    private static readonly TimeSpan Kept = TimeSpan.FromSeconds(2);
    private readonly Lock gate = new();
    private TimeSpan lasted;
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

    /// <summary>What needs somebody about one database.</summary>
    public IEnumerable<Finding> Of(Database d, Instant at) =>
        FindingRules.SaidOnce(fleet[d.Id].Findings(at, fleet.PlanChanged(d)), designed.Findings(d, at)).Concat(health.Findings(fleet.Fleet, d, at)).Concat(further.SelectMany(f => f.Of(d, at)));
}
