using System.Collections.Frozen;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Catalogue;

/// <summary>The backup sets of a fleet, by database.</summary>
public sealed class BackupCatalogue
{
    private readonly FrozenDictionary<Id<Database>, DatabaseCatalogue> byDatabase;

    /// <summary>Sorts sets by database.</summary>
    public BackupCatalogue(IEnumerable<BackupSet> sets)
        : this(sets.GroupBy(s => s.Database).AsParallel().Select(g => new DatabaseCatalogue(g.Key, g)))
    {
    }

    /// <summary>Puts together catalogues already built.</summary>
    public BackupCatalogue(IEnumerable<DatabaseCatalogue> catalogues) =>
        byDatabase = catalogues.ToFrozenDictionary(c => c.Database);

    /// <summary>The sets of one database; an empty catalogue when it has none.</summary>
    public DatabaseCatalogue Of(Id<Database> database) =>
        byDatabase.GetValueOrDefault(database) ?? new DatabaseCatalogue(database, []);

    /// <summary>How many sets there are.</summary>
    public int Count => byDatabase.Values.Sum(c => c.Count);

    /// <summary>The same with one copy of a set in a store: of several, one after the other, the last that came. That is what is kept of an imported catalogue.</summary>
    /// <param name="changed">How many sets had several.</param>
    public BackupCatalogue WithOneCopyAStore(out int changed)
    {
        var several = byDatabase.Values.Select(c => (Catalogue: c, Sets: c.WithSeveralCopiesInAStore().ToArray())).Where(c => c.Sets.Length > 0).ToDictionary(c => c.Catalogue.Database);
        changed = several.Values.Sum(c => c.Sets.Length);
        return changed == 0
            ? this
            : new(byDatabase.Values.Select(c => several.TryGetValue(c.Database, out var s)
                ? c.With([.. s.Sets.Select(i => c[i] with { Copies = [.. c[i].Copies.GroupBy(x => x.Store).Select(g => g.MaxBy(x => x.AvailableAt)!)] })])
                : c));
    }

    /// <summary>All databases' catalogues.</summary>
    public IEnumerable<DatabaseCatalogue> All => byDatabase.Values;
}
