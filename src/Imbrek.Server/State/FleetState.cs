using System.Collections.Concurrent;
using Host = Imbrek.Core.Fleet.Host;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.State;

/// <summary>The fleet and its catalogue in memory, loaded from PostgreSQL and kept current by events.</summary>
internal sealed class FleetState(NpgsqlDataSource source)
{
    private readonly Lock gate = new();

    /// <summary>Whoever loads reads and takes over before the next one reads: of two saves at once the later reading has both.</summary>
    private readonly Turns loading = new();

    /// <summary>Notes and proofs are read and taken over by one after another: who read first must not put what is old in the place of what the next has read.</summary>
    private readonly Turns noting = new();
    private readonly List<(Id<Database> Database, BackupSet[] Sets)> meanwhile = [];
    private readonly List<(Id<Database> Database, LagStretch[] Lag)> meanwhileLag = [];
    private int reading;
    private volatile IReadOnlyDictionary<Id<Replica>, ReplicaNote> notes = new Dictionary<Id<Replica>, ReplicaNote>();
    private ConcurrentDictionary<Id<Database>, DatabaseState> databases = new();
    private volatile FleetModel fleet = FleetModel.Empty;
    private volatile IReadOnlyDictionary<Id<Plan>, Instant> plansChanged = new Dictionary<Id<Plan>, Instant>();
    private volatile IReadOnlyList<KeptFleet.LeftOut> leftOutOfFleet = [];
    private volatile IReadOnlyList<KeptFleet.LeftOut> leftOutOfPlans = [];

    public FleetModel Fleet => fleet;

    /// <summary>What is kept in PostgreSQL and could not be read; everything else goes on without it.</summary>
    public IReadOnlyList<KeptFleet.LeftOut> LeftOut => [.. leftOutOfFleet, .. leftOutOfPlans];

    /// <summary>Whether what PostgreSQL holds has been loaded.</summary>
    public bool Loaded { get; private set; }

    /// <summary>When what the plans of a database do was changed last; null when no plan covers it.</summary>
    public Instant? PlanChanged(Database database) => fleet.PlansOf(database).Select(p => plansChanged.TryGetValue(p.Id, out var at) ? at : (Instant?)null).Max();

    /// <exception cref="BadInputException">There is no such database.</exception>
    public DatabaseState this[string database] =>
        databases.TryGetValue(new(database), out var state)
            ? state
            : throw new BadInputException("database", $"there is no database '{database}'", 404, "not-found");

    /// <exception cref="BadInputException">It was taken out of the fleet since the fleet was looked at.</exception>
    public DatabaseState this[Id<Database> database] => this[database.Value];

    public bool Has(string database) => databases.ContainsKey(new(database));

    /// <summary>Reads everything from PostgreSQL.</summary>
    public Task LoadAsync(CancellationToken cancel) => LoadAsync(() => Task.FromResult(default(Kept)), cancel);

    /// <summary>What is known to be kept, and need not be read.</summary>
    /// <param name="Fleet">The fleet without its plans; null when it has to be read.</param>
    /// <param name="Catalogue">The whole catalogue; null when it has to be read.</param>
    public readonly record struct Kept(FleetModel? Fleet, BackupCatalogue? Catalogue);

    /// <summary>Keeps something in PostgreSQL and takes it over; whatever is changed after that follows.</summary>
    /// <param name="keep">Keeps it. Answers what is kept then, as far as it is known.</param>
    /// <param name="cancel">Stops reading.</param>
    public async Task LoadAsync(Func<Task<Kept>> keep, CancellationToken cancel)
    {
        using var mine = await loading.TakeAsync(cancel);
        using var changes = new Changes(this);
        var kept = await keep();
        await using var context = ImbrekDatabase.Context(source);
        var (loaded, leftOut) = kept.Fleet is { } known ? (known, []) : await NewestAsync(context, cancel);
        (var plans, leftOutOfPlans, plansChanged) = await PlansAsync(context, loaded, cancel);
        loaded = loaded.WithPlans(plans);
        leftOutOfFleet = leftOut;
        await TakeAsync(null, loaded, catalogue => Take(loaded, catalogue), cancel, kept.Catalogue);
        await LoadProofsAsync(context, null, cancel);
        await LoadNotesAsync(context, cancel);
        Loaded = true;

        static async Task<(FleetModel Fleet, IReadOnlyList<KeptFleet.LeftOut> LeftOut)> NewestAsync(ImbrekContext context, CancellationToken cancel) =>
            await context.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).FirstOrDefaultAsync(cancel) is { } version ? KeptFleet.Read(version.Document) : (FleetModel.Empty, []);

        void Take(FleetModel loaded, BackupCatalogue catalogue)
        {
            var made = new DatabaseState[loaded.Databases.Count];
            Parallel.For(0, made.Length, i => made[i] = new(loaded, loaded.Databases[i], catalogue.Of(loaded.Databases[i].Id)));
            databases = new(made.Select((m, i) => KeyValuePair.Create(loaded.Databases[i].Id, m)));

            // They have to be noted again in what was just made.
            notes = new Dictionary<Id<Replica>, ReplicaNote>();
            fleet = loaded;
        }
    }

    /// <summary>Takes over a fleet of which parts were changed. Catalogues stay as they are; only those of databases that were not there are read.</summary>
    public async Task LoadFleetAsync(CancellationToken cancel)
    {
        using var mine = await loading.TakeAsync(cancel);
        await using var context = ImbrekDatabase.Context(source);
        var version = await context.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).FirstAsync(cancel);
        var (loaded, leftOut) = KeptFleet.Read(version.Document);
        (var plans, leftOutOfPlans, plansChanged) = await PlansAsync(context, loaded, cancel);
        loaded = loaded.WithPlans(plans);
        leftOutOfFleet = leftOut;
        string[] added = [.. loaded.Databases.Select(d => d.Id.Value).Where(d => !Has(d))];
        await TakeAsync(added, loaded, read =>
        {
            var before = databases;
            databases = new(loaded.Databases.ToDictionary(d => d.Id, d => before.TryGetValue(d.Id, out var there) ? there : new DatabaseState(loaded, d, read.Of(d.Id))));
            fleet = loaded;
            foreach (var d in loaded.Databases.Where(d => before.ContainsKey(d.Id)))
            {
                databases[d.Id].Replace(loaded, d, null);
            }
        }, cancel);
        await LoadProofsAsync(context, added, cancel);
        await LoadNotesAsync(context, cancel);
        PlansTaken?.Invoke();
    }

    /// <summary>Raised when plans that somebody changed have been taken over.</summary>
    public event Action? PlansTaken;

    /// <summary>Takes over changed plans.</summary>
    public async Task LoadPlansAsync(CancellationToken cancel)
    {
        using var mine = await loading.TakeAsync(cancel);
        await using var context = ImbrekDatabase.Context(source);
        (var plans, leftOutOfPlans, plansChanged) = await PlansAsync(context, fleet, cancel);
        fleet = fleet.WithPlans(plans);
        foreach (var d in fleet.Databases)
        {
            this[d.Id].Replace(fleet, d, null);
        }

        PlansTaken?.Invoke();
    }

    private static async Task<(IReadOnlyList<Plan> Plans, IReadOnlyList<KeptFleet.LeftOut> LeftOut, IReadOnlyDictionary<Id<Plan>, Instant> Changed)> PlansAsync(ImbrekContext context, FleetModel fleet, CancellationToken cancel)
    {
        var newest = await context.PlanVersions.AsNoTracking().GroupBy(v => v.Plan).Select(g => g.OrderByDescending(v => v.Number).First()).ToListAsync(cancel);
        var plans = new List<Plan>();
        var leftOut = new List<KeptFleet.LeftOut>();
        foreach (var v in newest.Where(v => !v.Removed).OrderBy(v => v.Plan, StringComparer.Ordinal))
        {
            var read = PlanFile.Read(System.Text.Encoding.UTF8.GetBytes(v.Document), fleet, new LocalDate(2000, 1, 1));
            if (read.Value is { } plan)
            {
                plans.Add(plan);
            }
            else
            {
                leftOut.Add(new KeptFleet.LeftOut("plan", v.Plan, read.Faults[0].Member.Length > 0 ? $"{read.Faults[0].Member}: {read.Faults[0].Message}" : read.Faults[0].Message));
            }
        }

        return (plans, leftOut, await PlanChanges.ReadAsync(context, cancel));
    }

    /// <summary>Takes over the lag that another process has written of late.</summary>
    public async Task LoadLagAsync(CancellationToken cancel)
    {
        await using var connection = await source.OpenConnectionAsync(cancel);
        await using var newest = new NpgsqlCommand("select max(\"to\") from replica_lag", connection);
        if (await newest.ExecuteScalarAsync(cancel) is Instant last)
        {
            Change(await LagTable.ReadAfterAsync(connection, last - LagIsFresh, cancel));
        }

        await using var context = ImbrekDatabase.Context(source);
        await LoadNotesAsync(context, cancel);
    }

    /// <summary>What is known of a replica beside its lag.</summary>
    public ReplicaNote NoteOf(Id<Replica> replica) => notes.GetValueOrDefault(replica) ?? ReplicaNote.None;

    /// <summary>Reads what is known of replicas beside their lag.</summary>
    public async Task LoadNotesAsync(ImbrekContext context, CancellationToken cancel)
    {
        using var mine = await noting.TakeAsync(cancel);
        var read = (await context.ReplicaNotes.AsNoTracking().ToListAsync(cancel)).ToDictionary(
            n => new Id<Replica>(n.Replica),
            n => new ReplicaNote { HeldUpBy = n.HeldUpBy, Unusable = n.Unusable, Since = n.Since, HeldBy = n.HeldBy, WatchedFrom = n.WatchedFrom is { } eye ? new(eye) : null, Seeding = n.SeedingRun is not null });
        lock (gate)
        {
            var before = notes;
            notes = read;
            foreach (var database in read.Keys.Concat(before.Keys).Distinct().Where(r => fleet.Replicas.ContainsKey(r) && read.GetValueOrDefault(r) != before.GetValueOrDefault(r)).Select(r => fleet.Replicas[r].Database).Distinct())
            {
                if (databases.TryGetValue(database, out var state))
                {
                    state.Note(read);
                }
            }
        }
    }

    /// <summary>What ended longer ago than this before the newest stretch was told before.</summary>
    private static readonly Duration LagIsFresh = Duration.FromMinutes(2);

    /// <summary>Reads some databases again, because another process changed them.</summary>
    public async Task ReloadAsync(IReadOnlyCollection<string> ids, CancellationToken cancel)
    {
        // Not while everything is taken over: that may have been read before what is told now.
        using var mine = await loading.TakeAsync(cancel);
        await TakeAsync(ids, fleet, Take, cancel);
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

    /// <summary>Takes over stretches of lag; of replicas that are not in the fleet nothing.</summary>
    /// <returns>The databases whose they are.</returns>
    public IReadOnlyCollection<Id<Database>> Change(IEnumerable<LagStretch> stretches)
    {
        lock (gate)
        {
            (Id<Database> Database, LagStretch[] Lag)[] changed =
                [.. stretches.Where(s => fleet.Replicas.ContainsKey(s.Replica)).GroupBy(s => fleet.Replicas[s.Replica].Database).Select(g => (g.Key, g.ToArray()))];
            foreach (var c in changed)
            {
                Apply(c.Database, c.Lag);
                if (reading > 0)
                {
                    meanwhileLag.Add(c);
                }
            }

            return [.. changed.Select(c => c.Database)];
        }
    }

    private void Apply(Id<Database> database, LagStretch[] lag)
    {
        if (databases.TryGetValue(database, out var state))
        {
            state.Change(lag);
        }
    }

    private void Apply(Id<Database> database, BackupSet[] sets)
    {
        if (databases.TryGetValue(database, out var state))
        {
            state.Change(sets);
        }
    }

    /// <summary>Remembers what changes while catalogues are read, and so may not be in them.</summary>
    private readonly struct Changes : IDisposable
    {
        private readonly FleetState state;

        public Changes(FleetState state)
        {
            this.state = state;
            lock (state.gate)
            {
                state.reading++;
            }
        }

        public void Dispose()
        {
            lock (state.gate)
            {
                if (--state.reading == 0)
                {
                    state.meanwhile.Clear();
                    state.meanwhileLag.Clear();
                }
            }
        }
    }

    /// <summary>Reads catalogues, unless they are known, and takes them over; what changed in the meantime is changed again.</summary>
    private async Task TakeAsync(IReadOnlyCollection<string>? ids, FleetModel within, Action<BackupCatalogue> take, CancellationToken cancel, BackupCatalogue? known = null)
    {
        using var changes = new Changes(this);
        if (known is null)
        {
            await using var connection = await source.OpenConnectionAsync(cancel);
            known = await CatalogueTable.ReadAsync(connection, ids, cancel);
        }

        known = await WithLagAsync(within, Within(within, known), ids, cancel);
        lock (gate)
        {
            take(known);
            meanwhile.ForEach(m => Apply(m.Database, m.Sets));
            meanwhileLag.ForEach(m => Apply(m.Database, m.Lag));
        }
    }

    /// <summary>The catalogue with what is kept of the lag of the replicas of its databases.</summary>
    private async Task<BackupCatalogue> WithLagAsync(FleetModel within, BackupCatalogue known, IReadOnlyCollection<string>? ids, CancellationToken cancel)
    {
        string[]? replicas = ids is null ? null : [.. ids.SelectMany(d => within.ReplicasOf(new(d))).Select(r => r.Id.Value)];
        if (within.ReplicaList.Count == 0 || replicas is [])
        {
            return known;
        }

        await using var connection = await source.OpenConnectionAsync(cancel);
        return known.WithLag(within, await LagTable.ReadAsync(connection, replicas, cancel));
    }

    /// <summary>The catalogue without copies in stores that the fleet does not have (any more): they can be restored from nowhere.</summary>
    private static BackupCatalogue Within(FleetModel fleet, BackupCatalogue read) => read.All.All(c => c.Stores.All(fleet.Stores.ContainsKey))
        ? read
        : new(read.All.Select(c => c.Stores.All(fleet.Stores.ContainsKey)
            ? c
            : c.Rebuilt(c.Sets.Select(s => s with { Copies = [.. s.Copies.Where(x => fleet.Stores.ContainsKey(x.Store))] }))));

    /// <summary>Reads the newest proofs and what was learned from finished runs.</summary>
    public async Task LoadProofsAsync(ImbrekContext context, IReadOnlyCollection<string>? ids, CancellationToken cancel)
    {
        using var mine = await noting.TakeAsync(cancel);
        var proofs = await context.Proofs.AsNoTracking().Where(p => ids == null || ids.Contains(p.Database))
            .GroupBy(p => new { p.Database, p.Loss, p.TookOver }).Select(g => g.OrderByDescending(p => p.At).First()).ToListAsync(cancel);
        foreach (var of in proofs.Where(p => Has(p.Database)).GroupBy(p => p.Database))
        {
            this[of.Key].Proofs = Proofs.Of(of.Select(p => p.ToProof()));
        }

        var paces = await context.Paces.AsNoTracking().Where(p => ids == null || ids.Contains(p.Database)).ToListAsync(cancel);
        foreach (var group in paces.GroupBy(p => p.Database).Where(g => Has(g.Key)))
        {
            this[group.Key].Learn(group.GroupBy(p => (new Id<Store>(p.Store), new Id<Host>(p.Host)))
                .ToDictionary(g => g.Key, g => LearnedPace.From([.. g.Select(p => p.ActualSeconds / p.ProfileSeconds)])));
        }
    }
}
