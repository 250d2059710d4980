using System.Globalization;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;

namespace Imbrek.Core.Inventory;

/// <summary>What a host says of its databases, held against the fleet and against the asking before (ways, section 13).</summary>
public static class InventoryComparison
{
    /// <summary>By how much something must have grown to be named: larger by half.</summary>
    public const double LargerBy = 1.5;

    /// <summary>All that is other, what is new first, then what is not there.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="host">The host that was asked.</param>
    /// <param name="now">What it answered.</param>
    /// <param name="before">What it answered the time before; null when it never was asked.</param>
    public static IReadOnlyList<InventoryChange> Of(FleetModel fleet, Id<Host> host, HostAnswer now, HostAnswer? before)
    {
        var earlier = (before?.Databases ?? []).ToLookup(Key);
        var there = now.Databases.Select(Key).ToHashSet();
        var changes = new List<InventoryChange>();
        foreach (var seen in now.Databases)
        {
            var was = earlier[Key(seen)].FirstOrDefault();
            var known = seen.Of is { } of && fleet.DatabaseById.TryGetValue(of, out var d) ? d : null;
            if (known is null && seen.In is null)
            {
                changes.Add(new(InventoryWord.New, seen, "nothing in the fleet is it: no plan, no objective, no way back", was is null));
            }
            else if (known is null && before is not null && was is null)
            {
                changes.Add(new(InventoryWord.New, seen, $"new in {NameOf(fleet, seen.In!.Value)} since the asking before", true));
            }

            // What the fleet says is what plans and paths are computed with; what it does not say was last seen.
            if (seen.SizeBytes is { } size && (known?.SizeBytes ?? was?.SizeBytes) is > 0 and var had && size >= LargerBy * had)
            {
                changes.Add(new(InventoryWord.Larger, seen, string.Create(CultureInfo.InvariantCulture, $"{PlainBytes.Of(size)}, {size / (double)had:0.0#} times the {PlainBytes.Of(had)} {(known is null ? "it had" : "that paths and plans count on")}"), !(was?.SizeBytes >= LargerBy * had)));
            }

            if (seen.LogMode is { } mode && (known?.LogMode ?? was?.LogMode) is { } hadMode && mode != hadMode)
            {
                changes.Add(new(InventoryWord.LogMode, seen, mode == LogMode.Discarded ? "its log is thrown away, not kept: log backups have nothing to take" : "its log is kept, not thrown away: it grows until it is backed up", was?.LogMode != mode));
            }

            if (seen.Version is { } version && known?.Version is { } hadVersion && version != hadVersion)
            {
                changes.Add(new(InventoryWord.Version, seen, $"runs version {version}, not {hadVersion}", was?.Version != version));
            }
        }

        var ofFleet = fleet.Databases.Where(d => d.Host == host && !d.IsInstanceData).Select(d => new SeenDatabase(d.Name, d.Id, null, d.Engine, d.Version, d.SizeBytes, d.LogMode));
        foreach (var missing in ofFleet.Concat(before?.Databases.Where(b => b.Of is null) ?? []).Where(d => !there.Contains(Key(d))).DistinctBy(Key))
        {
            // An instance that answered told all that lies in it.
            var partial = missing.In is { } lies ? now.Databases.All(d => d.Of != lies) : now.IsPartial;
            var same = before is not null && !earlier.Contains(Key(missing));
            changes.Add(partial
                ? new(InventoryWord.NotSeen, missing, "was not seen: the host did not tell all it runs", !same)
                : new(InventoryWord.Gone, missing, missing.Of is null ? $"was there, and is not{(missing.In is { } lay ? $", in {NameOf(fleet, lay)}" : "")}" : $"the fleet has it on {host}, and the host does not run it", !same));
        }

        return [.. changes.OrderBy(c => c.What).ThenBy(c => c.Seen.Name, StringComparer.Ordinal)];
    }

    /// <summary>By what it is known again: the fleet's own identifier, else the engine and the name it goes by.</summary>
    private static string Key(SeenDatabase d) => d.Of is { } of ? $"= {of}" : $"{d.In?.Value} {d.Engine} {d.Name}";

    private static string NameOf(FleetModel fleet, Id<Database> id) => fleet.DatabaseById.TryGetValue(id, out var d) ? d.Name : id.Value;
}
