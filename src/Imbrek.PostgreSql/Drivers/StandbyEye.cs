using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Looks at the standbys of one cluster from both sides. How far one has received is told by positions: where the primary's log stood at which instant is known from looking at the primary, so that
/// it is still known when the primary is gone. Keeps its connections.
/// </summary>
/// <param name="clock">This machine's clock.</param>
internal sealed class StandbyEye(IClock clock) : IAsyncDisposable
{
    /// <summary>A commit is stamped a moment before it is in the log.</summary>
    private static readonly Duration Aside = Duration.FromMilliseconds(5);

    /// <summary>How far back it is worth knowing when the log stood where.</summary>
    public static readonly Duration Known = Duration.FromHours(6);

    /// <summary>Who does not answer within this does not answer.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    private const int LongestReason = 200;

    private const string AskSource =
        """
        select clock_timestamp() at time zone 'utc', pg_current_wal_flush_lsn()::text,
          (select coalesce(json_object_agg(s.slot_name, json_build_object('kept', coalesce(s.wal_status, '') <> 'lost', 'sync', r.sync_state in ('sync', 'quorum') and r.state = 'streaming')), '{}')::text
             from pg_replication_slots s left join pg_stat_replication r on r.pid = s.active_pid),
          (select coalesce(json_object_agg(coalesce(application_name, ''), sync_state in ('sync', 'quorum') and state = 'streaming'), '{}')::text from pg_stat_replication)
        """;

    private const string AskStandby =
        """
        select pg_is_in_recovery(), pg_last_wal_receive_lsn()::text, pg_last_wal_replay_lsn()::text, pg_last_xact_replay_timestamp() at time zone 'utc',
          case when pg_is_in_recovery() then pg_is_wal_replay_paused() end, current_setting('recovery_min_apply_delay'), (select system_identifier from pg_control_system()), case when pg_is_in_recovery() then (select timeline_id from pg_control_checkpoint()) else ('x' || left(pg_walfile_name(pg_current_wal_lsn()), 8))::bit(32)::int end,
          w.status, w.received_tli, w.slot_name, w.sender_host, w.sender_port, current_setting('cluster_name')
        from (select 1) one left join pg_stat_wal_receiver w on true
        """;

    private readonly LogClock stood = new();
    private readonly Dictionary<(string Address, int Port, string User, string SignInTo), NpgsqlConnection> open = [];
    private readonly HashSet<string> waitedFor = [];

    /// <summary>What the primary says.</summary>
    private sealed record Source(IReadOnlyDictionary<string, SlotSeen> Slots, IReadOnlyDictionary<string, bool> Waits);

    /// <summary>A slot of the primary.</summary>
    internal sealed record SlotSeen(bool Kept, bool? Sync);

    /// <summary>What a standby says of itself.</summary>
    /// <param name="InRecovery">Whether it is one.</param>
    /// <param name="Received">Up to where it has received.</param>
    /// <param name="Replayed">Up to where it has replayed.</param>
    /// <param name="LastCommit">When the last commit it replayed was made; null when there was none since it began.</param>
    /// <param name="Paused">Whether somebody paused its replay.</param>
    /// <param name="Delay">By how much it holds back what it received, as its engine writes it.</param>
    /// <param name="SystemId">Which cluster it is a copy of.</param>
    /// <param name="Timeline">The timeline it is on.</param>
    /// <param name="Receiver">What its receiver does; null when none runs.</param>
    /// <param name="Slot">The slot it receives by; null for none.</param>
    /// <param name="SenderHost">Who sends to it.</param>
    /// <param name="SenderPort">And on which port.</param>
    /// <param name="ClusterName">What it calls itself.</param>
    internal sealed record Seen(
        bool InRecovery, Lsn Received, Lsn Replayed, Instant? LastCommit, bool Paused, string Delay, long SystemId, int Timeline, string? Receiver, string? Slot, string? SenderHost, int? SenderPort, string ClusterName);

    /// <summary>When the log stood where, as was known before it looks itself; in order.</summary>
    public void Stood(IEnumerable<(Instant At, Lsn Position)> known)
    {
        foreach (var (at, position) in known)
        {
            stood.Stood(at, position);
        }
    }

    /// <summary>Asks a standby, as anybody can who may sign in to it.</summary>
    /// <exception cref="DriverException">It does not answer, or refuses.</exception>
    public static async Task<Seen> AskAsync(NpgsqlConnection connection, CancellationToken cancel) => (await connection.RowsAsync(AskStandby, Read, cancel))[0];

    /// <summary>Looks at a standby and its primary.</summary>
    /// <returns>What was seen; null while nothing can be said of how far it is.</returns>
    /// <exception cref="DriverException">The standby does not answer, or refuses.</exception>
    public async Task<LagSample?> LookAsync(ClusterSpec cluster, StandbySpec standby, CancellationToken cancel)
    {
        Source? source = null;
        string? silent = null;
        try
        {
            source = await WithAsync(cluster, AskSourceAsync, cancel);
        }
        catch (DriverException e)
        {
            silent = e.Message[..Math.Min(e.Message.Length, LongestReason)];
        }

        var seen = await WithAsync(standby, AskAsync, cancel);
        var at = clock.GetCurrentInstant();

        if (stood.CommittedBefore(seen.Received) is not { } received)
        {
            return null;
        }

        // Where not all is replayed it stands at its last commit exactly, or further where nothing was committed. One that has replayed none since it began stands before all that is known: it can be
        // stopped at the first instant of that.
        received = Instant.Min(received, at);
        var applied = seen.Replayed >= seen.Received ? received : Instant.Min(received, Latest(stood.CommittedBefore(seen.Replayed), seen.LastCommit) ?? stood.First!.Value);
        var waits = source is not null && (seen.Slot is { } slot && source.Slots.TryGetValue(slot, out var s) ? s.Sync == true : source.Waits.GetValueOrDefault(seen.ClusterName));
        var waited = waitedFor.Contains(standby.Replica) && waits;
        if (waits)
        {
            waitedFor.Add(standby.Replica);
        }
        else
        {
            waitedFor.Remove(standby.Replica);
        }

        var unusable = !seen.InRecovery ? $"it takes writes of its own, on timeline {seen.Timeline}"
            : seen.Slot is { } by && source is not null && source.Slots.TryGetValue(by, out var of) && !of.Kept ? "its source no longer keeps the log it needs: its slot was given up" : null;
        return new LagSample(
            new Id<Replica>(standby.Replica),
            seen.Timeline,
            at,
            received,
            applied,
            Math.Max(0, seen.Received.Value - seen.Replayed.Value),
            seen.Received.Value,
            waited,
            unusable ?? (silent is not null ? $"its primary at {silent}" : seen.Receiver is null ? "its receiver does not run" : seen.Receiver != "streaming" ? $"its receiver is {seen.Receiver}" : seen.Paused ? "its replay is paused" : null),
            unusable is not null);
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        foreach (var connection in open.Values)
        {
            await connection.DisposeAsync();
        }

        open.Clear();
    }

    private static Instant? Latest(Instant? one, Instant? other) => one is { } a && other is { } b ? Instant.Max(a, b) : one ?? other;

    private async Task<Source> AskSourceAsync(NpgsqlConnection connection, CancellationToken cancel)
    {
        var (at, position, slots, waits) = (await connection.RowsAsync(AskSource, r => (Connections.AtUtc(r.GetDateTime(0)), Lsn.Parse(r.GetString(1)), r.GetString(2), r.GetString(3)), cancel))[0];
        stood.Stood(at - Aside, position);
        return new(Json<Dictionary<string, SlotSeen>>(slots), Json<Dictionary<string, bool?>>(waits).ToDictionary(w => w.Key, w => w.Value == true));
    }

    private static T Json<T>(string text) => System.Text.Json.JsonSerializer.Deserialize<T>(text, System.Text.Json.JsonSerializerOptions.Web)!;

    private static Seen Read(NpgsqlDataReader r)
    {
        var (received, replayed) = (r.IsDBNull(1) ? default : Lsn.Parse(r.GetString(1)), r.IsDBNull(2) ? default : Lsn.Parse(r.GetString(2)));
        return new(
            r.GetBoolean(0),
            // What came from elsewhere than its receiver is received as well; a receiver that has just begun says less than was replayed.
            received > replayed ? received : replayed,
            replayed,
            r.IsDBNull(3) ? null : Connections.AtUtc(r.GetDateTime(3)),
            !r.IsDBNull(4) && r.GetBoolean(4),
            r.GetString(5),
            r.GetInt64(6),
            r.IsDBNull(9) ? r.GetInt32(7) : Math.Max(r.GetInt32(7), r.GetInt32(9)),
            r.IsDBNull(8) ? null : r.GetString(8),
            r.IsDBNull(10) ? null : r.GetString(10),
            r.IsDBNull(11) ? null : r.GetString(11),
            r.IsDBNull(12) ? null : r.GetInt32(12),
            r.GetString(13));
    }

    /// <summary>Asks over the connection that is open, or a new one: what failed once is tried over a new one at the next look.</summary>
    private async Task<T> WithAsync<T>(ISignIn to, Func<NpgsqlConnection, CancellationToken, Task<T>> ask, CancellationToken cancel)
    {
        var engine = (to.Address, to.Port, to.User, to.SignInTo);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(Patience);
        try
        {
            if (!open.TryGetValue(engine, out var connection))
            {
                open[engine] = connection = await Connections.OpenAsync(to, limit.Token);
            }

            return await ask(connection, limit.Token);
        }
        catch (Exception e) when (!cancel.IsCancellationRequested)
        {
            if (open.Remove(engine, out var broken))
            {
                await broken.DisposeAsync();
            }

            throw Connections.Told(to, e, cancel);
        }
    }
}
