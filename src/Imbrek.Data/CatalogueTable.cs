using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using NodaTime;
using Npgsql;
using NpgsqlTypes;

namespace Imbrek.Data;

/// <summary>Sets and copies in bulk: written by binary COPY, read in the evaluator's order. Single changes are merged the same way.</summary>
public static class CatalogueTable
{
    private const string SetColumns = "database, id, kind, branch, parent, from_position, to_position, covers_from, covers_to, finished_at, data_bytes, outside_chain, roll_forward, usable_on, key";
    private const string CopyColumns = "database, set_id, store, available_at, removed_at, locked_until, stored_bytes, state";

    /// <summary>A first import may bring millions of sets.</summary>
    private const int MergeSeconds = 1800;

    /// <summary>Writes sets that are not there yet.</summary>
    public static async Task InsertAsync(NpgsqlConnection connection, IReadOnlyCollection<BackupSet> sets, CancellationToken cancel)
    {
        await CopyInAsync(connection, "backup_sets", "backup_copies", sets, cancel);
    }

    /// <summary>Writes sets, whether they are there or not: they and their copies are afterwards as given.</summary>
    public static async Task UpsertAsync(NpgsqlConnection connection, IReadOnlyCollection<BackupSet> sets, CancellationToken cancel)
    {
        if (sets.Count == 0)
        {
            return;
        }

        await using (var make = new NpgsqlCommand(
            """
            create temp table if not exists changed_sets (like backup_sets) on commit delete rows;
            create temp table if not exists changed_copies (like backup_copies) on commit delete rows;
            """,
            connection))
        {
            await make.ExecuteNonQueryAsync(cancel);
        }

        await CopyInAsync(connection, "changed_sets", "changed_copies", sets, cancel);
        await using var merge = new NpgsqlCommand(
            $"""
            insert into backup_sets ({SetColumns}) select {SetColumns} from changed_sets
              on conflict (database, id) do update set kind = excluded.kind, branch = excluded.branch, parent = excluded.parent,
                from_position = excluded.from_position, to_position = excluded.to_position, covers_from = excluded.covers_from,
                covers_to = excluded.covers_to, finished_at = excluded.finished_at, data_bytes = excluded.data_bytes,
                outside_chain = excluded.outside_chain, roll_forward = excluded.roll_forward, usable_on = excluded.usable_on, key = excluded.key;
            delete from backup_copies c using changed_sets s where c.database = s.database and c.set_id = s.id
              and not exists (select 1 from changed_copies x where x.database = c.database and x.set_id = c.set_id and x.store = c.store);
            insert into backup_copies ({CopyColumns}) select {CopyColumns} from changed_copies
              on conflict (database, set_id, store) do update set available_at = excluded.available_at, removed_at = excluded.removed_at,
                locked_until = excluded.locked_until, stored_bytes = excluded.stored_bytes, state = excluded.state;
            """,
            connection)
        { CommandTimeout = MergeSeconds };
        await merge.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>Who writes sets, and the fence that must still be theirs: with another one nothing is written.</summary>
    public readonly record struct Writer
    {
        private Writer(string held, NpgsqlDbType type, object who, long fence) => (Held, Type, Who, Fence) = (held, type, who, fence);

        internal string Held { get; }

        internal NpgsqlDbType Type { get; }

        internal object Who { get; }

        internal long Fence { get; }

        /// <summary>A run whose work they are.</summary>
        public static Writer Run(Guid run, long fence) => new("exists (select 1 from runs where id = $1 and fence = $2)", NpgsqlDbType.Uuid, run, fence);

        /// <summary>The process that receives the log of a database.</summary>
        public static Writer Receiver(string database, long fence) => new("exists (select 1 from clusters where database = $1 and fence = $2)", NpgsqlDbType.Text, database, fence);
    }

    /// <summary>Adds to a batch what brings a few sets up to date, as long as who writes them may; copies that a set no longer lists stay.</summary>
    /// <param name="batch">The batch.</param>
    /// <param name="sets">The sets.</param>
    /// <param name="writer">Who writes them.</param>
    public static void Add(NpgsqlBatch batch, IReadOnlyCollection<BackupSet> sets, Writer writer)
    {
        foreach (var s in sets)
        {
            var set = new NpgsqlBatchCommand(
                $"""
                insert into backup_sets ({SetColumns}) select $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17 where {writer.Held}
                  on conflict (database, id) do update set to_position = excluded.to_position, covers_to = excluded.covers_to, finished_at = excluded.finished_at, data_bytes = excluded.data_bytes
                """);
            Put(set, writer.Type, writer.Who);
            Put(set, NpgsqlDbType.Bigint, writer.Fence);
            Put(set, NpgsqlDbType.Text, s.Database.Value);
            Put(set, NpgsqlDbType.Text, s.Id.Value);
            Put(set, NpgsqlDbType.Smallint, (short)s.Kind);
            Put(set, NpgsqlDbType.Integer, s.Branch);
            Put(set, NpgsqlDbType.Text, s.Parent?.Value);
            Put(set, NpgsqlDbType.Bigint, s.FromPosition);
            Put(set, NpgsqlDbType.Bigint, s.ToPosition);
            Put(set, NpgsqlDbType.TimestampTz, s.CoversFrom);
            Put(set, NpgsqlDbType.TimestampTz, s.CoversTo);
            Put(set, NpgsqlDbType.TimestampTz, s.FinishedAt);
            Put(set, NpgsqlDbType.Bigint, s.DataBytes);
            Put(set, NpgsqlDbType.Boolean, s.OutsideChain);
            Put(set, NpgsqlDbType.Boolean, s.RollForward);
            Put(set, NpgsqlDbType.Array | NpgsqlDbType.Text, s.UsableOn?.Select(h => h.Value).ToArray());
            Put(set, NpgsqlDbType.Text, s.Key);
            batch.BatchCommands.Add(set);
            foreach (var c in s.Copies)
            {
                var copy = new NpgsqlBatchCommand(
                    $"""
                    insert into backup_copies ({CopyColumns}) select $3, $4, $5, $6, $7, $8, $9, $10 where {writer.Held}
                      on conflict (database, set_id, store) do update set available_at = excluded.available_at, removed_at = excluded.removed_at,
                        locked_until = excluded.locked_until, stored_bytes = excluded.stored_bytes, state = excluded.state
                    """);
                Put(copy, writer.Type, writer.Who);
                Put(copy, NpgsqlDbType.Bigint, writer.Fence);
                Put(copy, NpgsqlDbType.Text, s.Database.Value);
                Put(copy, NpgsqlDbType.Text, s.Id.Value);
                Put(copy, NpgsqlDbType.Text, c.Store.Value);
                Put(copy, NpgsqlDbType.TimestampTz, c.AvailableAt);
                Put(copy, NpgsqlDbType.TimestampTz, c.RemovedAt);
                Put(copy, NpgsqlDbType.TimestampTz, c.LockedUntil);
                Put(copy, NpgsqlDbType.Bigint, c.StoredBytes);
                Put(copy, NpgsqlDbType.Smallint, (short)c.State);
                batch.BatchCommands.Add(copy);
            }
        }

        static void Put(NpgsqlBatchCommand command, NpgsqlDbType type, object? value) =>
            command.Parameters.Add(new NpgsqlParameter { NpgsqlDbType = type, Value = value ?? DBNull.Value });
    }

    /// <summary>Reads the sets of some databases, or of all.</summary>
    /// <param name="connection">An open connection.</param>
    /// <param name="databases">Whose sets; null for all.</param>
    /// <param name="cancel">Stops reading.</param>
    public static Task<BackupCatalogue> ReadAsync(NpgsqlConnection connection, IReadOnlyCollection<string>? databases, CancellationToken cancel) =>
        Task.Run(() => Read(connection, databases, cancel), cancel);

    /// <summary>Row by row without waiting between two: of a million rows every wait would be felt.</summary>
    private static BackupCatalogue Read(NpgsqlConnection connection, IReadOnlyCollection<string>? databases, CancellationToken cancel)
    {
        var where = databases is null ? "" : "where database = any(@databases)";
        var copies = new Dictionary<(string, string), List<BackupCopy>>();
        var known = new Dictionary<string, string>();
        using (var command = Command($"select {CopyColumns} from backup_copies {where}"))
        using (var r = command.ExecuteReader())
        {
            while (r.Read())
            {
                cancel.ThrowIfCancellationRequested();
                var key = (Same(r.GetString(0)), r.GetString(1));
                if (!copies.TryGetValue(key, out var list))
                {
                    copies[key] = list = new List<BackupCopy>(2);
                }

                list.Add(new BackupCopy(
                    new(Same(r.GetString(2))),
                    r.GetFieldValue<Instant>(3),
                    r.IsDBNull(4) ? null : r.GetFieldValue<Instant>(4),
                    r.IsDBNull(5) ? null : r.GetFieldValue<Instant>(5),
                    r.GetInt64(6),
                    (CopyState)r.GetInt16(7)));
            }
        }

        // Few sets have more than one copy: cheaper than to have all of them sorted.
        foreach (var several in copies.Values.Where(c => c.Count > 1))
        {
            several.Sort((a, b) => a.AvailableAt != b.AvailableAt ? a.AvailableAt.CompareTo(b.AvailableAt) : string.CompareOrdinal(a.Store.Value, b.Store.Value));
        }

        var catalogues = new List<DatabaseCatalogue>();
        var current = new List<BackupSet>();
        using (var command = Command($"select {SetColumns} from backup_sets {where} order by database, covers_to, id"))
        using (var r = command.ExecuteReader())
        {
            while (r.Read())
            {
                cancel.ThrowIfCancellationRequested();
                var database = Same(r.GetString(0));
                var id = r.GetString(1);
                if (current.Count > 0 && current[0].Database.Value != database)
                {
                    catalogues.Add(new DatabaseCatalogue(current[0].Database, current));
                    current = [];
                }

                current.Add(new BackupSet
                {
                    Id = new(id),
                    Database = new(database),
                    Kind = (SetKind)r.GetInt16(2),
                    Branch = r.GetInt32(3),
                    Parent = r.IsDBNull(4) ? null : new Id<BackupSet>(r.GetString(4)),
                    FromPosition = r.IsDBNull(5) ? null : r.GetInt64(5),
                    ToPosition = r.GetInt64(6),
                    CoversFrom = r.IsDBNull(7) ? null : r.GetFieldValue<Instant>(7),
                    CoversTo = r.GetFieldValue<Instant>(8),
                    FinishedAt = r.GetFieldValue<Instant>(9),
                    DataBytes = r.GetInt64(10),
                    OutsideChain = r.GetBoolean(11),
                    RollForward = r.GetBoolean(12),
                    UsableOn = r.IsDBNull(13) ? [] : [.. r.GetFieldValue<string[]>(13).Select(h => new Id<Host>(h))],
                    Key = r.IsDBNull(14) ? null : Same(r.GetString(14)),
                    Copies = copies.GetValueOrDefault((database, id)) ?? [],
                });
            }
        }

        if (current.Count > 0)
        {
            catalogues.Add(new DatabaseCatalogue(current[0].Database, current));
        }

        return new BackupCatalogue(catalogues);

        NpgsqlCommand Command(string sql)
        {
            var command = new NpgsqlCommand(sql, connection);
            if (databases is not null)
            {
                command.Parameters.AddWithValue("databases", databases.ToArray());
            }

            return command;
        }

        string Same(string text)
        {
            if (!known.TryGetValue(text, out var first))
            {
                known[text] = first = text;
            }

            return first;
        }
    }

    private static async Task CopyInAsync(NpgsqlConnection connection, string setTable, string copyTable, IReadOnlyCollection<BackupSet> sets, CancellationToken cancel)
    {
        await using (var w = await connection.BeginBinaryImportAsync($"copy {setTable} ({SetColumns}) from stdin (format binary)", cancel))
        {
            foreach (var s in sets)
            {
                await w.StartRowAsync(cancel);
                await w.WriteAsync(s.Database.Value, NpgsqlDbType.Text, cancel);
                await w.WriteAsync(s.Id.Value, NpgsqlDbType.Text, cancel);
                await w.WriteAsync((short)s.Kind, NpgsqlDbType.Smallint, cancel);
                await w.WriteAsync(s.Branch, NpgsqlDbType.Integer, cancel);
                await Maybe(w, s.Parent?.Value, NpgsqlDbType.Text);
                await MaybeValue(w, s.FromPosition, NpgsqlDbType.Bigint);
                await w.WriteAsync(s.ToPosition, NpgsqlDbType.Bigint, cancel);
                await MaybeValue(w, s.CoversFrom, NpgsqlDbType.TimestampTz);
                await w.WriteAsync(s.CoversTo, NpgsqlDbType.TimestampTz, cancel);
                await w.WriteAsync(s.FinishedAt, NpgsqlDbType.TimestampTz, cancel);
                await w.WriteAsync(s.DataBytes, NpgsqlDbType.Bigint, cancel);
                await w.WriteAsync(s.OutsideChain, NpgsqlDbType.Boolean, cancel);
                await w.WriteAsync(s.RollForward, NpgsqlDbType.Boolean, cancel);
                await Maybe(w, s.UsableOn.Count == 0 ? null : s.UsableOn.Select(h => h.Value).ToArray(), NpgsqlDbType.Array | NpgsqlDbType.Text);
                await Maybe(w, s.Key, NpgsqlDbType.Text);
            }

            await w.CompleteAsync(cancel);
        }

        await using (var w = await connection.BeginBinaryImportAsync($"copy {copyTable} ({CopyColumns}) from stdin (format binary)", cancel))
        {
            foreach (var s in sets)
            {
                foreach (var c in s.Copies)
                {
                    await w.StartRowAsync(cancel);
                    await w.WriteAsync(s.Database.Value, NpgsqlDbType.Text, cancel);
                    await w.WriteAsync(s.Id.Value, NpgsqlDbType.Text, cancel);
                    await w.WriteAsync(c.Store.Value, NpgsqlDbType.Text, cancel);
                    await w.WriteAsync(c.AvailableAt, NpgsqlDbType.TimestampTz, cancel);
                    await MaybeValue(w, c.RemovedAt, NpgsqlDbType.TimestampTz);
                    await MaybeValue(w, c.LockedUntil, NpgsqlDbType.TimestampTz);
                    await w.WriteAsync(c.StoredBytes, NpgsqlDbType.Bigint, cancel);
                    await w.WriteAsync((short)c.State, NpgsqlDbType.Smallint, cancel);
                }
            }

            await w.CompleteAsync(cancel);
        }

        Task Maybe<T>(NpgsqlBinaryImporter w, T? value, NpgsqlDbType type)
            where T : class => value is null ? w.WriteNullAsync(cancel) : w.WriteAsync(value, type, cancel);

        Task MaybeValue<T>(NpgsqlBinaryImporter w, T? value, NpgsqlDbType type)
            where T : struct => value is { } v ? w.WriteAsync(v, type, cancel) : w.WriteNullAsync(cancel);
    }
}
