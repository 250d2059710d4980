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

        await Task.Run(() => CopyIn(connection, runs, cancel), cancel);
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

    /// <summary>Value by value without waiting between two, as sets are.</summary>
    private static void CopyIn(NpgsqlConnection connection, IReadOnlyCollection<TaskRun> runs, CancellationToken cancel)
    {
        using var w = new CopyWriter(connection, "changed_runs", Columns);
        foreach (var r in runs)
        {
            cancel.ThrowIfCancellationRequested();
            w.Row();
            w.Write(r.Id);
            w.Write(r.Plan.Value);
            w.Write(r.Task);
            w.Write(PlanFile.Name(r.Kind));
            w.Write(r.Database.Value);
            w.Write(r.Due);
            w.Write((short)r.State);
            w.Write(r.Started);
            w.Write(r.Ended);
            w.Write(r.Attempts);
            w.Write(r.DataBytes);
            w.Write(r.StoredBytes);
            w.Write(r.ExpectedSeconds);
            w.Write(r.Set?.Value);
            w.Write(r.Note);
            w.Write(r.Oddity);
            w.Write(r.After);
            w.Write(r.AskedBy);
        }

        w.Complete();
    }
}
