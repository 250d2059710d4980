using System.Diagnostics;
using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>What proves that a standby holds what its primary has: a transaction committed there is committed here, both list the same relations, and a write here is refused.</summary>
internal static class StandbyProof
{
    private const double MarkerSeconds = 300;
    private const int MostDatabases = 50;
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);

    /// <summary>Proves one: what is written at the primary is there, both sides have the same in their catalogues, a write here is refused.</summary>
    public static async Task<IReadOnlyList<CheckResult>> ProveAsync(RunCall call, Replica replica, ClusterSpec cluster, StandbySpec standby, CancellationToken cancel)
    {
        await using var source = await Connections.OpenAsync(cluster, cancel);
        await using var here = await Connections.OpenAsync(standby, cancel);
        var (began, results) = (Stopwatch.GetTimestamp(), new List<CheckResult>());
        var (transaction, at) = (await source.RowsAsync(
            $"select pg_current_xact_id()::text, pg_logical_emit_message(true, 'imbrek', 'replica {replica.Id} proves itself, {call.Run.ToString()[..8]}')::text", r => (r.GetString(0), Lsn.Parse(r.GetString(1))), cancel))[0];
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            var arrived = await here.AskAsync<bool>($"select greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn()) > '{at}'", cancel);
            var replayed = arrived && await here.AskAsync<bool>($"select pg_last_wal_replay_lsn() > '{at}' and pg_xact_status('{transaction}') = 'committed'", cancel);
            var waited = Stopwatch.GetElapsedTime(began).TotalSeconds;
            if (replayed || (arrived && replica.DelaySeconds > 0) || waited > MarkerSeconds)
            {
                results.Add(new("marker", arrived, !arrived ? $"transaction {transaction} was committed at the primary, and is not here {waited:0} s later"
                    : $"transaction {transaction} was committed at the primary, {(replayed ? "and is so here" : "has come here and is held back by its delay")} {waited:0.#} s later"));
                break;
            }

            await timer.WaitForNextTickAsync(cancel);
        }

        if (replica.DelaySeconds == 0)
        {
            results.Add(await SameAsync(source, here, cluster, standby, cancel));
        }

        try
        {
            await using var write = new NpgsqlCommand("create table imbrek_must_be_refused (n int)", here);
            await write.ExecuteNonQueryAsync(cancel);
            results.Add(new("write", false, "a write here was taken"));
        }
        catch (PostgresException e) when (e.SqlState == "25006")
        {
            results.Add(new("write", true, $"a write here was refused: {e.MessageText}"));
        }

        return results;
    }

    /// <summary>Whether both sides list the same relations in the same files; looked at again where they were changed meanwhile.</summary>
    private static async Task<CheckResult> SameAsync(NpgsqlConnection source, NpgsqlConnection here, ClusterSpec cluster, StandbySpec standby, CancellationToken cancel)
    {
        const string Digest = "select md5(coalesce(string_agg(concat_ws(' ', oid, relname, relkind, relfilenode, relnatts), ',' order by oid), '')) from pg_class";
        var databases = await source.RowsAsync(
            $"select datname from pg_database where datallowconn and not datistemplate and has_database_privilege(oid, 'connect') order by 1 limit {MostDatabases}", r => r.GetString(0), cancel);
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(1));
        for (var look = 0; ; look++)
        {
            var differ = new List<string>();
            foreach (var name in databases)
            {
                await using var one = await Connections.OpenAsync(cluster, cancel, name);
                await using var other = await Connections.OpenAsync(standby, cancel, name);
                if (await one.AskAsync<string>(Digest, cancel) != await other.AskAsync<string>(Digest, cancel))
                {
                    differ.Add(name);
                }
            }

            var (a, b) = (await source.AskAsync<long>("select system_identifier from pg_control_system()", cancel), await here.AskAsync<long>("select system_identifier from pg_control_system()", cancel));
            if ((differ.Count == 0 && a == b) || look == 10)
            {
                return new("digest", differ.Count == 0 && a == b, a != b ? "it is a copy of another cluster" : differ.Count > 0 ? $"the catalogues of {string.Join(", ", differ)} differ"
                    : $"cluster {a.ToString(CultureInfo.InvariantCulture)}; the catalogues of {databases.Count} {(databases.Count == 1 ? "database" : "databases")} are the same on both sides");
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }
}
