using System.Collections.Concurrent;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Configuration;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;
using Npgsql;

namespace Imbrek.PostgreSql.Serving;

/// <summary>The clusters and folders of this installation, as PostgreSQL holds them.</summary>
internal sealed class ClusterBook(NpgsqlDataSource source, FleetState fleet, IConfiguration configuration) : IClusterBook
{
    private static readonly JsonSerializerOptions Json = new JsonSerializerOptions(JsonSerializerDefaults.Web).ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);
    private volatile Dictionary<string, ClusterSpec> clusters = [];
    private volatile Dictionary<(string Kind, string Id), string> folders = [];
    private readonly ConcurrentDictionary<string, Received> received = new();

    /// <summary>Whoever reads takes over what was read before the next one reads: what is old must not be put in the place of what was changed since.</summary>
    private readonly Turns loading = new();

    /// <summary>All clusters.</summary>
    public IReadOnlyDictionary<string, ClusterSpec> All => clusters.Values.Any(c => c.StandbyList is not null || c.Aside is not null) ? clusters.ToDictionary(c => c.Key, c => Where(c.Value)) : clusters;

    /// <summary>How the receiving of a log stands, as far as was last heard; null before.</summary>
    public Received? ReceivedOf(string database) => received.GetValueOrDefault(database);

    /// <summary>The folder of a store or host; null when there is none.</summary>
    public string? FolderOf(string kind, string id) => folders.GetValueOrDefault((kind, id));

    /// <summary>Hears how a receiving stands.</summary>
    public void Hear(string database, Received now) => received[database] = now;

    /// <summary>Reads everything.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
        using var mine = await loading.TakeAsync(cancel);
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Clusters.AsNoTracking().ToListAsync(cancel);
        folders = (await data.Folders.AsNoTracking().ToListAsync(cancel)).ToDictionary(f => (f.Kind, f.Id), f => f.Folder);
        clusters = rows.ToDictionary(r => r.Database, ReadSpec);
        foreach (var r in rows.Where(r => r.Received is not null))
        {
            Hear(r.Database, Read<Received>(r.Received!));
        }
    }

    public static string Write<T>(T value) => JsonSerializer.Serialize(value, Json);

    /// <summary>How a cluster is reached, as its row holds it.</summary>
    public static ClusterSpec ReadSpec(ClusterRow row) => Read<ClusterSpec>(row.Document);

    private static T Read<T>(string text) => JsonSerializer.Deserialize<T>(text, Json)!;

    /// <inheritdoc/>
    public ClusterSpec Cluster(Id<Database> database) =>
        clusters.TryGetValue(database.Value, out var c) ? Where(c) : throw new DriverException(DriverProblem.Refused, $"{database} is no cluster this installation knows");

    /// <inheritdoc/>
    public IReadOnlyList<(ClusterSpec Cluster, Database Database)> ClustersOn(Id<Core.Fleet.Host> host) =>
        [.. fleet.Fleet.Databases.Where(d => d.Host == host && clusters.ContainsKey(d.Id.Value)).Select(d => (Cluster(d.Id), d))];

    /// <inheritdoc/>
    public FolderStore Store(Id<Core.Fleet.Store> store) => FolderOf(FolderRow.OfStore, store.Value) is { } folder
        ? new FolderStore(store.Value, folder, fleet.Fleet.Stores.TryGetValue(store, out var s) ? s.CapacityBytes : null)
        : throw new DriverException(DriverProblem.Refused, $"store {store} is no folder of this installation");

    /// <inheritdoc/>
    public string InstancesOn(Id<Core.Fleet.Host> host) => FolderOf(FolderRow.OfHost, host.Value)
        ?? ClustersOn(host).Select(c => Path.GetDirectoryName((c.Cluster.Aside?.Data ?? c.Cluster.Placed?.Data))).FirstOrDefault(f => f is not null)
        ?? throw new DriverException(DriverProblem.Refused, $"this server cannot start an instance on {host}");

    /// <inheritdoc/>
    public BackupSet? Set(Id<Database> database, Id<BackupSet> set) =>
        fleet.Has(database.Value) && fleet[database].Subject.Catalogue is var c && c.IndexOf(set) is >= 0 and var i ? c[i] : null;

    /// <inheritdoc/>
    public BackupSet? NewestLog(Id<Database> database)
    {
        if (!fleet.Has(database.Value))
        {
            return null;
        }

        var c = fleet[database].Subject.Catalogue;
        for (var i = c.Count - 1; i >= 0; i--)
        {
            if (c[i] is { Kind: SetKind.Log } log)
            {
                return log;
            }
        }

        return null;
    }

    /// <inheritdoc/>
    public (ClusterSpec Cluster, StandbySpec Standby) Standby(Id<Replica> replica) =>
        clusters.Values.SelectMany(c => c.StandbyList ?? [], (c, s) => (c, s)).Where(x => x.s.Replica == replica.Value).Select(x => ((ClusterSpec, StandbySpec)?)(Where(x.c), x.s)).FirstOrDefault()
        ?? throw new DriverException(DriverProblem.Refused, $"{replica} is no standby this installation knows");

    /// <inheritdoc/>
    public IEnumerable<(Instant At, Lsn Position)> Stood(Id<Database> database, Instant since) =>
        fleet.Has(database.Value) ? fleet[database].Subject.Catalogue.Sets.Where(s => s.Kind == SetKind.Log && s.CoversTo > since).OrderBy(s => s.CoversTo).Select(s => (s.CoversTo, new Lsn(s.ToPosition))) : [];

    /// <inheritdoc/>
    public IReadOnlyList<BackupSet> LogBehind(Id<Database> database, int branch, Lsn position) =>
        fleet.Has(database.Value) ? [.. fleet[database].Subject.Catalogue.Sets.Where(s => s.Kind == SetKind.Log && s.Branch == branch && s.ToPosition > position.Value).OrderBy(s => s.ToPosition)] : [];

    /// <inheritdoc/>
    public Replica? Replica(Id<Replica> replica) => fleet.Fleet.Replicas.GetValueOrDefault(replica);

    /// <inheritdoc/>
    public Host? Host(Id<Host> host) => fleet.Fleet.Hosts.GetValueOrDefault(host);

    /// <inheritdoc/>
    public Task AsideAsync(Id<Database> database, KeptOut? how, CancellationToken cancel) => ChangeAsync(database.Value, c => c.With(how), cancel);

    /// <inheritdoc/>
    public Task ChangingAsync(Id<Database> database, Changing how, CancellationToken cancel) => ChangeAsync(database.Value, c => c.With(how), cancel);

    /// <inheritdoc/>
    public Task PlacedAsync(Id<Database> database, Placed what, CancellationToken cancel) => ChangeAsync(database.Value, c => c with { Aside = null, Placed = what }, cancel);

    /// <inheritdoc/>
    public Task MovedAsync(Id<Database> database, string instance, int port, Placed what, CancellationToken cancel) => ChangeAsync(
        database.Value,
        c =>
        {
            var was = At(c);
            var home = new StandbySpec(instance, Instance.Address, port, was.User, was.SignInTo, was.Credential, NodaTime.Instant.FromUnixTimeMilliseconds(what.Came.StartsAt), what.Came.Host);
            return c with { Aside = null, Placed = what, StandbyList = [.. (c.StandbyList ?? []).Where(s => s.Replica != instance), home] };
        },
        cancel);

    /// <inheritdoc/>
    public Task StandbyIsAsync(Id<Database> database, StandbySpec standby, CancellationToken cancel) => ChangeAsync(database.Value, all => [.. all.Where(s => s.Replica != standby.Replica), standby], cancel);

    /// <inheritdoc/>
    public Task StandbyGoneAsync(Id<Replica> replica, CancellationToken cancel) =>
        clusters.Values.FirstOrDefault(c => c.StandbyList?.Any(s => s.Replica == replica.Value) == true) is { } cluster
            ? ChangeAsync(cluster.Database, all => [.. all.Where(s => s.Replica != replica.Value)], cancel)
            : Task.CompletedTask;

    /// <inheritdoc/>
    public Task PromotedAsync(Id<Replica> replica, Instant at, CancellationToken cancel) =>
        ChangeAsync(Standby(replica).Cluster.Database, all => [.. all.Select(s => s.Replica == replica.Value ? s with { PromotedAt = s.PromotedAt ?? at } : s)], cancel);

    /// <inheritdoc/>
    public IEnumerable<string> InstanceFolders => folders.Where(f => f.Key.Kind == FolderRow.OfHost).Select(f => f.Value).Distinct();

    /// <inheritdoc/>
    public Id<Core.Fleet.Host> HostOf(Id<Database> database) => fleet[database].Subject.Database.Host;

    /// <inheritdoc/>
    public (string Address, int Port)? ClientAddress(Id<Database> database) => ClientAddresses.Of(configuration)?.Find(database.Value);

    /// <inheritdoc/>
    public Task SendClientsAsync(Id<Database> database, string address, int port, CancellationToken cancel) =>
        ClientAddresses.Of(configuration) is { } all && all.Find(database.Value) is not null ? all.SendAsync(database.Value, address, port, cancel) : Task.CompletedTask;

    /// <summary>Changes the standbys of a cluster within somebody's transaction; those that were promoted are among them.</summary>
    public static Task ChangeAsync(ImbrekContext data, string database, Func<IReadOnlyList<StandbySpec>, IReadOnlyList<StandbySpec>> change, CancellationToken cancel) =>
        ChangeAsync(data, database, c => c with { StandbyList = change(c.StandbyList ?? []) }, cancel);

    private static async Task ChangeAsync(ImbrekContext data, string database, Func<ClusterSpec, ClusterSpec> change, CancellationToken cancel)
    {
        // Two who change them at once must not each keep what the other has not seen.
        var row = await data.Clusters.FromSql($"select * from clusters where database = {database} for update").SingleAsync(cancel);
        row.Document = Write(change(ReadSpec(row)));
    }

    private Task ChangeAsync(string database, Func<IReadOnlyList<StandbySpec>, IReadOnlyList<StandbySpec>> change, CancellationToken cancel) =>
        ChangeAsync(database, c => c with { StandbyList = change(c.StandbyList ?? []) }, cancel);

    private async Task ChangeAsync(string database, Func<ClusterSpec, ClusterSpec> change, CancellationToken cancel)
    {
        await using (var data = ImbrekDatabase.Context(source))
        {
            await using var transaction = await data.Database.BeginTransactionAsync(cancel);
            await ChangeAsync(data, database, change, cancel);
            await data.SaveChangesAsync(cancel);
            await transaction.CommitAsync(cancel);
        }

        await LoadAsync(cancel);
    }

    /// <summary>A cluster where it is reached: on a socket of its own while everybody is kept out of it.</summary>
    private ClusterSpec Where(ClusterSpec c) => At(c).OnSocket;

    /// <summary>A cluster at its own address, or where it was moved to, or that of a standby that took over, as the fleet says.</summary>
    private ClusterSpec At(ClusterSpec c) =>
        c.StandbyList is { } all && fleet.Has(c.Database) && fleet[c.Database].Subject.Database.Host is var host
        && all.LastOrDefault(s => s.PromotedAt is not null && (s.Host is { } own ? own == host.Value : fleet.Fleet.Replicas.TryGetValue(new(s.Replica), out var r) && r.Place.Hosts.Contains(host))) is { } primary ? c.At(primary) : c;
}
