using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Formats;

/// <summary>The input errors of section 2 that concern a set by itself or together with its parent.</summary>
internal static class SetRules
{
    /// <summary>Reports every fault of the sets of one database; answers the lines that have one.</summary>
    /// <param name="sets">The sets, in the order of their lines.</param>
    /// <param name="database">The database they are of.</param>
    /// <param name="report">Where faults are reported.</param>
    public static HashSet<int> Check(IReadOnlyList<(BackupSet Set, int Line)> sets, Database database, FaultReport report)
    {
        var bad = new HashSet<int>();
        var byId = new Dictionary<Id<BackupSet>, BackupSet>(sets.Count);
        foreach (var (set, line) in sets)
        {
            if (!byId.TryAdd(set.Id, set))
            {
                Fault(line, "id", $"set '{set.Id}' of database '{database.Id}' is given twice");
            }
        }

        HashSet<BackupSet>? circular = null;
        foreach (var (set, line) in sets)
        {
            if (set.Branch != 1 && !database.Branches.Any(b => b.Id == set.Branch))
            {
                Fault(line, "branch", $"database '{database.Id}' has no branch {set.Branch}");
            }

            if (set.CoversFrom is { } from && set.CoversTo < from)
            {
                Fault(line, "coversTo", "is before coversFrom");
            }

            if (set.FromPosition is { } position && set.ToPosition < position)
            {
                Fault(line, "toPosition", "is before fromPosition");
            }

            if (set.Parent is { } name && byId.TryGetValue(name, out var parent))
            {
                CheckParent(set, parent, line);
            }
        }

        return bad;

        void CheckParent(BackupSet set, BackupSet parent, int line)
        {
            if (set.Kind == SetKind.Differential && parent.Kind != SetKind.Full)
            {
                Fault(line, "parent", $"the parent of a differential must be a full; '{parent.Id}' is a {parent.Kind.ToString().ToLowerInvariant()}");
            }
            else if (set.Kind == SetKind.Incremental && parent.Kind is SetKind.Log or SetKind.Export)
            {
                Fault(line, "parent", $"the parent of an incremental must be a full, snapshot, incremental or differential; '{parent.Id}' is a {parent.Kind.ToString().ToLowerInvariant()}");
            }
            else if (set.Kind == SetKind.Incremental && parent.CoversTo > set.CoversTo && !(circular ??= Circular(byId)).Contains(set))
            {
                Fault(line, "parent", $"'{parent.Id}' is later than the incremental that builds on it");
            }
        }

        void Fault(int line, string member, string message)
        {
            bad.Add(line);
            report.Fault(line, member, message);
        }
    }

    /// <summary>The sets that build on themselves in the end. Such a cycle is not an error, but makes its sets unavailable. Each set is looked at once, however long the chains are.</summary>
    private static HashSet<BackupSet> Circular(Dictionary<Id<BackupSet>, BackupSet> byId)
    {
        var circular = new HashSet<BackupSet>(ReferenceEqualityComparer.Instance);
        var walks = new Dictionary<BackupSet, int>(byId.Count, ReferenceEqualityComparer.Instance);
        var walk = 0;
        foreach (var first in byId.Values)
        {
            var at = first;
            for (walk++; at is not null && walks.TryAdd(at, walk); at = Parent(at))
            {
            }

            // It ends at a set without a parent, at one of an earlier walk, or at one of its own: then it has come round.
            for (var round = at; round is not null && walks[round] == walk && circular.Add(round); round = Parent(round))
            {
            }
        }

        return circular;

        BackupSet? Parent(BackupSet set) => set.Parent is { } name ? byId.GetValueOrDefault(name) : null;
    }
}
