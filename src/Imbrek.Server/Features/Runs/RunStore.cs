using Imbrek.Core.Catalogue;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;
using NpgsqlTypes;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// Runs in PostgreSQL. Who takes a run up raises its fence, and every write carries it: of two processes that both believe they have a run, the
/// older writes nothing. What people decide stands elsewhere and is only read here.
/// </summary>
internal sealed class RunStore(NpgsqlDataSource source, LiveEvents live)
{
    /// <summary>How long a run stays with a process that says nothing more.</summary>
    public const int LeaseSeconds = 6;

    private static readonly string Open = $"state < {(int)RunState.Done} and (state <> {(int)RunState.Held} or said > heard)";

    /// <summary>A run taken up.</summary>
    public readonly record struct Claimed(Guid Id, long Fence);

    /// <summary>Takes up runs that nobody has, whose drivers can be called here.</summary>
    public async Task<IReadOnlyList<Claimed>> ClaimAsync(string[] drivers, int most, CancellationToken cancel)
    {
        await using var command = source.CreateCommand(
            $"""
            update runs set lease_owner = $1, lease_until = now() + interval '{LeaseSeconds} seconds', fence = fence + 1
            where id in (
              select id from runs
              where steps is not null and {Open} and driver = any($2) and (lease_until is null or lease_until < now())
              order by due limit $3 for update skip locked)
            returning id, fence
            """);
        command.Parameters.AddWithValue(live.Process);
        command.Parameters.AddWithValue(drivers);
        command.Parameters.AddWithValue(most);
        return await ClaimedAsync(command, cancel);
    }

    /// <summary>Keeps the leases of runs that go on. One that has just ended has none, and is not lost for that: its process has still to tell of it.</summary>
    /// <returns>Those that are still this process's, with how often people have decided something about each.</returns>
    public async Task<Dictionary<Guid, int>> RenewAsync(IReadOnlyDictionary<Guid, long> held, CancellationToken cancel)
    {
        await using var command = source.CreateCommand(
            $"""
            update runs r set lease_until = case when r.state < {(int)RunState.Done} then now() + interval '{LeaseSeconds} seconds' end
            from unnest($1, $2) h (id, fence)
            where r.id = h.id and r.fence = h.fence and (r.lease_owner = $3 or r.state >= {(int)RunState.Done})
            returning r.id, r.said
            """);
        command.Parameters.AddWithValue(held.Keys.ToArray());
        command.Parameters.AddWithValue(held.Values.ToArray());
        command.Parameters.AddWithValue(live.Process);
        var still = new Dictionary<Guid, int>();
        await using var reader = await command.ExecuteReaderAsync(cancel);
        while (await reader.ReadAsync(cancel))
        {
            still[reader.GetGuid(0)] = reader.GetInt32(1);
        }

        return still;
    }

    /// <summary>Gives a run back, so that who waits for it need not wait for the end of its lease.</summary>
    public async Task GiveBackAsync(Claimed run, CancellationToken cancel)
    {
        await using var command = source.CreateCommand("update runs set lease_owner = null, lease_until = null where id = $1 and fence = $2");
        command.Parameters.AddWithValue(run.Id);
        command.Parameters.AddWithValue(run.Fence);
        await command.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>Raises the fence of a run this process has: a driver call that never ended is refused from then on.</summary>
    /// <exception cref="LeaseLostException">Another process has the run.</exception>
    public async Task<Claimed> RaiseAsync(Claimed run, CancellationToken cancel)
    {
        await using var command = source.CreateCommand("update runs set fence = fence + 1 where id = $1 and fence = $2 returning id, fence");
        command.Parameters.AddWithValue(run.Id);
        command.Parameters.AddWithValue(run.Fence);
        return await ClaimedAsync(command, cancel) is [var raised] ? raised : throw new LeaseLostException();
    }

    /// <summary>Reads a run with what people decided about it.</summary>
    public async Task<(RunRow Row, IReadOnlyList<Decision> Decisions)> ReadAsync(Guid id, CancellationToken cancel) =>
        await FindAsync(id, cancel) ?? throw new InvalidOperationException($"there is no run {id}");

    /// <summary>The same for one that may not be there.</summary>
    public async Task<(RunRow Row, IReadOnlyList<Decision> Decisions)?> FindAsync(Guid id, CancellationToken cancel) =>
        (await FindAsync([id], cancel)).TryGetValue(id, out var found) ? found : null;

    /// <summary>Those of some runs that there are, with what people decided about each.</summary>
    public async Task<IReadOnlyDictionary<Guid, (RunRow Row, IReadOnlyList<Decision> Decisions)>> FindAsync(IReadOnlyCollection<Guid> ids, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);

        // Decisions after the rows: what is counted there as said is among them.
        var rows = await data.Runs.AsNoTracking().Where(r => ids.Contains(r.Id)).ToListAsync(cancel);
        var decisions = rows.Count == 0 ? [] : await data.Decisions.AsNoTracking().Where(d => ids.Contains(d.RunId)).OrderBy(d => d.Step).ThenBy(d => d.Round).ToListAsync(cancel);
        var of = decisions.ToLookup(d => d.RunId, d => d.ToDecision());
        return rows.ToDictionary(r => r.Id, r => (r, (IReadOnlyList<Decision>)[.. of[r.Id]]));
    }

    /// <summary>Keeps how a run stands, together with the sets that its steps changed: a set is never there without its run. One that is over is nobody's any more.</summary>
    /// <param name="claimed">The run.</param>
    /// <param name="row">Its row, as it is to be.</param>
    /// <param name="seen">Where it matters that nobody has cancelled it meanwhile: who had, as far as was seen.</param>
    /// <param name="sets">The sets, as they are now.</param>
    /// <param name="news">What the other processes are told with it.</param>
    /// <param name="within">The connection of a transaction; null for one of its own.</param>
    /// <param name="cancel">Stops waiting.</param>
    /// <returns>False when somebody has cancelled it meanwhile, and nothing was kept.</returns>
    /// <exception cref="LeaseLostException">Another process has the run; nothing was kept.</exception>
    public async Task<bool> KeepAsync(Claimed claimed, RunRow row, Seen? seen, IReadOnlyCollection<BackupSet> sets, string? news, NpgsqlConnection? within, CancellationToken cancel)
    {
        await using var own = within is null ? await source.OpenConnectionAsync(cancel) : null;

        // One round trip, and one transaction: the first that does not hold keeps the others from being written.
        await using var batch = new NpgsqlBatch(within ?? own);
        var command = new NpgsqlBatchCommand(
            $"""
            update runs set state = $3, started = $4, ended = $5, attempts = $6, note = $7, steps = $8, result = $9, claim = $10, no_way_back = $11, stored_bytes = $12, heard = $13,
              data_bytes = $16, set_id = $17, expected_seconds = $18,
              lease_owner = case when $3 < {(int)RunState.Done} then lease_owner end, lease_until = case when $3 < {(int)RunState.Done} then lease_until end
            where id = $1 and fence = $2 and (not $14 or cancelled_by is not distinct from $15)
            """);
        Add(NpgsqlDbType.Uuid, claimed.Id);
        Add(NpgsqlDbType.Bigint, claimed.Fence);
        Add(NpgsqlDbType.Smallint, row.State);
        Add(NpgsqlDbType.TimestampTz, row.Started);
        Add(NpgsqlDbType.TimestampTz, row.Ended);
        Add(NpgsqlDbType.Integer, row.Attempts);
        Add(NpgsqlDbType.Text, row.Note);
        Add(NpgsqlDbType.Jsonb, row.Steps);
        Add(NpgsqlDbType.Jsonb, row.Result);
        Add(NpgsqlDbType.Text, row.Claim);
        Add(NpgsqlDbType.Boolean, row.NoWayBack);
        Add(NpgsqlDbType.Bigint, row.StoredBytes);
        Add(NpgsqlDbType.Integer, row.Said);
        Add(NpgsqlDbType.Boolean, seen is not null);
        Add(NpgsqlDbType.Text, seen?.CancelledBy);
        Add(NpgsqlDbType.Bigint, row.DataBytes);
        Add(NpgsqlDbType.Text, row.SetId);
        Add(NpgsqlDbType.Double, row.ExpectedSeconds);
        batch.BatchCommands.Add(command);

        // Whoever cancels changes nothing of what a driver has done: sets are kept in any case, by whoever has the run.
        CatalogueTable.Add(batch, sets, CatalogueTable.Writer.Run(claimed.Id, claimed.Fence));
        if (news is not null)
        {
            var notify = new NpgsqlBatchCommand("select pg_notify($1, $2)");
            notify.Parameters.Add(new NpgsqlParameter { Value = Peers.Name });
            notify.Parameters.Add(new NpgsqlParameter { Value = news });
            batch.BatchCommands.Add(notify);
        }

        await batch.ExecuteNonQueryAsync(cancel);
        if (command.RecordsAffected == 1)
        {
            return true;
        }

        await using var whose = new NpgsqlCommand("select count(*) from runs where id = $1 and fence = $2", within ?? own);
        whose.Parameters.AddWithValue(claimed.Id);
        whose.Parameters.AddWithValue(claimed.Fence);
        return (long)(await whose.ExecuteScalarAsync(cancel))! == 1 ? false : throw new LeaseLostException();

        void Add(NpgsqlDbType type, object? value) => command.Parameters.Add(new NpgsqlParameter { NpgsqlDbType = type, Value = value ?? DBNull.Value });
    }

    /// <summary>Keeps how a run ended: its state, its proof, what was learned and its entry in the ledger, all or nothing.</summary>
    /// <returns>False when somebody has cancelled it meanwhile, and nothing was kept.</returns>
    /// <exception cref="LeaseLostException">Another process has the run; nothing was kept.</exception>
    public async Task<bool> EndAsync(Claimed claimed, RunRow row, Seen seen, Conclusion conclusion, IReadOnlyCollection<BackupSet> sets, string? news, string ledgerKind, string who, Instant now, CancellationToken cancel)
    {
        if (conclusion is { LedgerBody: null, FreesClaim: null, Paces: null or { Count: 0 } })
        {
            return await KeepAsync(claimed, row, seen, sets, news, null, cancel);
        }

        await using var connection = await source.OpenConnectionAsync(cancel);
        await using var transaction = await connection.BeginTransactionAsync(cancel);
        if (!await KeepAsync(claimed, row, seen, sets, news, connection, cancel))
        {
            return false;
        }

        await using var data = await ImbrekDatabase.WithinAsync(source, transaction, cancel);
        if (conclusion.FreesClaim is { } claim)
        {
            await data.Runs.Where(r => r.Claim == claim && r.Id != row.Id && r.State >= (short)RunState.Done).ExecuteUpdateAsync(u => u.SetProperty(r => r.Claim, (string?)null), cancel);
        }

        data.Paces.AddRange(conclusion.Paces ?? []);
        if (conclusion.LedgerBody is { } body)
        {
            var number = await LedgerTable.AppendAsync(data, now, who, ledgerKind, row.Database, body, cancel);
            foreach (var proof in conclusion.Proofs ?? [])
            {
                proof.LedgerNumber = number;
                data.Proofs.Add(proof);
            }
        }

        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        return true;
    }

    private static async Task<IReadOnlyList<Claimed>> ClaimedAsync(NpgsqlCommand command, CancellationToken cancel)
    {
        var claimed = new List<Claimed>();
        await using var reader = await command.ExecuteReaderAsync(cancel);
        while (await reader.ReadAsync(cancel))
        {
            claimed.Add(new(reader.GetGuid(0), reader.GetInt64(1)));
        }

        return claimed;
    }

    /// <summary>Who had cancelled a run, as far as was seen; null for nobody.</summary>
    public sealed record Seen(string? CancelledBy);
}

/// <summary>Another process has taken the run: nothing of it may be touched any more, which is no cancellation that has it undone.</summary>
internal sealed class LeaseLostException() : Exception("another process has taken the run");
