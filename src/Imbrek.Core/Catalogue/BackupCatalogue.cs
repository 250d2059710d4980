using System.Collections.Frozen;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;

namespace Imbrek.Core.Catalogue;

/// <summary>The backup sets of a fleet, and the lag of its replicas, by database.</summary>
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

    /// <summary>The same sets with another lag of the replicas.</summary>
    /// <param name="fleet">The fleet the replicas are of; stretches of others are left aside.</param>
    /// <param name="stretches">The stretches, in any order.</param>
    public BackupCatalogue WithLag(FleetModel fleet, IEnumerable<LagStretch> stretches)
    {
        var lags = stretches.GroupBy(s => s.Replica).Where(g => fleet.Replicas.ContainsKey(g.Key))
            .Select(g => new LagHistory(g.Key, g)).GroupBy(l => fleet.Replicas[l.Replica].Database).ToDictionary(g => g.Key, g => g.ToArray());
        return lags.Count == 0 && byDatabase.Values.All(c => c.Lag.Count == 0)
            ? this
            : new(byDatabase.Keys.Union(lags.Keys).Select(d => Of(d).WithLag(lags.GetValueOrDefault(d) ?? [])));
    }

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
