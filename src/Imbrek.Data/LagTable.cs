using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;
using Npgsql;

namespace Imbrek.Data;

/// <summary>Stretches of lag in bulk. Those of one replica never overlap: what comes later says what holds, and cuts what was there.</summary>
public static class LagTable
{
    private const string Columns = "replica, \"from\", \"to\", branch, received_lag, applied_lag, least_lag, pending_bytes, received_position";

    /// <summary>Reads the stretches of some replicas, or of all, in order of replica and time.</summary>
    /// <param name="connection">An open connection.</param>
    /// <param name="replicas">Whose; null for all.</param>
    /// <param name="cancel">Stops reading.</param>
    public static async Task<IReadOnlyList<LagStretch>> ReadAsync(NpgsqlConnection connection, IReadOnlyCollection<string>? replicas, CancellationToken cancel) =>
        await Task.Run(() => replicas is null ? Read(connection, "", _ => { }, cancel) : Read(connection, "where replica = any(@replicas)", c => c.Parameters.AddWithValue("replicas", replicas.ToArray()), cancel), cancel);

    /// <summary>Reads the stretches that end after an instant: what a watcher has written since.</summary>
    /// <param name="connection">An open connection.</param>
    /// <param name="after">The instant.</param>
    /// <param name="cancel">Stops reading.</param>
    public static async Task<IReadOnlyList<LagStretch>> ReadAfterAsync(NpgsqlConnection connection, Instant after, CancellationToken cancel) =>
        await Task.Run(() => Read(connection, "where \"to\" > @after", c => c.Parameters.AddWithValue("after", after), cancel), cancel);

    /// <summary>Row by row without waiting between two: of a million rows every wait would be felt.</summary>
    private static List<LagStretch> Read(NpgsqlConnection connection, string where, Action<NpgsqlCommand> put, CancellationToken cancel)
    {
        var found = new List<LagStretch>();
        using var command = new NpgsqlCommand($"select {Columns} from replica_lag {where} order by replica, \"from\"", connection) { CommandTimeout = 300 };
        put(command);
        var id = new Id<Replica>("-");
        using var r = command.ExecuteReader();
        while (r.Read())
        {
            cancel.ThrowIfCancellationRequested();
            var name = r.GetString(0);
            id = name == id.Value ? id : new(name);
            found.Add(new LagStretch(
                id,
                r.GetInt32(3),
                r.GetFieldValue<Instant>(1),
                r.GetFieldValue<Instant>(2),
                Duration.FromMilliseconds(r.GetInt64(4)),
                Duration.FromMilliseconds(r.GetInt64(5)),
                Duration.FromMilliseconds(r.GetInt64(6)),
                r.GetInt64(7),
                r.IsDBNull(8) ? null : r.GetInt64(8)));
        }

        return found;
    }

    /// <summary>
    /// Writes stretches. Over the span from the first to the last of a replica they are afterwards all there is of it; what was there before and after that span stays, cut where it reached into it.
    /// Asks for a transaction.
    /// </summary>
    /// <param name="connection">An open connection with a transaction begun.</param>
    /// <param name="stretches">The stretches; those of a replica do not overlap each other.</param>
    /// <param name="cancel">Stops writing; the transaction must then be given up.</param>
    public static async Task UpsertAsync(NpgsqlConnection connection, IEnumerable<LagStretch> stretches, CancellationToken cancel)
    {
        // A single instant at which the next one begins says nothing: the later one holds there.
        LagStretch[] all = [.. stretches.GroupBy(s => (s.Replica, s.From)).Select(g => g.MaxBy(s => s.To)!)];
        if (all.Length == 0)
        {
            return;
        }

        await EmptyTables.ExecuteAsync(
            connection,
            "create temp table if not exists new_lag (like replica_lag) on commit delete rows; create temp table if not exists new_lag_span (replica text, \"from\" timestamptz, \"to\" timestamptz) on commit delete rows;",
            cancel);
        await Task.Run(() => CopyIn(connection, all, cancel), cancel);

        // An instant within a stretch that is there says nothing new. What reaches over the end goes on after it; what reaches over the beginning ends there, at a position nobody stated.
        await EmptyTables.ExecuteAsync(
            connection,
            $"""
            insert into new_lag_span select replica, min("from"), max("to") from new_lag group by replica;
            delete from new_lag n using new_lag_span s, replica_lag l where n.replica = s.replica and l.replica = s.replica and s."from" = s."to" and l."from" <= s."from" and l."to" > s."to";
            delete from new_lag_span s where not exists (select 1 from new_lag n where n.replica = s.replica);
            insert into new_lag ({Columns})
              select l.replica, s."to", l."to", l.branch, l.received_lag, l.applied_lag, l.least_lag, l.pending_bytes, l.received_position
              from replica_lag l join new_lag_span s on s.replica = l.replica where l."from" < s."to" and l."to" > s."to"
                and not exists (select 1 from new_lag n where n.replica = l.replica and n."from" = s."to");
            update replica_lag l set "to" = s."from", received_position = null from new_lag_span s where l.replica = s.replica and l."from" < s."from" and l."to" > s."from";
            delete from replica_lag l using new_lag_span s where l.replica = s.replica and l."from" >= s."from" and (l."from" < s."to" or l."from" = s."from");
            insert into replica_lag ({Columns}) select {Columns} from new_lag
              on conflict (replica, "from") do update set "to" = excluded."to", branch = excluded.branch, received_lag = excluded.received_lag, applied_lag = excluded.applied_lag,
                least_lag = excluded.least_lag, pending_bytes = excluded.pending_bytes, received_position = excluded.received_position;
            delete from new_lag; delete from new_lag_span;
            """,
            cancel);
    }

    /// <summary>Value by value without waiting between two, as sets are.</summary>
    private static void CopyIn(NpgsqlConnection connection, LagStretch[] stretches, CancellationToken cancel)
    {
        using var w = new CopyWriter(connection, "new_lag", Columns);
        foreach (var s in stretches)
        {
            cancel.ThrowIfCancellationRequested();
            w.Row();
            w.Write(s.Replica.Value);
            w.Write(s.From);
            w.Write(s.To);
            w.Write(s.Branch);
            w.Write((long)s.ReceivedLag.TotalMilliseconds);
            w.Write((long)s.AppliedLag.TotalMilliseconds);
            w.Write((long)s.AppliedLeastLag.TotalMilliseconds);
            w.Write(s.PendingBytes);
            w.Write(s.ReceivedPosition);
        }

        w.Complete();
    }
}
