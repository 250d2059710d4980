using Imbrek.Core.Catalogue;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>The chain a set stands in, under one loss as of one instant: what it takes to restore it, and how much needs it.</summary>
/// <param name="Needs">The sets needed, nearest first: for a log, of the states it can be applied to the latest, and so on down to a base.</param>
/// <param name="NeededBy">How many sets that can be restored could not be without it.</param>
/// <param name="WhyUnusable">Why it cannot be restored; null when it can.</param>
public sealed record SetChain(IReadOnlyList<Fleet.Id<BackupSet>> Needs, int NeededBy, string? WhyUnusable)
{
    /// <summary>Looks from one set both ways.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">What is supposed to be lost; a bare kind is the one the database lies on.</param>
    /// <param name="at">The as-of instant.</param>
    /// <param name="set">The set.</param>
    /// <exception cref="ArgumentException">It is none of the database's.</exception>
    public static SetChain Of(RecoverySubject subject, Loss loss, Instant at, Fleet.Id<BackupSet> set)
    {
        var (lineage, c) = (subject.Lineage, subject.Catalogue);
        var index = c.IndexOf(set);
        if (index < 0)
        {
            throw new ArgumentException($"there is no set '{set}'", nameof(set));
        }

        var resolved = loss.For(subject.Database, subject.Fleet);
        var availability = new Availability(subject, resolved);
        var a = at.ToUnixTimeMilliseconds();
        var reached = lineage.Reached(s => availability.UsableAt(s, a));
        var without = lineage.Reached(s => s != index && availability.UsableAt(s, a));
        var lost = Enumerable.Range(0, c.Count).Count(s => s != index && reached[s] && !without[s]);

        // Where no chain leads to it, the one that would if all were there shows what is missing.
        var within = reached;
        if (!reached[index])
        {
            within = new bool[lineage.Count];
            Array.Fill(within, true);
        }

        var needs = new List<Fleet.Id<BackupSet>>();
        string? why = null;
        for (int node = index, next; ; node = next)
        {
            var one = lineage.SetOf(node);
            if (!reached[index] && why is null && CoverExplainer.WhyUnusable(subject, availability, resolved, one, at) is { } own)
            {
                why = node == index ? own : $"it follows {c.IdOf(one)}: {own}";
            }

            next = c.Kinds[one] == SetKind.Log ? lineage.LatestSource(node, within) : c.Parents[one];
            if (next < 0)
            {
                if (!reached[index])
                {
                    why ??= node == index ? "nothing is known that this log could be applied to" : $"it follows {c.IdOf(one)}, and nothing is known that this log could be applied to";
                }

                return new SetChain(needs, lost, why);
            }

            needs.Add(c.IdOf(lineage.SetOf(next)));
        }
    }
}
