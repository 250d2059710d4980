using Npgsql;

namespace Imbrek.Data;

/// <summary>Tables that are filled for the first time: their keys cost four fifths of the time when every row is put into them, and little when they are made afterwards from all rows.</summary>
internal static class EmptyTables
{
    /// <summary>
    /// Takes the keys, indexes and references of empty tables away, as they are, whatever they are; what is then copied into them can be frozen. Not when one of the tables holds a row, or somebody else is at it: nobody is made to wait for a
    /// gain in speed. Until the transaction ends nobody else gets at them.
    /// </summary>
    /// <param name="connection">An open connection with a transaction begun; with a transaction that fails all is as it was.</param>
    /// <param name="tables">The tables.</param>
    /// <param name="cancel">Stops; the transaction must then be given up.</param>
    /// <returns>The statements that bring all of it back, and count what is in the tables; none when nothing was taken.</returns>
    public static async Task<IReadOnlyList<string>> ReadyToFillAsync(NpgsqlConnection connection, string[] tables, CancellationToken cancel)
    {
        if (await AnyRowAsync())
        {
            return [];
        }

        await ExecuteAsync(connection, "savepoint keys", cancel);
        try
        {
            await ExecuteAsync(connection, $"lock table {string.Join(", ", tables)} in access exclusive mode nowait", cancel);
        }
        catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.LockNotAvailable)
        {
            await ExecuteAsync(connection, "rollback to savepoint keys", cancel);
            return [];
        }

        if (await AnyRowAsync())
        {
            await ExecuteAsync(connection, "rollback to savepoint keys", cancel);
            return [];
        }

        // References go first and come back last.
        var (take, keys, references) = (new List<string>(), new List<string>(), new List<string>());
        await using (var read = new NpgsqlCommand(
            """
            select 1 as turn, format('alter table %s drop constraint %I', conrelid::regclass, conname), format('alter table %s add constraint %I %s', conrelid::regclass, conname, pg_get_constraintdef(oid))
              from pg_constraint where contype = 'f' and conrelid = any(@tables::regclass[])
            union all
            select 2, format('alter table %s drop constraint %I', conrelid::regclass, conname), format('alter table %s add constraint %I %s', conrelid::regclass, conname, pg_get_constraintdef(oid))
              from pg_constraint where contype in ('p', 'u') and conrelid = any(@tables::regclass[])
            union all
            select 3, format('drop index %s', indexrelid::regclass), pg_get_indexdef(indexrelid)
              from pg_index where indrelid = any(@tables::regclass[]) and not exists (select 1 from pg_constraint where conindid = indexrelid and contype in ('p', 'u'))
            order by 1
            """,
            connection))
        {
            read.Parameters.AddWithValue("tables", tables);
            await using var reader = await read.ExecuteReaderAsync(cancel);
            while (await reader.ReadAsync(cancel))
            {
                take.Add(reader.GetString(1));
                (reader.GetInt32(0) == 1 ? references : keys).Insert(0, reader.GetString(2));
            }
        }

        if (take.Count == 0)
        {
            return [];
        }

        // Into a table that is emptied by its own transaction rows can be written as settled ones, which no later reader looks up again.
        foreach (var statement in take.Append($"truncate {string.Join(", ", tables)}"))
        {
            await ExecuteAsync(connection, statement, cancel);
        }

        // References are found faster in tables of which it is roughly known what is in them; exactly it is counted by PostgreSQL itself within a minute or two.
        return ["set local maintenance_work_mem = '256MB'; set local default_statistics_target = 10", .. keys, $"analyze {string.Join(", ", tables)}", "set local default_statistics_target to default", .. references];

        async Task<bool> AnyRowAsync()
        {
            await using var look = new NpgsqlCommand("select " + string.Join(" or ", tables.Select(t => $"exists (select 1 from {t})")), connection);
            return (bool)(await look.ExecuteScalarAsync(cancel))!;
        }
    }

    /// <summary>Runs a statement that may take as long as a first import of millions of rows does.</summary>
    public static async Task ExecuteAsync(NpgsqlConnection connection, string sql, CancellationToken cancel)
    {
        await using var command = new NpgsqlCommand(sql, connection) { CommandTimeout = 1800 };
        await command.ExecuteNonQueryAsync(cancel);
    }
}
