using System.Collections.Concurrent;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;
using Npgsql;

namespace Imbrek.PostgreSql.Serving;

/// <summary>The clusters and folders of this installation, as PostgreSQL holds them.</summary>
internal sealed class ClusterBook(NpgsqlDataSource source, FleetState fleet) : IClusterBook
{
    private static readonly JsonSerializerOptions Json = new JsonSerializerOptions(JsonSerializerDefaults.Web).ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);
    private volatile Dictionary<string, ClusterSpec> clusters = [];
    private volatile Dictionary<(string Kind, string Id), string> folders = [];
    private readonly ConcurrentDictionary<string, Received> received = new();

    /// <summary>All clusters.</summary>
    public IReadOnlyDictionary<string, ClusterSpec> All => clusters;

    /// <summary>How the receiving of a log stands, as far as was last heard; null before.</summary>
    public Received? ReceivedOf(string database) => received.GetValueOrDefault(database);

    /// <summary>The folder of a store or host; null when there is none.</summary>
    public string? FolderOf(string kind, string id) => folders.GetValueOrDefault((kind, id));

    /// <summary>Hears how a receiving stands.</summary>
    public void Hear(string database, Received now) => received[database] = now;

    /// <summary>Reads everything.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Clusters.AsNoTracking().ToListAsync(cancel);
        folders = (await data.Folders.AsNoTracking().ToListAsync(cancel)).ToDictionary(f => (f.Kind, f.Id), f => f.Folder);
        clusters = rows.ToDictionary(r => r.Database, r => Read<ClusterSpec>(r.Document));
        foreach (var r in rows.Where(r => r.Received is not null))
        {
            Hear(r.Database, Read<Received>(r.Received!));
        }
    }

    public static string Write<T>(T value) => JsonSerializer.Serialize(value, Json);

    private static T Read<T>(string text) => JsonSerializer.Deserialize<T>(text, Json)!;

    /// <inheritdoc/>
    public ClusterSpec Cluster(Id<Database> database) =>
        clusters.TryGetValue(database.Value, out var c) ? c : throw new DriverException(DriverProblem.Refused, $"{database} is no cluster this installation knows");

    /// <inheritdoc/>
    public FolderStore Store(Id<Core.Fleet.Store> store) => FolderOf(FolderRow.OfStore, store.Value) is { } folder
        ? new FolderStore(store.Value, folder, fleet.Fleet.Stores.TryGetValue(store, out var s) ? s.CapacityBytes : null)
        : throw new DriverException(DriverProblem.Refused, $"store {store} is no folder of this installation");

    /// <inheritdoc/>
    public string InstancesOn(Id<Core.Fleet.Host> host) => FolderOf(FolderRow.OfHost, host.Value)
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
}
