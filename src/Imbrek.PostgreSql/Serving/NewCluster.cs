using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.Server;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Serving;

/// <summary>Adds a cluster: looks at it, makes its parts of the fleet and what is known of it in one transaction, and has its log received. Nothing is kept of one that cannot be protected.</summary>
internal sealed class NewCluster(
    NpgsqlDataSource source, FleetState fleet, ClusterBook book, LogDuty duty, IGuest guest, Dispatcher dispatcher, IDiscoverDriver<ClusterSpec> discovery, IClock clock)
{
    /// <summary>What the fleet calls the engine of all of them.</summary>
    internal const string Engine = "postgresql-15";
    private const long LeastLogRoom = 64L << 20;

    // What the engine's own tool takes.
    private const long LeastRate = 32L << 10;
    private const long MostRate = 1L << 30;

    /// <summary>What is added.</summary>
    /// <param name="Database">What the fleet calls the cluster.</param>
    /// <param name="Name">What people call it; null for the same.</param>
    /// <param name="Address">Name or address of its machine.</param>
    /// <param name="Port">Its port.</param>
    /// <param name="User">The role to sign in as.</param>
    /// <param name="SignInTo">The database to sign in to; null for <c>postgres</c>.</param>
    /// <param name="Credential">The name of the credential; null where none is asked for.</param>
    /// <param name="Site">The site it stands in; made where there is none of that name.</param>
    /// <param name="Host">What the fleet calls its machine; null for the name of the cluster with <c>-host</c>.</param>
    /// <param name="Store">The store for its backups and log.</param>
    /// <param name="StoreSite">The site of that store; null for where it is, or the cluster's.</param>
    /// <param name="Folder">The folder that the store is; null where it is known.</param>
    /// <param name="RestoreHost">The host on which it is restored: one this server can start an engine on.</param>
    /// <param name="RestoreFolder">The folder for restored instances there; null where it is known.</param>
    /// <param name="Objective">The objective agreed; null for none.</param>
    /// <param name="LogRoomBytes">How much log the source may keep for us; null for a gibibyte.</param>
    /// <param name="BackupBytesPerSecond">How many bytes a second a base backup may take; null for as many as it can.</param>
    public sealed record Request(
        string Database, string? Name, string Address, int Port, string User, string? SignInTo, string? Credential, string Site, string? Host, string Store, string? StoreSite, string? Folder, string RestoreHost, string? RestoreFolder, string? Objective, long? LogRoomBytes, long? BackupBytesPerSecond);

    /// <summary>How it is reached.</summary>
    /// <exception cref="BadInputException">Something is wrong by itself.</exception>
    public static ClusterSpec SpecOf(string database, string address, int port, string user, string? signInTo, string? credential, string store, long? logRoomBytes, long? backupBytesPerSecond = null)
    {
        Id("database", database);
        Word("address", address, 253);
        Word("user", user, 63);
        Word("signInTo", signInTo ?? "postgres", 63);
        if (address.Contains(',', StringComparison.Ordinal) || address.StartsWith('-'))
        {
            throw new BadInputException("address", "names one machine");
        }

        if (port is < 1 or > 65535)
        {
            throw new BadInputException("port", "must lie between 1 and 65535");
        }

        if (credential is { Length: > 0 } && Credentials.WhatIsWrong(credential) is { } wrong)
        {
            throw new BadInputException("credential", $"{wrong}: it is the name of one, not its value");
        }

        if (logRoomBytes is < LeastLogRoom or > InputBounds.Bytes)
        {
            throw new BadInputException("logRoomBytes", $"must be at least {LeastLogRoom:N0}");
        }

        if (backupBytesPerSecond is < LeastRate or > MostRate)
        {
            throw new BadInputException("backupBytesPerSecond", $"must lie between {LeastRate:N0} and {MostRate:N0}");
        }

        return new ClusterSpec(database, address, port, user, signInTo is { Length: > 0 } ? signInTo : "postgres", credential is { Length: > 0 } ? credential : null, store, logRoomBytes ?? 1L << 30, backupBytesPerSecond);

        static void Word(string member, string? text, int most)
        {
            if (string.IsNullOrWhiteSpace(text) || InputBounds.WhatIsWrong(text, most) is not null)
            {
                throw new BadInputException(member, string.IsNullOrWhiteSpace(text) ? "is missing" : InputBounds.WhatIsWrong(text, most)!);
            }
        }
    }

    /// <summary>Adds one.</summary>
    /// <exception cref="BadInputException">It cannot be; names the member at fault, and nothing is kept.</exception>
    public async Task<Discovered> AddAsync(Request r, string who, CancellationToken cancel)
    {
        var spec = SpecOf(r.Database, r.Address, r.Port, r.User, r.SignInTo, r.Credential, r.Store, r.LogRoomBytes, r.BackupBytesPerSecond);
        Id("site", r.Site);
        Id("store", r.Store);
        Id("restoreHost", r.RestoreHost);
        var host = r.Host is { Length: > 0 } ? r.Host : $"{r.Database}-host";
        Id("host", host);
        var now = fleet.Fleet;
        if (now.DatabaseById.ContainsKey(new(r.Database)) || book.All.ContainsKey(r.Database))
        {
            throw new BadInputException("database", $"there is a database '{r.Database}' already", 409, "there-already");
        }

        if (book.All.Values.FirstOrDefault(c => c.UsualAddress == spec.Address && c.Port == spec.Port) is { } same)
        {
            throw new BadInputException("address", $"that cluster is here already, as {same.Database}", 409, "there-already");
        }

        var storeFolder = Folder("folder", FolderRow.OfStore, r.Store, r.Folder);
        var hostFolder = Folder("restoreFolder", FolderRow.OfHost, r.RestoreHost, r.RestoreFolder);
        var seen = await LookAsync(spec, cancel);
        if (seen.Lacks.Count > 0)
        {
            throw new BadInputException("address", $"it cannot be protected yet: {string.Join("; ", seen.Lacks)}", 409, "lacks");
        }

        string[] sites = [r.Site, r.StoreSite is { Length: > 0 } s ? s : now.Stores.TryGetValue(new(r.Store), out var known) ? known.Site.Value : r.Site];
        Id("storeSite", sites[1]);
        var changes = Between(now, sites[0], sites[1]).ToList();
        if (!now.Engines.ContainsKey(new(Engine)))
        {
            changes.Add(FleetParts.Put("engines", Engine, new JsonObject
            {
                ["name"] = "PostgreSQL",
                ["provisionSeconds"] = 1,
                ["perSetSeconds"] = 1,
                ["restoreBytesPerSecond"] = 150e6,
                ["replayBytesPerSecond"] = 40e6,
                ["indexBytesPerSecond"] = 50e6,
                ["openSeconds"] = 2,
                ["takes"] = new JsonArray("full", "export", "log"),
            }));
        }

        foreach (var (id, place) in new[] { (host, r.Site), (r.RestoreHost, sites[1]) }.Where(h => !now.Hosts.ContainsKey(new(h.Item1))).DistinctBy(h => h.Item1))
        {
            changes.Add(FleetParts.Put("hosts", id, HostPart(place)));
        }

        if (!now.Stores.ContainsKey(new(r.Store)))
        {
            changes.Add(FleetParts.Put("stores", r.Store, new JsonObject { ["site"] = sites[1], ["readBytesPerSecond"] = 200e6, ["writeBytesPerSecond"] = 200e6 }));
        }

        var database = new JsonObject
        {
            ["name"] = string.IsNullOrWhiteSpace(r.Name) ? r.Database : r.Name.Trim(),
            ["engine"] = Engine,
            ["host"] = host,
            ["recoveryHosts"] = new JsonArray(r.RestoreHost),
            ["sizeBytes"] = seen.SizeBytes,
            ["logBytesPerSecond"] = seen.LogBytesPerSecond,
            ["version"] = seen.Version,
            ["detectSeconds"] = 30,
            ["decideSeconds"] = 60,
            ["checkSeconds"] = 5,
            ["redirectSeconds"] = 10,
        };
        if (r.Objective is { Length: > 0 })
        {
            database["objective"] = r.Objective;
        }

        var timeline = int.Parse(seen.Facts.First(f => f.Name == "timeline").Value, System.Globalization.CultureInfo.InvariantCulture);
        if (timeline > 1)
        {
            // What went before it was added is unknown: each timeline follows the one before, from now on.
            var at = Instants.Write(clock.GetCurrentInstant());
            database["branches"] = new JsonArray([.. Enumerable.Range(2, Math.Min(timeline, 500) - 1).Select(t => (JsonNode)new JsonObject { ["id"] = t, ["parent"] = t - 1, ["forkPosition"] = 0, ["forkAt"] = at, ["startsAt"] = at })]);
        }

        changes.Add(FleetParts.Put("databases", r.Database, database));
        await FleetParts.ChangeAsync(changes, null, $"cluster {spec.Address}:{spec.Port} added", fleet, source, guest, dispatcher, clock, who, async (data, inside) =>
        {
            data.Clusters.Add(new ClusterRow { Database = r.Database, Document = ClusterBook.Write(spec), AddedBy = who, AddedAt = clock.GetCurrentInstant() });
            foreach (var (kind, id, folder) in new[] { (FolderRow.OfStore, r.Store, storeFolder), (FolderRow.OfHost, r.RestoreHost, hostFolder) })
            {
                if (!await data.Folders.AnyAsync(f => f.Kind == kind && f.Id == id, inside))
                {
                    data.Folders.Add(new FolderRow { Kind = kind, Id = id, Folder = folder });
                }
            }
        }, cancel);
        await book.LoadAsync(cancel);
        duty.Wake();
        return seen;
    }

    /// <summary>Takes a cluster away: its log is received no more, and our slot at it is removed. Its sets, and what the fleet says of it, stay.</summary>
    /// <returns>What could not be done; null when all was.</returns>
    /// <exception cref="BadInputException">There is none.</exception>
    public async Task<string?> RemoveAsync(string database, CancellationToken cancel)
    {
        if (!book.All.TryGetValue(database, out var spec))
        {
            throw new BadInputException("id", $"there is no cluster '{database}'", 404, "not-found");
        }

        if (spec.Aside is { } aside)
        {
            // How everybody is let in again would be known to nobody.
            throw new BadInputException("id", $"everybody is kept out of it by run {aside.Run}: end that first", 409, "kept-out");
        }

        await using (var data = ImbrekDatabase.Context(source))
        {
            await data.Clusters.Where(c => c.Database == database).ExecuteDeleteAsync(cancel);
        }

        await book.LoadAsync(cancel);
        duty.Wake();
        try
        {
            await using var connection = await Connections.OpenAsync(spec, cancel);
            await LogReceiver.RemoveSlotAsync(connection, spec.Slot, cancel);
            return null;
        }
        catch (Exception e) when (e is DriverException or NpgsqlException or TimeoutException)
        {
            return $"slot {spec.Slot} may still be at the source, and keep log there: {e.Message}";
        }
    }

    /// <summary>Looks at a cluster, as a request does.</summary>
    /// <exception cref="BadInputException">It cannot be reached, or lets nobody in.</exception>
    public async Task<Discovered> LookAsync(ClusterSpec spec, CancellationToken cancel)
    {
        try
        {
            return await discovery.DiscoverAsync(spec, cancel);
        }
        catch (DriverException e)
        {
            throw new BadInputException("address", e.Message, 409, e.Problem == DriverProblem.Unreachable ? "unreachable" : "refused");
        }
    }

    private string Folder(string member, string kind, string id, string? given)
    {
        if (book.FolderOf(kind, id) is { } known)
        {
            return given is null or "" || Path.GetFullPath(given) == known ? known : throw new BadInputException(member, $"{kind} {id} is {known} already");
        }

        if (string.IsNullOrWhiteSpace(given) || !Path.IsPathFullyQualified(given) || InputBounds.WhatIsWrong(given, InputBounds.Name) is not null)
        {
            throw new BadInputException(member, "must be the whole path of a folder this server can write to");
        }

        var folder = Path.TrimEndingDirectorySeparator(Path.GetFullPath(given));
        try
        {
            Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute | (kind == FolderRow.OfHost ? UnixFileMode.GroupExecute | UnixFileMode.OtherExecute : 0));
            var probe = Path.Combine(folder, $".imbrek-{Guid.NewGuid():n}");
            File.WriteAllText(probe, "");
            File.Delete(probe);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new BadInputException(member, $"cannot be written to: {e.Message}");
        }

        return folder;
    }

    /// <summary>What the fleet lacks of two sites and the link between them. Of a new site no more is known than its name; how much a new link carries is assumed until it is said.</summary>
    internal static IEnumerable<FleetParts.Change> Between(FleetModel fleet, string one, string other)
    {
        foreach (var site in new[] { one, other }.Distinct().Where(s => !fleet.Sites.ContainsKey(new(s))))
        {
            yield return FleetParts.Put("sites", site, new JsonObject { ["name"] = site, ["timeZone"] = "Etc/UTC" });
        }

        if (one != other && fleet.LinkBetween(new(one), new(other)) is null)
        {
            yield return FleetParts.Put("links", $"{one}|{other}", new JsonObject { ["between"] = new JsonArray(one, other), ["bytesPerSecond"] = 100e6 });
        }
    }

    /// <summary>A host that runs this engine; how fast it writes is assumed until it is said.</summary>
    internal static JsonObject HostPart(string site) => new() { ["site"] = site, ["writeBytesPerSecond"] = 200e6, ["engines"] = new JsonArray(Engine), ["versions"] = new JsonArray("15") };

    internal static void Id(string member, string? id)
    {
        if (InputBounds.WhatIsWrongWithId(id ?? "") is { } wrong)
        {
            throw new BadInputException(member, wrong);
        }
    }
}
