using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Catalogue;

/// <summary>Which sets a task that takes none is about.</summary>
public static class ChosenSets
{
    /// <summary>What is read back: the set that was just taken, or what was never read, and bases again each time: everything else rests on them.</summary>
    /// <param name="sets">The sets of the database.</param>
    /// <param name="one">The set that was just taken; null when none was.</param>
    public static IEnumerable<SetCopy> ToReadBack(IEnumerable<BackupSet> sets, Id<BackupSet>? one) =>
        from s in sets
        where one is { } just ? s.Id == just : s.Kind is not (SetKind.Log or SetKind.Export) || s.Copies.Any(c => c is { RemovedAt: null, State: CopyState.Unverified })
        from c in s.Copies
        where c.RemovedAt is null && c.State != CopyState.Damaged
        select new SetCopy(s.Id, c.Store);

    /// <summary>What is copied elsewhere: the set that was just taken, or all that are not there, the oldest first.</summary>
    public static IReadOnlyList<BackupSet> ToCopy(IEnumerable<BackupSet> sets, Id<BackupSet>? one, Id<Store> to) =>
    [
        .. sets.Where(s => (one is not { } just || s.Id == just) && s.Copies.All(c => c.Store != to) && s.Copies.Any(c => c.RemovedAt is null)).OrderBy(s => s.CoversTo),
    ];
}
