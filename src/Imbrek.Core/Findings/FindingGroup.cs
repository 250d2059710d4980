using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Findings;

/// <summary>Findings of many databases that have the same cause and the same remedy: one thing for somebody to do.</summary>
/// <param name="Key">Names the group, so that its databases can be asked for.</param>
/// <param name="Worst">The finding that is most urgent, and of those the largest.</param>
/// <param name="Count">How many findings there are.</param>
/// <param name="Databases">Whose they are, in the order of the fleet, each once.</param>
/// <param name="From">The earliest instant one of them is about; null when none names one.</param>
/// <param name="To">The latest.</param>
public sealed record FindingGroup(string Key, Finding Worst, int Count, IReadOnlyList<Id<Database>> Databases, Instant? From, Instant? To)
{
    /// <summary>Where one rule has more remedies than this (each names another host), they are one group all the same.</summary>
    private const int MostOfOneRule = 12;

    /// <summary>Gathers findings, most urgent first, then those of most databases.</summary>
    public static IReadOnlyList<FindingGroup> Of(IEnumerable<Finding> findings) =>
    [
        .. findings.GroupBy(f => f.Code)
            .SelectMany(rule => rule.GroupBy(f => f.Remedy).ToArray() is { Length: <= MostOfOneRule } remedies ? remedies.Select(g => Group($"{rule.Key}|{g.Key}", g)) : [Group(rule.Key, rule)])
            .OrderByDescending(g => g.Worst.Urgency).ThenByDescending(g => g.Databases.Count).ThenBy(g => g.Key, StringComparer.Ordinal),
    ];

    private static FindingGroup Group(string key, IEnumerable<Finding> findings)
    {
        var all = findings.ToArray();
        var worst = all.OrderByDescending(f => f.Urgency).ThenByDescending(f => f.Seconds ?? 0).First();
        var instants = all.Select(f => f.Since).OfType<Instant>().ToArray();
        return new FindingGroup(key, worst, all.Length, [.. all.Select(f => f.Database).Distinct()], instants.Length == 0 ? null : instants.Min(), instants.Length == 0 ? null : instants.Max());
    }
}
