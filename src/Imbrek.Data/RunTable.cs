using Imbrek.Core.Formats;
using Imbrek.Core.Timetable;
using Npgsql;
using NpgsqlTypes;

namespace Imbrek.Data;

/// <summary>Runs of tasks in bulk, by binary COPY; what is known already is brought up to date.</summary>
public static class RunTable
{
    private const string Columns = "id, plan, task, kind, database, due, state, started, ended, attempts, data_bytes, stored_bytes, expected_seconds, set_id, note, oddity, after_id, asked_by";

    /// <summary>Writes runs; those that are there are afterwards as given.</summary>
    /// <exception cref="PostgresException">An occurrence is there as another run: somebody else started it.</exception>
    public static async Task UpsertAsync(NpgsqlConnection connection, IReadOnlyCollection<TaskRun> runs, CancellationToken cancel)
    {
        if (runs.Count == 0)
        {
            return;
        }

        await using (var make = new NpgsqlCommand("create temp table if not exists changed_runs (like runs including defaults including generated) on commit delete rows", connection))
        {
            await make.ExecuteNonQueryAsync(cancel);
        }

        await using (var writer = await connection.BeginBinaryImportAsync($"copy changed_runs ({Columns}) from stdin (format binary)", cancel))
        {
            foreach (var r in runs)
            {
                await writer.StartRowAsync(cancel);
                await writer.WriteAsync(r.Id, cancel);
                await writer.WriteAsync(r.Plan.Value, cancel);
                await writer.WriteAsync(r.Task, cancel);
                await writer.WriteAsync(PlanFile.Name(r.Kind), cancel);
                await writer.WriteAsync(r.Database.Value, cancel);
                await writer.WriteAsync(r.Due, NpgsqlDbType.TimestampTz, cancel);
                await writer.WriteAsync((short)r.State, cancel);
                await OrNullAsync(writer, r.Started, cancel);
                await OrNullAsync(writer, r.Ended, cancel);
                await writer.WriteAsync(r.Attempts, cancel);
                await writer.WriteAsync(r.DataBytes, cancel);
                await writer.WriteAsync(r.StoredBytes, cancel);
                await writer.WriteAsync(r.ExpectedSeconds, cancel);
                await OrNullAsync(writer, r.Set?.Value, cancel);
                await OrNullAsync(writer, r.Note, cancel);
                await OrNullAsync(writer, r.Oddity, cancel);
                await OrNullAsync(writer, r.After, cancel);
                await OrNullAsync(writer, r.AskedBy, cancel);
            }

            await writer.CompleteAsync(cancel);
        }

        await using var merge = new NpgsqlCommand(
            $"""
            insert into runs ({Columns}) select {Columns} from changed_runs
              on conflict (id) do update set state = excluded.state, started = excluded.started, ended = excluded.ended, attempts = excluded.attempts,
                data_bytes = excluded.data_bytes, stored_bytes = excluded.stored_bytes, expected_seconds = excluded.expected_seconds,
                set_id = excluded.set_id, note = excluded.note, oddity = excluded.oddity
            """,
            connection)
        { CommandTimeout = 600 };
        await merge.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>Keeps that runs begin, carried out from now on by the process they name. One that waited goes on from there.</summary>
    /// <param name="connection">Within a transaction.</param>
    /// <param name="runs">The runs, with their steps, fence and owner.</param>
    /// <param name="leaseSeconds">How long the owner has them without saying more.</param>
    /// <param name="cancel">Stops writing.</param>
    /// <exception cref="PostgresException">An occurrence is there as another run: somebody else started it.</exception>
    public static async Task StartAsync(NpgsqlConnection connection, IReadOnlyCollection<RunRow> runs, int leaseSeconds, CancellationToken cancel)
    {
        if (runs.Count == 0)
        {
            return;
        }

        await using var batch = new NpgsqlBatch(connection);
        foreach (var r in runs)
        {
            var command = new NpgsqlBatchCommand(
                $"""
                insert into runs (id, kind, database, plan, task, due, state, started, attempts, data_bytes, stored_bytes, expected_seconds, after_id, asked_by, outside_chain, driver, question, steps, fence, lease_owner, lease_until)
                values ($1, $2, $3, $4, $5, $6, $7, $8, $9, 0, 0, $10, $11, $12, $13, $14, $15, $16, $17, $18, now() + interval '{leaseSeconds} seconds')
                on conflict (id) do update set state = excluded.state, started = excluded.started, attempts = excluded.attempts, expected_seconds = excluded.expected_seconds,
                  outside_chain = excluded.outside_chain, driver = excluded.driver, question = excluded.question, steps = excluded.steps, fence = excluded.fence,
                  lease_owner = excluded.lease_owner, lease_until = excluded.lease_until, note = null
                  where runs.steps is null and runs.state = 0
                """);
            void Add(NpgsqlDbType type, object? value) => command.Parameters.Add(new NpgsqlParameter { NpgsqlDbType = type, Value = value ?? DBNull.Value });
            Add(NpgsqlDbType.Uuid, r.Id);
            Add(NpgsqlDbType.Text, r.Kind);
            Add(NpgsqlDbType.Text, r.Database);
            Add(NpgsqlDbType.Text, r.Plan);
            Add(NpgsqlDbType.Text, r.Task);
            Add(NpgsqlDbType.TimestampTz, r.Due);
            Add(NpgsqlDbType.Smallint, r.State);
            Add(NpgsqlDbType.TimestampTz, r.Started);
            Add(NpgsqlDbType.Integer, r.Attempts);
            Add(NpgsqlDbType.Double, r.ExpectedSeconds);
            Add(NpgsqlDbType.Uuid, r.AfterId);
            Add(NpgsqlDbType.Text, r.AskedBy);
            Add(NpgsqlDbType.Boolean, r.OutsideChain);
            Add(NpgsqlDbType.Text, r.Driver);
            Add(NpgsqlDbType.Jsonb, r.Question);
            Add(NpgsqlDbType.Jsonb, r.Steps);
            Add(NpgsqlDbType.Bigint, r.Fence);
            Add(NpgsqlDbType.Text, r.LeaseOwner);
            batch.BatchCommands.Add(command);
        }

        await batch.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>Keeps how runs stand out among their like.</summary>
    public static async Task SetOdditiesAsync(NpgsqlConnection connection, IReadOnlyCollection<(Guid Run, string Oddity)> odd, CancellationToken cancel)
    {
        if (odd.Count > 0)
        {
            await using var command = new NpgsqlCommand("update runs r set oddity = o.oddity from unnest($1, $2) o (id, oddity) where r.id = o.id", connection);
            command.Parameters.AddWithValue(odd.Select(o => o.Run).ToArray());
            command.Parameters.AddWithValue(odd.Select(o => o.Oddity).ToArray());
            await command.ExecuteNonQueryAsync(cancel);
        }
    }

    private static Task OrNullAsync(NpgsqlBinaryImporter writer, object? value, CancellationToken cancel) => value switch
    {
        null => writer.WriteNullAsync(cancel),
        NodaTime.Instant i => writer.WriteAsync(i, NpgsqlDbType.TimestampTz, cancel),
        Guid g => writer.WriteAsync(g, cancel),
        _ => writer.WriteAsync((string)value, cancel),
    };
}
