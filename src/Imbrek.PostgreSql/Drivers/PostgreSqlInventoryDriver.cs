using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Asks the clusters of a host for what they hold: each is a database of the fleet, with its own databases in it.</summary>
internal sealed class PostgreSqlInventoryDriver(IClusterBook book) : IInventoryDriver
{
    private const int MostInOne = 2_000;

    /// <inheritdoc/>
    public async Task<HostAnswer> AskAsync(Id<Host> host, CancellationToken cancel)
    {
        var clusters = book.ClustersOn(host);
        var answers = await Task.WhenAll(clusters.Select(c => AskAsync(c.Cluster, c.Database, cancel)));
        return HostAnswer.Of(clusters.Count == 0 ? answers : answers.Append(new HostAnswer([], [$"clusters on {host} that were not added: none tells of another"])));
    }

    private static async Task<HostAnswer> AskAsync(ClusterSpec cluster, Database known, CancellationToken cancel)
    {
        try
        {
            await using var c = await Connections.OpenAsync(cluster, cancel);
            try
            {
                return await AskAsync(c, known, cancel);
            }
            catch (NpgsqlException e)
            {
                throw Connections.Told(cluster, e, cancel);
            }
        }
        catch (DriverException e)
        {
            return new([], [$"{known.Name}: {e.Message}"]);
        }
    }

    private static async Task<HostAnswer> AskAsync(NpgsqlConnection c, Database known, CancellationToken cancel)
    {
        var version = await c.AskAsync<string>("select (current_setting('server_version_num')::int / 10000)::text", cancel);

        // What cannot be received as log cannot be kept: the engine throws it away once it has no use for it.
        var mode = await c.AskAsync<string>("select current_setting('wal_level')", cancel) == "minimal" ? LogMode.Discarded : LogMode.Kept;
        var databases = await c.RowsAsync(
            $"select datname, case when has_database_privilege(oid, 'connect') or pg_has_role(current_user, 'pg_read_all_stats', 'member') then pg_database_size(oid) end from pg_database where not datistemplate order by 1 limit {MostInOne + 1}",
            r => (Name: r.GetString(0), Size: r.IsDBNull(1) ? (long?)null : r.GetInt64(1)),
            cancel);
        var unseen = new List<string>();
        var hidden = databases.Count(d => d.Size is null);
        if (hidden > 0)
        {
            unseen.Add($"{known.Name}: the sizes of {hidden} of its databases, and so its own: grant pg_read_all_stats to the role that asks");
        }

        if (databases.Count > MostInOne)
        {
            unseen.Add($"{known.Name}: it has more than {MostInOne} databases; the others were not looked at");
        }

        long? size = hidden > 0 ? null : await c.AskAsync<long>("select sum(pg_database_size(oid))::bigint from pg_database", cancel);
        return new(
            [
                new SeenDatabase(known.Name, known.Id, null, known.Engine, version, size, mode),
                .. databases.Take(MostInOne).Select(d => new SeenDatabase(d.Name, null, known.Id, known.Engine, null, d.Size, null)),
            ],
            unseen);
    }
}
