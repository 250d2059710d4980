using System.Diagnostics;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Reads every table and index of a cluster and looks for damage: with the engine's own <c>amcheck</c> where a database has that extension, otherwise by reading every row, which
/// checks the checksum of every page where the cluster keeps them.
/// </summary>
internal static class Structure
{
    private const int StatementSeconds = 3600;

    /// <summary>Checks all databases.</summary>
    /// <param name="connection">A connection to the cluster.</param>
    /// <param name="open">Opens one to a database of it.</param>
    /// <param name="cancel">Stops it.</param>
    /// <param name="withinSeconds">How long it may take; what is not begun by then is left out. Null for as long as it needs.</param>
    /// <returns>What each kind of check found, and the bytes looked at.</returns>
    public static async Task<(IReadOnlyList<CheckResult> Found, long Bytes)> CheckAsync(NpgsqlConnection connection, Func<string, Task<NpgsqlConnection>> open, CancellationToken cancel, double? withinSeconds = null)
    {
        var (tables, indexes, bytes, damage, without, left, began) = (0, 0, 0L, new List<string>(), new List<string>(), 0, Stopwatch.GetTimestamp());
        var checksums = await connection.AskAsync<string>("select setting from pg_settings where name = 'data_checksums'", cancel) == "on";
        var failedBefore = await FailuresAsync();
        foreach (var name in await connection.RowsAsync("select datname from pg_database where datallowconn and not datistemplate order by 1", r => r.GetString(0), cancel))
        {
            await using var inside = await open(name);
            bytes += await inside.AskAsync<long>("select pg_database_size(current_database())", cancel);
            var deep = await inside.RowsAsync("select quote_ident(n.nspname) from pg_extension e join pg_namespace n on n.oid = e.extnamespace where extname = 'amcheck'", r => r.GetString(0), cancel);
            if (deep.Count == 0)
            {
                without.Add(name);
            }

            foreach (var (oid, relation, kind) in await inside.RowsAsync(
                """
                select c.oid::bigint, c.oid::regclass::text, c.relkind::text || coalesce(a.amname, '') from pg_class c left join pg_am a on a.oid = c.relam left join pg_index i on i.indexrelid = c.oid
                where c.relpersistence = 'p' and (c.relkind in ('r', 't', 'm') or c.relkind = 'i' and a.amname = 'btree' and i.indisvalid) order by c.oid
                """,
                r => (r.GetInt64(0), r.GetString(1), r.GetString(2)),
                cancel))
            {
                if (withinSeconds is { } most && Stopwatch.GetElapsedTime(began).TotalSeconds >= most)
                {
                    left++;
                    continue;
                }

                var heap = kind[0] != 'i';
                (tables, indexes) = heap ? (tables + 1, indexes) : (tables, indexes + 1);
                var question = deep.Count > 0
                    ? heap ? $"select min(msg) from {deep[0]}.verify_heapam({oid}::oid::regclass)" : $"select {deep[0]}.bt_index_check({oid}::oid::regclass)::text"
                    : heap && kind[0] != 't' ? $"select count(t.*)::text from {relation} t" : null;
                if (question is null)
                {
                    continue;
                }

                try
                {
                    await using var command = new NpgsqlCommand(question, inside) { CommandTimeout = StatementSeconds };
                    if (await command.ExecuteScalarAsync(cancel) is string said && deep.Count > 0 && heap)
                    {
                        damage.Add($"{name}: {relation}: {said}");
                    }
                }
                catch (PostgresException e) when (e.SqlState is "XX001" or "XX002" or "58030" or "58P01")
                {
                    damage.Add($"{name}: {relation}: {e.MessageText}");
                }
                catch (PostgresException e) when (e.SqlState == "42501")
                {
                    damage.Add($"{name}: {relation} may not be read by this role: {e.MessageText}");
                }
            }
        }

        var failed = await FailuresAsync() - failedBefore;
        return (
        [
            new CheckResult(
                "structure",
                damage.Count == 0,
                damage.Count > 0 ? string.Join("; ", damage.Take(5)) + (damage.Count > 5 ? $"; and {damage.Count - 5} more" : "")
                : $"{tables} tables and {indexes} indexes are whole" + (left == 0 ? "" : $"; for {left} more there was no time") + (without.Count == 0 ? "" : $" as far as reading every row tells: {string.Join(", ", without.Take(5))} has no amcheck")),
            new CheckResult(
                "page checksums",
                !checksums || failed <= 0 && !damage.Exists(d => d.Contains("checksum", StringComparison.Ordinal) || d.Contains("invalid page", StringComparison.Ordinal)),
                !checksums ? "the cluster keeps none" : failed > 0 ? $"{failed} pages failed theirs" : "every page read had the right one"),
        ],
            bytes);

        async Task<long> FailuresAsync() => await connection.AskAsync<long>("select coalesce(sum(checksum_failures), 0)::bigint from pg_stat_database", cancel);
    }
}
