using System.Collections.Frozen;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Catalogue;

/// <summary>The backup sets of a fleet, by database.</summary>
public sealed class BackupCatalogue
{
    private readonly FrozenDictionary<Id<Database>, DatabaseCatalogue> byDatabase;

    /// <summary>Sorts sets by database.</summary>
    public BackupCatalogue(IEnumerable<BackupSet> sets)
        : this(sets.GroupBy(s => s.Database).Select(g => new DatabaseCatalogue(g.Key, g)))
    {
    }

    /// <summary>Puts together catalogues already built.</summary>
    public BackupCatalogue(IEnumerable<DatabaseCatalogue> catalogues) =>
        byDatabase = catalogues.ToFrozenDictionary(c => c.Database);

    /// <summary>The sets of one database; an empty catalogue when it has none.</summary>
    public DatabaseCatalogue Of(Id<Database> database) =>
        byDatabase.GetValueOrDefault(database) ?? new DatabaseCatalogue(database, []);

    /// <summary>All databases' catalogues.</summary>
    public IEnumerable<DatabaseCatalogue> All => byDatabase.Values;
}
