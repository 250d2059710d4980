using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using NodaTime;
using Npgsql;
using NpgsqlTypes;

namespace Imbrek.Data;

/// <summary>Sets and copies in bulk: written by binary COPY, read in the evaluator's order. Single changes are merged the same way.</summary>
public static class CatalogueTable
{
    private const string SetColumns = "database, id, kind, branch, parent, from_position, to_position, covers_from, covers_to, finished_at, data_bytes, outside_chain, roll_forward, usable_on, key";
    private const string CopyColumns = "database, set_id, store, available_at, removed_at, locked_until, stored_bytes, state";

    /// <summary>For fewer sets keys are left where they are.</summary>
    private const int FewSets = 10_000;

    /// <summary>Writes sets that are not there yet. Asks for a transaction.</summary>
    /// <param name="connection">An open connection with a transaction begun.</param>
    /// <param name="sets">The sets, by database.</param>
    /// <param name="cancel">Stops writing; the transaction must then be given up.</param>
    /// <returns>Whether there was nothing there, and keys were made of all at once: until the transaction ends nobody can write a set.</returns>
    public static async Task<bool> InsertAsync(NpgsqlConnection connection, IEnumerable<DatabaseCatalogue> sets, CancellationToken cancel)
    {
        // In the order of the keys, so that these are made, and later read, from one end to the other.
        DatabaseCatalogue[] ordered = [.. sets.OrderBy(c => c.Database.Value, StringComparer.Ordinal)];
        var keys = ordered.Sum(c => c.Count) < FewSets ? [] : await EmptyTables.ReadyToFillAsync(connection, ["backup_sets", "backup_copies"], cancel);
        await CopyInAsync(connection, "backup_sets", "backup_copies", ordered, keys.Count > 0, cancel);
        foreach (var key in keys)
        {
            await EmptyTables.ExecuteAsync(connection, key, cancel);
        }

        return keys.Count > 0;
    }

    /// <summary>Writes sets, whether they are there or not: they and their copies are afterwards as given. Asks for a transaction.</summary>
    /// <param name="connection">An open connection with a transaction begun.</param>
    /// <param name="sets">The sets; a set has at most one copy in a store.</param>
    /// <param name="cancel">Stops writing; the transaction must then be given up.</param>
    /// <returns>Whether there is nothing else: no set was there before, and until the transaction ends nobody can write one.</returns>
    public static async Task<bool> UpsertAsync(NpgsqlConnection connection, BackupCatalogue sets, CancellationToken cancel)
    {
        // Where there is nothing yet there is nothing to compare: that costs a third. Whoever else writes the same in this moment is found out by
        // the key, and then all is compared.
        var known = await WithSetsAsync(connection, cancel);
        var fresh = sets.All.ToLookup(c => !known.Contains(c.Database));
        DatabaseCatalogue[] others = [.. fresh[false]];
        await ExecuteAsync("savepoint fresh");
        try
        {
            if (await InsertAsync(connection, fresh[true], cancel))
            {
                return true;
            }
        }
        catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.UniqueViolation)
        {
            await ExecuteAsync("rollback to savepoint fresh");
            others = [.. sets.All];
        }

        if (others.Length > 0)
        {
            await MergeAsync(others);
        }

        await ImbrekDatabase.AnalyzeAsync(connection, cancel);
        return false;

        async Task MergeAsync(DatabaseCatalogue[] changed)
        {
            await ExecuteAsync(
                """
                create temp table if not exists changed_sets (like backup_sets) on commit delete rows;
                create temp table if not exists changed_copies (like backup_copies) on commit delete rows;
                """);
            await CopyInAsync(connection, "changed_sets", "changed_copies", changed, false, cancel);
            await ExecuteAsync(
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
                """);
        }

        Task ExecuteAsync(string sql) => EmptyTables.ExecuteAsync(connection, sql, cancel);
    }

    /// <summary>The databases that have a set. Goes from one to the next in the key, not through a million sets.</summary>
    /// <param name="connection">An open connection.</param>
    /// <param name="cancel">Stops reading.</param>
    public static async Task<IReadOnlySet<Id<Database>>> WithSetsAsync(NpgsqlConnection connection, CancellationToken cancel)
    {
        var found = new HashSet<Id<Database>>();
        await using var command = new NpgsqlCommand(
            """
            with recursive each as (
              (select database from backup_sets order by database limit 1)
              union all
              select (select s.database from backup_sets s where s.database > each.database order by s.database limit 1) from each where each.database is not null)
            select database from each where database is not null
            """,
            connection);
        await using var reader = await command.ExecuteReaderAsync(cancel);
        while (await reader.ReadAsync(cancel))
        {
            found.Add(new(reader.GetString(0)));
        }

        return found;
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
        var where = databases is null ? "" : $"where database = any({CopyReader.Literal(databases)})";
        var copies = new Dictionary<(string, string), List<BackupCopy>>();
        var known = new KnownTexts();
        using (var r = new CopyReader(connection, $"select {CopyColumns} from backup_copies {where}", known))
        {
            while (r.Read())
            {
                cancel.ThrowIfCancellationRequested();
                var key = (r.Same(), r.Text());
                if (!copies.TryGetValue(key, out var list))
                {
                    copies[key] = list = new List<BackupCopy>(2);
                }

                list.Add(new BackupCopy(new(r.Same()), r.Time(), r.MaybeTime(), r.MaybeTime(), r.Int64(), (CopyState)r.Int16()));
            }
        }

        // Few sets have more than one copy: cheaper than to have all of them sorted.
        foreach (var several in copies.Values.Where(c => c.Count > 1))
        {
            several.Sort((a, b) => a.AvailableAt != b.AvailableAt ? a.AvailableAt.CompareTo(b.AvailableAt) : string.CompareOrdinal(a.Store.Value, b.Store.Value));
        }

        var catalogues = new List<DatabaseCatalogue>();
        var current = new List<BackupSet>();
        using (var r = new CopyReader(connection, $"select {SetColumns} from backup_sets {where} order by database, id", known))
        {
            while (r.Read())
            {
                cancel.ThrowIfCancellationRequested();
                var (database, id) = (r.Same(), r.Text());
                if (current.Count > 0 && current[0].Database.Value != database)
                {
                    catalogues.Add(new DatabaseCatalogue(current[0].Database, current));
                    current = [];
                }

                current.Add(new BackupSet
                {
                    Id = new(id),
                    Database = new(database),
                    Kind = (SetKind)r.Int16(),
                    Branch = r.Int32(),
                    Parent = r.MaybeSame() is { } parent ? new Id<BackupSet>(parent) : null,
                    FromPosition = r.MaybeInt64(),
                    ToPosition = r.Int64(),
                    CoversFrom = r.MaybeTime(),
                    CoversTo = r.Time(),
                    FinishedAt = r.Time(),
                    DataBytes = r.Int64(),
                    OutsideChain = r.Flag(),
                    RollForward = r.Flag(),
                    UsableOn = [.. r.Several().Select(h => new Id<Host>(h))],
                    Key = r.MaybeSame(),
                    Copies = copies.GetValueOrDefault((database, id)) ?? [],
                });
            }
        }

        if (current.Count > 0)
        {
            catalogues.Add(new DatabaseCatalogue(current[0].Database, current));
        }

        return new BackupCatalogue(catalogues);
    }

    private static Task CopyInAsync(NpgsqlConnection connection, string setTable, string copyTable, DatabaseCatalogue[] sets, bool settled, CancellationToken cancel) =>
        Task.Run(() => CopyIn(connection, setTable, copyTable, sets, settled, cancel), cancel);

    /// <summary>Value by value without waiting between two, as reading does, and from the columns they lie in.</summary>
    private static void CopyIn(NpgsqlConnection connection, string setTable, string copyTable, DatabaseCatalogue[] sets, bool settled, CancellationToken cancel)
    {
        using (var w = new CopyWriter(connection, setTable, SetColumns, settled))
        {
            foreach (var catalogue in sets)
            {
                cancel.ThrowIfCancellationRequested();
                for (var i = 0; i < catalogue.Count; i++)
                {
                    var s = catalogue.At(i);
                    w.Row();
                    w.Write(catalogue.Database.Value);
                    w.WriteUtf8(s.Utf8Id);
                    w.Write((short)s.Kind);
                    w.Write(s.Branch);
                    w.Write(s.Parent?.Value);
                    w.Write(s.FromPosition);
                    w.Write(s.ToPosition);
                    w.Write(s.CoversFrom);
                    w.Write(s.CoversTo);
                    w.Write(s.FinishedAt);
                    w.Write(s.DataBytes);
                    w.Write(s.OutsideChain);
                    w.Write(s.RollForward);
                    w.Write(s.UsableOn.Count == 0 ? [] : s.UsableOn.Select(h => h.Value).ToArray());
                    w.Write(s.Key);
                }
            }

            w.Complete();
        }

        using (var w = new CopyWriter(connection, copyTable, CopyColumns, settled))
        {
            foreach (var catalogue in sets)
            {
                cancel.ThrowIfCancellationRequested();
                for (var i = 0; i < catalogue.Count; i++)
                {
                    var s = catalogue.At(i);
                    for (var number = 0; number < s.Copies; number++)
                    {
                        var c = s.Copy(number);
                        w.Row();
                        w.Write(catalogue.Database.Value);
                        w.WriteUtf8(s.Utf8Id);
                        w.Write(c.Store.Value);
                        w.Write(c.AvailableAt);
                        w.Write(c.RemovedAt);
                        w.Write(c.LockedUntil);
                        w.Write(c.StoredBytes);
                        w.Write((short)c.State);
                    }
                }
            }

            w.Complete();
        }
    }
}
