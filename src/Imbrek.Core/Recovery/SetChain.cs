using Imbrek.Core.Catalogue;

namespace Imbrek.Core.Recovery;

/// <summary>The chain a set stands in: what it needs to be restored, and how much needs it.</summary>
public static class SetChain
{
    /// <summary>Looks from one set both ways.</summary>
    /// <param name="lineage">The sets and which can follow which.</param>
    /// <param name="set">The set.</param>
    /// <returns>The sets needed, nearest first (for a log: the latest base and the logs between), and how many sets could not be restored without it as things stand.</returns>
    public static (IReadOnlyList<int> Needs, int NeededBy) Of(Lineage lineage, int set)
    {
        var c = lineage.Catalogue;
        var needs = new List<int>();
        for (var at = set; ;)
        {
            if (c.Kinds[at] == SetKind.Log)
            {
                // The latest state it applies to; bases win over logs of the same time, being nearer to a restore.
                var best = -1;
                foreach (var source in lineage.SourcesOf(at))
                {
                    if (best < 0 || lineage.TimeOf(source) > lineage.TimeOf(best)
                        || (lineage.TimeOf(source) == lineage.TimeOf(best) && c.Kinds[lineage.SetOf(source)] != SetKind.Log))
                    {
                        best = source;
                    }
                }

                at = best < 0 ? -1 : lineage.SetOf(best);
            }
            else
            {
                at = c.Parents[at];
            }

            if (at < 0 || needs.Contains(at) || needs.Count > 5000)
            {
                break;
            }

            needs.Add(at);
        }

        return (needs, CountDependents(lineage, set));
    }

    private static int CountDependents(Lineage lineage, int set)
    {
        var c = lineage.Catalogue;
        var depends = new bool[lineage.Count];
        depends[set] = true;
        var count = 0;
        for (var k = 0; k < lineage.Count; k++)
        {
            var node = lineage.Order is null ? k : lineage.Order[k];
            if (node == set)
            {
                continue;
            }

            var own = lineage.SetOf(node);
            if (c.Kinds[own] != SetKind.Log)
            {
                depends[node] = c.Parents[own] >= 0 && depends[c.Parents[own]];
            }
            else
            {
                var sources = lineage.SourcesOf(node);
                depends[node] = own == set || (sources.Length > 0 && All(sources, depends));
            }

            count += depends[node] && node < c.Count ? 1 : 0;
        }

        return count;
    }

    private static bool All(ReadOnlySpan<int> nodes, bool[] flags)
    {
        foreach (var n in nodes)
        {
            if (!flags[n])
            {
                return false;
            }
        }

        return true;
    }
}
