using System.Collections.Concurrent;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using Npgsql;
using Host = Imbrek.Core.Fleet.Host;

namespace Imbrek.Server.State;

/// <summary>The fleet and its catalogue in memory, loaded from PostgreSQL and kept current by events.</summary>
internal sealed class FleetState(NpgsqlDataSource source)
{
    private readonly Lock gate = new();
    private readonly List<(Id<Database> Database, BackupSet[] Sets)> meanwhile = [];
    private int reading;
    private ConcurrentDictionary<Id<Database>, DatabaseState> databases = new();
    private volatile FleetModel fleet = FleetModel.Empty;

    public FleetModel Fleet => fleet;

    /// <summary>Whether what PostgreSQL holds has been loaded.</summary>
    public bool Loaded { get; private set; }

    /// <exception cref="BadInputException">There is no such database.</exception>
    public DatabaseState this[string database] =>
        databases.TryGetValue(new(database), out var state)
            ? state
            : throw new BadInputException("database", $"there is no database '{database}'", 404, "not-found");

    public DatabaseState this[Id<Database> database] => databases[database];

    public bool Has(string database) => databases.ContainsKey(new(database));

    /// <summary>Reads everything from PostgreSQL.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var context = ImbrekDatabase.Context(source);
        var version = await context.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).FirstOrDefaultAsync(cancel);
        var loaded = version is null ? FleetModel.Empty : Parse(version.Document);
        loaded = loaded.WithPlans(await PlansAsync(context, loaded, cancel));
        await TakeAsync(null, Take, cancel);
        await LoadProofsAsync(context, null, cancel);
        Loaded = true;

        void Take(BackupCatalogue catalogue)
        {
            databases = new(loaded.Databases.ToDictionary(d => d.Id, d => new DatabaseState(loaded, d, catalogue.Of(d.Id))));
            fleet = loaded;
        }
    }

    /// <summary>Takes over changed plans.</summary>
    public async Task LoadPlansAsync(CancellationToken cancel)
    {
        await using var context = ImbrekDatabase.Context(source);
        fleet = fleet.WithPlans(await PlansAsync(context, fleet, cancel));
        foreach (var d in fleet.Databases)
        {
            this[d.Id].Replace(fleet, d, null);
        }
    }

    private static async Task<IReadOnlyList<Plan>> PlansAsync(ImbrekContext context, FleetModel fleet, CancellationToken cancel)
    {
        var newest = await context.PlanVersions.AsNoTracking().GroupBy(v => v.Plan).Select(g => g.OrderByDescending(v => v.Number).First()).ToListAsync(cancel);
        return
        [
            .. newest.Where(v => !v.Removed).OrderBy(v => v.Plan, StringComparer.Ordinal).Select(v =>
                PlanFile.Read(System.Text.Encoding.UTF8.GetBytes(v.Document), fleet, default).Value
                ?? throw new InvalidOperationException($"plan '{v.Plan}' as kept in PostgreSQL cannot be read")),
        ];
    }

    /// <summary>Reads some databases again, because another process changed them.</summary>
    public async Task ReloadAsync(IReadOnlyCollection<string> ids, CancellationToken cancel)
    {
        await TakeAsync(ids, Take, cancel);
        await using var context = ImbrekDatabase.Context(source);
        await LoadProofsAsync(context, ids, cancel);

        void Take(BackupCatalogue catalogue)
        {
            foreach (var id in ids.Where(Has))
            {
                this[id].Replace(fleet, fleet.DatabaseById[new(id)], catalogue.Of(new(id)));
            }
        }
    }

    /// <summary>Takes over changed sets of one database.</summary>
    public void Change(Id<Database> database, IEnumerable<BackupSet> sets)
    {
        lock (gate)
        {
            BackupSet[] changed = [.. sets];
            Apply(database, changed);
            if (reading > 0)
            {
                meanwhile.Add((database, changed));
            }
        }
    }

    private void Apply(Id<Database> database, BackupSet[] sets)
    {
        if (databases.TryGetValue(database, out var state))
        {
            state.Change(sets);
        }
    }

    /// <summary>Reads catalogues and takes them over; what changed while they were read, and may not be in them, is changed again.</summary>
    private async Task TakeAsync(IReadOnlyCollection<string>? ids, Action<BackupCatalogue> take, CancellationToken cancel)
    {
        lock (gate)
        {
            reading++;
        }

        BackupCatalogue? read = null;
        try
        {
            await using var connection = await source.OpenConnectionAsync(cancel);
            read = await CatalogueTable.ReadAsync(connection, ids, cancel);
        }
        finally
        {
            lock (gate)
            {
                if (read is not null)
                {
                    take(read);
                    meanwhile.ForEach(m => Apply(m.Database, m.Sets));
                }

                if (--reading == 0)
                {
                    meanwhile.Clear();
                }
            }
        }
    }

    /// <summary>Reads the newest proofs and what was learned from finished runs.</summary>
    public async Task LoadProofsAsync(ImbrekContext context, IReadOnlyCollection<string>? ids, CancellationToken cancel)
    {
        var proofs = await context.Proofs.AsNoTracking().Where(p => ids == null || ids.Contains(p.Database))
            .GroupBy(p => p.Database).Select(g => g.OrderByDescending(p => p.At).First()).ToListAsync(cancel);
        foreach (var p in proofs.Where(p => Has(p.Database)))
        {
            this[p.Database].Proof = new Proof(p.At, p.LostSeconds, p.ServiceSeconds, p.Passed, p.SizeBytes, p.Version);
        }

        var paces = await context.Paces.AsNoTracking().Where(p => ids == null || ids.Contains(p.Database)).ToListAsync(cancel);
        foreach (var group in paces.GroupBy(p => p.Database).Where(g => Has(g.Key)))
        {
            this[group.Key].Learn(group.GroupBy(p => (new Id<Store>(p.Store), new Id<Host>(p.Host)))
                .ToDictionary(g => g.Key, g => LearnedPace.From([.. g.Select(p => p.ActualSeconds / p.ProfileSeconds)])));
        }
    }

    private static FleetModel Parse(string document) =>
        FleetFile.Read(System.Text.Encoding.UTF8.GetBytes(document), "fleet").Value
        ?? throw new InvalidOperationException("the fleet kept in PostgreSQL cannot be read");
}
