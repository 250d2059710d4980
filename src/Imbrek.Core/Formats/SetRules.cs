using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Formats;

/// <summary>The input errors of section 2 that concern a set by itself or together with its parent.</summary>
internal static class SetRules
{
    /// <summary>Reports every fault; answers the lines that have one.</summary>
    public static HashSet<int> Check(IReadOnlyList<(BackupSet Set, int Line)> sets, FleetModel fleet, FaultReport report)
    {
        var bad = new HashSet<int>();
        var byId = new Dictionary<(Id<Database>, Id<BackupSet>), BackupSet>();
        foreach (var (set, line) in sets)
        {
            if (!byId.TryAdd((set.Database, set.Id), set))
            {
                Fault(line, "id", $"set '{set.Id}' of database '{set.Database}' is given twice");
            }
        }

        foreach (var (set, line) in sets)
        {
            if (set.Branch != 1 && !fleet.DatabaseById[set.Database].Branches.Any(b => b.Id == set.Branch))
            {
                Fault(line, "branch", $"database '{set.Database}' has no branch {set.Branch}");
            }

            if (set.CoversFrom is { } from && set.CoversTo < from)
            {
                Fault(line, "coversTo", "is before coversFrom");
            }

            if (set.FromPosition is { } position && set.ToPosition < position)
            {
                Fault(line, "toPosition", "is before fromPosition");
            }

            if (set.Parent is { } name && byId.TryGetValue((set.Database, name), out var parent))
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
            else if (set.Kind == SetKind.Incremental && parent.CoversTo > set.CoversTo && !InCycle(set))
            {
                Fault(line, "parent", $"'{parent.Id}' is later than the incremental that builds on it");
            }
        }

        // A cycle is not an error, but makes its sets unavailable.
        bool InCycle(BackupSet set)
        {
            var at = set;
            for (var steps = 0; steps <= sets.Count; steps++)
            {
                if (at.Parent is not { } name || !byId.TryGetValue((at.Database, name), out var next))
                {
                    return false;
                }

                if (ReferenceEquals(next, set))
                {
                    return true;
                }

                at = next;
            }

            return false;
        }

        void Fault(int line, string member, string message)
        {
            bad.Add(line);
            report.Fault(line, member, message);
        }
    }
}
