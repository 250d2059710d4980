using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.State;
using Npgsql;

namespace Imbrek.Server.Features.Replicas;

/// <summary>What is noted of replicas beside their lag: what watchers say of them, who holds one, and which run brings it into being, or back.</summary>
internal sealed class ReplicaBook(FleetState fleet, NpgsqlDataSource source, Peers peers)
{
    /// <summary>Notes what watchers say of replicas, within a transaction.</summary>
    public static async Task SeenAsync(NpgsqlConnection connection, NpgsqlTransaction transaction, IReadOnlyCollection<LagSample> samples, CancellationToken cancel)
    {
        if (samples.Count == 0)
        {
            return;
        }

        await using var command = new NpgsqlCommand(
            """
            insert into replica_notes (replica, held_up_by, unusable, since, watched_from)
              select replica, held_up_by, case when unusable then coalesce(held_up_by, 'its watcher says that it cannot be used') end, case when held_up_by is not null or unusable then at end, watched_from
              from unnest(@replicas, @heldUpBy, @unusable, @at, @watchedFrom) s (replica, held_up_by, unusable, at, watched_from)
            on conflict (replica) do update set held_up_by = excluded.held_up_by, unusable = excluded.unusable, since = excluded.since, watched_from = excluded.watched_from
            """,
            connection,
            transaction);
        command.Parameters.AddWithValue("replicas", samples.Select(s => s.Replica.Value).ToArray());
        command.Parameters.AddWithValue("heldUpBy", samples.Select(s => s.HeldUpBy).ToArray());
        command.Parameters.AddWithValue("unusable", samples.Select(s => s.Unusable).ToArray());
        command.Parameters.AddWithValue("at", samples.Select(s => s.At).ToArray());
        command.Parameters.AddWithValue("watchedFrom", samples.Select(s => s.WatchedFrom?.Value).ToArray());
        await command.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>Somebody holds a replica, or nobody does any more.</summary>
    public Task HoldAsync(Id<Replica> replica, string? who, CancellationToken cancel) => PutAsync(replica, "held_by", who, cancel);

    /// <summary>A run brings a replica into being, or has ended.</summary>
    public Task SeedAsync(Id<Replica> replica, Guid? run, CancellationToken cancel) => PutAsync(replica, "seeding_run", run, cancel);

    /// <summary>What its watcher said of a replica that has been mended is over.</summary>
    public Task MendedAsync(Id<Replica> replica, CancellationToken cancel) => ExecuteAsync("update replica_notes set unusable = null, held_up_by = null, since = null where replica = @replica", replica, null, cancel);

    /// <summary>Forgets all that was seen of a replica that never came into being.</summary>
    public Task ForgetSeenAsync(Id<Replica> replica, CancellationToken cancel) => ExecuteAsync("delete from replica_lag where replica = @replica; delete from replica_notes where replica = @replica", replica, null, cancel);

    /// <summary>Forgets what is known beside its lag of a replica that is no longer there.</summary>
    public Task ForgetAsync(Id<Replica> replica, CancellationToken cancel) => ExecuteAsync("delete from replica_notes where replica = @replica", replica, null, cancel);

    private Task PutAsync(Id<Replica> replica, string column, object? value, CancellationToken cancel) => ExecuteAsync(
        $"insert into replica_notes (replica, {column}) values (@replica, @value) on conflict (replica) do update set {column} = excluded.{column}",
        replica,
        new NpgsqlParameter("value", column == "held_by" ? NpgsqlTypes.NpgsqlDbType.Text : NpgsqlTypes.NpgsqlDbType.Uuid) { Value = value ?? DBNull.Value },
        cancel);

    private async Task ExecuteAsync(string text, Id<Replica> replica, NpgsqlParameter? value, CancellationToken cancel)
    {
        await using (var command = source.CreateCommand(text))
        {
            command.Parameters.AddWithValue("replica", replica.Value);
            if (value is not null)
            {
                command.Parameters.Add(value);
            }

            await command.ExecuteNonQueryAsync(cancel);
        }

        await using var context = ImbrekDatabase.Context(source);
        await fleet.LoadNotesAsync(context, cancel);
        await peers.TellAsync([], [], cancel, Peers.Shared.Lag);
    }
}
