using System.Diagnostics;
using System.Globalization;
using System.Security.Cryptography;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;
using Npgsql.Replication;
using NpgsqlTypes;

namespace Imbrek.PostgreSql.Log;

/// <summary>
/// Receives the log of one cluster into a store as it is written, through a slot of ours, so that the source keeps what has not come yet. Every record is read as it comes: its checksum,
/// and the commits in it. What was received up to is told only after it is safe on disk. Quiet time counts too: the source is asked for its clock and then for its position; once
/// that has come, everything committed up to then has.
/// </summary>
internal sealed class LogReceiver(ClusterSpec cluster, FolderStore store, ILogSink sink, IClock clock)
{
    /// <summary>How often what was received is made safe and told.</summary>
    private static readonly TimeSpan Flush = TimeSpan.FromMilliseconds(200);

    /// <summary>How often the source is looked at: what is shown is no older than this.</summary>
    public static readonly Duration Watch = Duration.FromSeconds(1);

    private const int TicksOfWatch = 5;
    private const double SlotSeconds = 10;

    /// <summary>Whether the source has sent something of the stream that is received.</summary>
    private volatile bool streams;

    private readonly Lock gate = new();
    private readonly Queue<(Lsn Position, Instant At)> marks = new();
    private Segments segments;
    private FileStream? file;
    private LogReader? reader;
    private int timeline;
    private Lsn written;
    private Lsn flushed;
    private Lsn told;
    private Lsn source;
    private long kept;
    private Instant? covers;
    private Instant? commitWritten;
    private Growing? growing;
    private readonly List<(string Partial, string Sum)> closing = [];
    private readonly IncrementalHash sum = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);

    /// <summary>The set that grows.</summary>
    private sealed record Growing(Lsn From, Instant CoversFrom, long Since);

    /// <summary>Receives until it is told to stop, or something ends it.</summary>
    /// <exception cref="DriverException">The cluster or the store cannot be reached, or refuses.</exception>
    /// <exception cref="LogBrokenException">What came is not a log.</exception>
    /// <exception cref="DutyLostException">Another process receives this log.</exception>
    public async Task RunAsync(CancellationToken cancel)
    {
        try
        {
            store.MustBeHere();
            await using var watch = await Connections.OpenAsync(cluster, cancel);
            segments = await PostgreSqlBackupDriver.SegmentsAsync(watch, cancel);
            var restart = await SlotAsync(watch, cancel);
            await LookAsync(watch, cancel);
            await using var log = await Connections.OpenForLogAsync(cluster, Application, cancel);
            var identity = await log.IdentifySystem(cancel);
            if (await store.BeginLogAsync(cluster.Database, identity.SystemId, segments, cancel) is var lies && lies != identity.SystemId)
            {
                throw new DriverException(DriverProblem.Refused, $"another cluster answers at {cluster.Address}:{cluster.Port}: it calls itself {identity.SystemId}, the log in store {store.Name} is of {lies}");
            }

            timeline = (int)identity.Timeline;
            var newest = sink.Newest;
            if (newest is not null && newest.Branch < timeline)
            {
                newest = await ChangeAsync(watch, newest, cancel);
            }

            // Where the slot stands no further back than what is known, it goes on without a gap.
            var from = newest is not null && newest.Branch == timeline && segments.StartOf(restart) <= segments.StartOf(new(newest.ToPosition)) ? new Lsn(newest.ToPosition) : segments.StartOf(restart);
            await StreamAsync(watch, log, from, newest is not null && from.Value == newest.ToPosition ? newest.CoversTo : null, cancel);
        }
        catch (Exception e) when (e is not (DriverException or LogBrokenException or DutyLostException) && !cancel.IsCancellationRequested)
        {
            var told = e is IOException or UnauthorizedAccessException && e is not NpgsqlException ? Outside(e) : Connections.Told(cluster, e, cancel);
            if (ReferenceEquals(told, e))
            {
                // Nothing drivers have a word for: where it came from is all there is to go by.
                throw;
            }

            throw told;
        }
        finally
        {
            file?.Dispose();
            file = null;
            sum.Dispose();
        }
    }

    /// <summary>Looks how much log the source keeps for us while nothing is received, and gives our slot up when that is more than it may: the source is never filled by it.</summary>
    /// <returns>Bytes kept; null when there is no slot.</returns>
    /// <exception cref="DriverException">The cluster cannot be reached.</exception>
    public static async Task<(long? Kept, bool GivenUp)> GuardAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        await using var connection = await Connections.OpenAsync(cluster, cancel);
        var found = await connection.RowsAsync(
            $"select coalesce(pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn), 0)::bigint from pg_replication_slots where slot_name = '{cluster.Slot}'", r => r.GetInt64(0), cancel);
        if (found.Count == 0)
        {
            return (null, false);
        }

        if (found[0] <= cluster.LogRoomBytes)
        {
            return (found[0], false);
        }

        await RemoveSlotAsync(connection, cluster.Slot, cancel);
        return (found[0], true);
    }

    /// <summary>Removes our slot, whoever holds it.</summary>
    public static async Task RemoveSlotAsync(NpgsqlConnection connection, string slot, CancellationToken cancel)
    {
        await FreeAsync(connection, slot, cancel);
        await connection.RowsAsync($"select pg_drop_replication_slot(slot_name)::text from pg_replication_slots where slot_name = '{slot}'", _ => 0, cancel);
    }

    private static string Application => $"imbrek-log {Environment.ProcessId}";

    /// <summary>Ends whoever holds a slot of ours: a process that was thought dead, and must not go on once another has its duty.</summary>
    public static async Task FreeAsync(NpgsqlConnection connection, string slot, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(Flush);
        var began = Stopwatch.GetTimestamp();
        while ((await connection.RowsAsync($"select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = '{slot}' and active", r => r.GetBoolean(0), cancel)).Count > 0)
        {
            if (Stopwatch.GetElapsedTime(began).TotalSeconds > SlotSeconds)
            {
                throw new DriverException(DriverProblem.Unreachable, $"slot {slot} is held by somebody who does not let go");
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }

    /// <summary>Finds our slot, or makes it; gives the position from which the source keeps log.</summary>
    private async Task<Lsn> SlotAsync(NpgsqlConnection watch, CancellationToken cancel)
    {
        if (await watch.AskAsync<bool>("select pg_is_in_recovery()", cancel))
        {
            throw new DriverException(DriverProblem.Refused, $"{cluster.Address}:{cluster.Port} is a replica: add the cluster it follows");
        }

        await FreeAsync(watch, cluster.Slot, cancel);
        return await MakeSlotAsync(watch, cluster.Slot, cancel);
    }

    /// <summary>Finds a slot, or makes it; also at a standby, so that nothing is thrown away when that takes over.</summary>
    /// <returns>The position from which log is kept.</returns>
    public static async Task<Lsn> MakeSlotAsync(NpgsqlConnection watch, string slot, CancellationToken cancel)
    {
        var found = await watch.RowsAsync(
            $"select coalesce(restart_lsn::text, ''), coalesce(wal_status, '') from pg_replication_slots where slot_name = '{slot}'", r => (Restart: r.GetString(0), Status: r.GetString(1)), cancel);
        if (found.Count == 1 && found[0] is { Restart.Length: > 0, Status: not "lost" })
        {
            return Lsn.Parse(found[0].Restart);
        }

        if (found.Count == 1)
        {
            // The source has thrown away what it kept for us: from here on there is a gap, which the next full closes.
            await watch.AskAsync<string>($"select pg_drop_replication_slot('{slot}')::text", cancel);
        }

        await using var make = new NpgsqlCommand("select lsn::text from pg_create_physical_replication_slot($1, true)", watch);
        make.Parameters.AddWithValue(slot);
        return Lsn.Parse((string)(await make.ExecuteScalarAsync(cancel))!);
    }

    /// <summary>The cluster goes on in a new timeline: what is left of the old one is received, and where it was left becomes known.</summary>
    private async Task<BackupSet?> ChangeAsync(NpgsqlConnection watch, BackupSet newest, CancellationToken cancel)
    {
        var text = await TimelineHistory.AskAsync(cluster, timeline, cancel);
        await FolderStore.WriteWholeAsync(Path.Combine(store.Log(cluster.Database), Segments.HistoryOf(timeline)), System.Text.Encoding.UTF8.GetBytes(text), cancel);
        var forks = TimelineHistory.Read(text);
        var now = await watch.NowAsync(cancel);
        var began = Instants.Floor(Connections.AtUtc(await watch.AskAsync<DateTime>("select pg_postmaster_start_time() at time zone 'utc'", cancel)));
        var next = timeline;
        foreach (var ((left, at), goes) in forks.Zip(forks.Skip(1).Select(f => f.Timeline).Append(next)).Where(f => f.Second > newest.Branch))
        {
            if (left == newest.Branch && at.Value > newest.ToPosition)
            {
                timeline = left;
                await using var log = await Connections.OpenForLogAsync(cluster, Application, cancel);
                try
                {
                    await StreamAsync(watch, log, new(newest.ToPosition), newest.CoversTo, cancel, at);
                }
                catch (PostgresException e) when (e.MessageText.EndsWith("has already been removed", StringComparison.Ordinal))
                {
                    // What was left of it is nowhere any more: there is a gap, which the next full closes.
                }

                newest = sink.Newest ?? newest;
            }

            var (forkAt, startsAt) = (newest.CoversTo, Instant.Max(now, newest.CoversTo));
            if (left != newest.Branch || at.Value < newest.ToPosition)
            {
                // It was put back: what was received behind the fork is not in it, and nobody wrote to it before its engine began.
                (forkAt, startsAt) = (HeldAt(left, at, cancel) ?? newest.CoversTo, Instant.Max(began, newest.CoversTo));
            }

            await sink.BranchAsync(goes, left, at, forkAt, startsAt, cancel);
            timeline = goes;
            newest = newest with { Branch = goes, ToPosition = at.Value, CoversTo = Instant.Max(newest.CoversTo, forkAt) };
        }

        timeline = next;
        covers = null;
        return newest;
    }

    /// <summary>Up to when a history holds all that was committed, at a position, as the log received of it says; null where none was, or it cannot be read.</summary>
    private Instant? HeldAt(int branch, Lsn position, CancellationToken cancel)
    {
        if (sink.LogBehind(branch, position) is not [var first, ..] || first.FromPosition > position.Value)
        {
            return null;
        }

        Commit? next = null;
        try
        {
            LogWalk.Over(store, cluster.Database, [first], c => next ??= c.Position >= position ? c : null, cancel);
        }
        catch (Exception e) when (e is LogBrokenException or IOException or DriverException)
        {
            // What holds for all of the set before it holds at least.
            return first.CoversFrom;
        }

        // A moment before the first commit that is not in it.
        return next is { } c ? Instants.Floor(Instant.FromUnixTimeTicks(c.At.ToUnixTimeTicks() - 10)) : first.CoversTo;
    }

    /// <param name="watch">Where the source is asked.</param>
    /// <param name="log">Where log comes from.</param>
    /// <param name="from">From where on it becomes known.</param>
    /// <param name="known">Up to when what was known before covers; null when nothing goes before.</param>
    /// <param name="cancel">Stops it.</param>
    /// <param name="end">Where the timeline ends; null for the one that goes on.</param>
    private async Task StreamAsync(NpgsqlConnection watch, PhysicalReplicationConnection log, Lsn from, Instant? known, CancellationToken cancel, Lsn? end = null)
    {
        var start = segments.StartOf(from);
        (written, flushed, told, reader, commitWritten) = (start, from, from, Reader(start), null);
        streams = false;
        marks.Clear();
        growing = new Growing(from, known ?? Instants.Floor(await watch.NowAsync(cancel)), Stopwatch.GetTimestamp());
        covers = known;
        using var both = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var ticking = TickAsync(watch, log, both.Token);
        var receiving = ReceiveAsync(log, start, both.Token);
        var first = await Task.WhenAny(ticking, receiving);
        if (first == receiving && end is { } at && written >= at)
        {
            // The old timeline is at its end, however that was told (Npgsql takes the engine's word for it for a fault); what was received of it is told.
            await both.CancelAsync();
            await Ended(ticking);
            await SafeAsync(null, cancel);
            await TellAsync(cut: true, cancel);
            file?.Dispose();
            file = null;
            return;
        }

        await both.CancelAsync();
        await Ended(first == ticking ? receiving : ticking);
        await first;
        throw new DriverException(DriverProblem.Unreachable, $"{cluster.Address}:{cluster.Port} sends no more log");

        static async Task Ended(Task other)
        {
            try
            {
                await other;
            }
            catch (Exception)
            {
                // The first one that ended says why.
            }
        }
    }

    private LogReader Reader(Lsn start) => new(segments, start)
    {
        OnCommit = c =>
        {
            var at = Instants.Floor(c.At);
            commitWritten = commitWritten is { } before && before > at ? before : at;
        },
    };

    private async Task ReceiveAsync(PhysicalReplicationConnection log, Lsn start, CancellationToken cancel)
    {
        var buffer = new byte[1 << 17];
        await foreach (var message in log.StartReplication(new PhysicalReplicationSlot(cluster.Slot), new NpgsqlLogSequenceNumber((ulong)start.Value), cancel, (uint)timeline))
        {
            streams = true;
            var at = (long)(ulong)message.WalStart;
            if (at != written.Value)
            {
                throw new LogBrokenException(written, $"the source goes on at {new Lsn(at)}");
            }

            while (await message.Data.ReadAsync(buffer, cancel) is > 0 and var n)
            {
                lock (gate)
                {
                    Take(buffer.AsSpan(0, n));
                }
            }
        }
    }

    private void Take(ReadOnlySpan<byte> bytes)
    {
        while (bytes.Length > 0)
        {
            var start = segments.StartOf(written);
            var some = bytes[..(int)Math.Min(bytes.Length, start.Value + segments.Bytes - written.Value)];
            if (file is null)
            {
                store.MustHaveRoom(segments.Bytes);

                // Never cut short: what lies there was received before, and the same bytes come again.
                sum.GetHashAndReset();
                file = new FileStream(Path.Combine(store.Log(cluster.Database), segments.NameOf(timeline, start) + FolderStore.Partial), FileMode.OpenOrCreate, FileAccess.Write, FileShare.ReadWrite | FileShare.Delete, 0);
            }

            file.Position = written.Value - start.Value;
            file.Write(some);
            sum.AppendData(some);
            reader!.Feed(some);
            written = new(written.Value + some.Length);
            source = written > source ? written : source;
            bytes = bytes[some.Length..];
            if (written.Value % segments.Bytes == 0)
            {
                file.Flush(flushToDisk: true);
                closing.Add((file.Name, Convert.ToHexStringLower(sum.GetHashAndReset())));
                file.Dispose();
                file = null;
            }
        }
    }

    private async Task TickAsync(NpgsqlConnection watch, PhysicalReplicationConnection log, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(Flush);
        var tick = 0;
        while (await timer.WaitForNextTickAsync(cancel))
        {
            await SafeAsync(log, cancel);
            if (++tick % TicksOfWatch != 0)
            {
                continue;
            }

            await LookAsync(watch, cancel);
            if (kept > cluster.LogRoomBytes)
            {
                await RemoveSlotAsync(watch, cluster.Slot, cancel);
                throw new DriverException(DriverProblem.Refused, $"the source kept {kept:N0} bytes of log for us, more than the {cluster.LogRoomBytes:N0} it may: our slot was given up, and there is a gap until the next full");
            }

            await TellAsync(cut: false, cancel);
        }
    }

    /// <summary>Makes what was written safe, and says to the source what it may forget.</summary>
    private async Task SafeAsync(PhysicalReplicationConnection? log, CancellationToken cancel)
    {
        (string Partial, string Sum)[] closed;
        lock (gate)
        {
            if (file is not null)
            {
                file.Flush(flushToDisk: true);
                if (!File.Exists(file.Name))
                {
                    // Its folder went away under it: what is written now is found by nobody.
                    throw new DriverException(DriverProblem.Unreachable, $"store {store.Name} is gone: {file.Name} was removed while it was written");
                }
            }

            flushed = written > flushed ? written : flushed;
            if (commitWritten is { } commit && (covers is null || commit > covers))
            {
                covers = commit;
            }

            while (marks.TryPeek(out var mark) && mark.Position <= flushed)
            {
                marks.Dequeue();
                covers = covers is { } before && before > mark.At ? before : mark.At;
            }

            closed = [.. closing];
            closing.Clear();
        }

        foreach (var (partial, itsSum) in closed)
        {
            await FolderStore.CloseSegmentAsync(partial, itsSum, cancel);
        }

        if (log is not null && streams)
        {
            await MayForgetAsync(log, cancel);
        }
    }

    /// <summary>
    /// Says to the source what it may forget: what is known of, not what is written, for whoever goes on begins where the last set ends. Only within the stream: Npgsql holds it to have
    /// begun when it is asked for, and is broken by what is said before the source has answered.
    /// </summary>
    private async Task MayForgetAsync(PhysicalReplicationConnection log, CancellationToken cancel)
    {
        log.SetReplicationStatus(new NpgsqlLogSequenceNumber((ulong)told.Value));
        try
        {
            await log.SendStatusUpdate(cancel);
        }
        catch (Exception e) when (e is InvalidOperationException or NullReferenceException)
        {
            // The stream ended under it: Npgsql has put away what it says it with. Who receives says why.
        }
    }

    /// <summary>Looks at the source: its clock first, then its position, so that what was committed by then lies before it.</summary>
    private async Task LookAsync(NpgsqlConnection watch, CancellationToken cancel)
    {
        await using var command = new NpgsqlCommand(
            """
            with seen as materialized (select clock_timestamp() at time zone 'utc' as t)
            select t, pg_current_wal_flush_lsn()::text, (select coalesce(pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn), 0)::bigint from pg_replication_slots where slot_name = $1) from seen
            """,
            watch);
        command.Parameters.AddWithValue(cluster.Slot);
        await using var read = await command.ExecuteReaderAsync(cancel);
        await read.ReadAsync(cancel);
        var (at, position) = (Connections.AtUtc(read.GetDateTime(0)), Lsn.Parse(read.GetString(1)));
        lock (gate)
        {
            marks.Enqueue((position, Instants.Floor(at)));
            source = position > source ? position : source;
            kept = read.IsDBNull(2) ? 0 : read.GetInt64(2);
        }
    }

    /// <summary>Tells what was received; closes the set that grows when it is long enough, or a file of the log is full.</summary>
    private async Task TellAsync(bool cut, CancellationToken cancel)
    {
        Received now;
        BackupSet? set = null;
        lock (gate)
        {
            var at = Instants.Floor(clock.GetCurrentInstant());
            now = new Received(at, timeline, flushed.Value, Math.Max(source.Value, flushed.Value), covers, kept, null);
            if (growing is { } g && covers is { } to && to > g.CoversFrom)
            {
                set = new BackupSet
                {
                    Id = new($"log-{timeline:X}-{g.From.Value:X}"),
                    Database = new(cluster.Database),
                    Kind = SetKind.Log,
                    Branch = timeline,
                    FromPosition = g.From.Value,
                    ToPosition = flushed.Value,
                    CoversFrom = g.CoversFrom,
                    CoversTo = to,
                    FinishedAt = Instant.Max(at, to),
                    DataBytes = flushed.Value - g.From.Value,
                    Copies = [new BackupCopy(new(store.Name), Instant.Max(at, to), null, null, flushed.Value - g.From.Value, CopyState.Unverified)],
                };
                if (cut || Stopwatch.GetElapsedTime(g.Since).TotalSeconds >= sink.SetSeconds || segments.StartOf(flushed) > segments.StartOf(g.From))
                {
                    growing = new Growing(flushed, to, Stopwatch.GetTimestamp());
                }
            }
        }

        await sink.KeepAsync(set is null ? [] : [set], now, cancel);
        told = set is null ? told : new(set.ToPosition);
    }

    private DriverException Outside(Exception e) => e.Message.Contains("No space left", StringComparison.Ordinal)
        ? new(DriverProblem.NoRoom, $"store {store.Name} is full: {e.Message}")
        : new(DriverProblem.Unreachable, $"store {store.Name}: {e.Message}");
}
