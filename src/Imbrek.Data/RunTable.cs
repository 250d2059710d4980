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

    private static Task OrNullAsync(NpgsqlBinaryImporter writer, object? value, CancellationToken cancel) => value switch
    {
        null => writer.WriteNullAsync(cancel),
        NodaTime.Instant i => writer.WriteAsync(i, NpgsqlDbType.TimestampTz, cancel),
        Guid g => writer.WriteAsync(g, cancel),
        _ => writer.WriteAsync((string)value, cancel),
    };
}
