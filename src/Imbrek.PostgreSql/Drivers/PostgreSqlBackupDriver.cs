using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Backups of clusters into folders. A full is a base backup that is read back wholly before anybody is told of it; an export is dumped in parallel, each database from a snapshot (<see cref="Dump"/>). Log needs not be taken: it is received all the time
/// (<see cref="LogReceiver"/>); to take it is to wait until all that was written before has been received, and to say so.
/// </summary>
internal sealed class PostgreSqlBackupDriver(IClusterBook book, IClock clock) : IBackupDriver
{
    /// <summary>How often it is looked whether log has come.</summary>
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);

    /// <summary>Seconds until log that does not come is a failure, where the task does not say.</summary>
    private const double LogSeconds = 60;

    private readonly WholeBackups whole = new(book, clock);

    /// <inheritdoc/>
    public async Task<Taken> TakeAsync(RunCall call, TakeSpec spec, CancellationToken cancel)
    {
        var cluster = book.Cluster(new(spec.Database));
        return spec.Kind switch
        {
            SetKind.Full => await whole.FullAsync(call, cluster, spec, cancel),
            SetKind.Export => await whole.ExportAsync(call, cluster, spec, cancel),
            SetKind.Log => await LogAsync(cluster, spec, cancel),
            _ => throw new DriverException(DriverProblem.Refused, $"version 15 of this engine takes no {spec.Kind.ToString().ToLowerInvariant()}"),
        };
    }

    /// <inheritdoc/>
    /// <remarks>A base backup needs the right to replicate; databases it may not connect to are in it, and yet nobody could look at them through this account.</remarks>
    public async Task<IReadOnlyList<CheckResult>> SeesAsync(Id<Database> database, CancellationToken cancel)
    {
        var cluster = book.Cluster(database);
        try
        {
            await using var connection = await Connections.OpenAsync(cluster, cancel);
            var replicates = await connection.AskAsync<bool>("select rolreplication or rolsuper from pg_roles where rolname = current_user", cancel);
            return
            [
                new("the cluster", replicates, replicates ? "may be copied as a whole" : $"{cluster.User} has no right to replicate: it cannot be copied as a whole"),
                .. await connection.RowsAsync(
                    "select datname::text, has_database_privilege(datname, 'connect') and datallowconn, pg_size_pretty(case when has_database_privilege(datname, 'connect') then pg_database_size(datname) end) from pg_database where not datistemplate order by 1",
                    r => new CheckResult($"database {r.GetString(0)}", r.GetBoolean(1), r.GetBoolean(1) ? (r.IsDBNull(2) ? "seen" : r.GetString(2)) : $"{cluster.User} may not connect to it"),
                    cancel),
            ];
        }
        catch (Npgsql.NpgsqlException e)
        {
            throw Connections.Told(cluster, e, cancel);
        }
    }

    /// <inheritdoc/>
    public async Task<Taken> CopyAsync(RunCall call, Id<Database> database, Id<BackupSet> set, Id<Core.Fleet.Store> to, double? lockSeconds, CancellationToken cancel)
    {
        var known = Known(database, set);
        if (known.Copies.FirstOrDefault(c => c.Store == to && c.RemovedAt is null) is { State: not CopyState.Damaged })
        {
            return new Taken(known, 0, 0);
        }

        var (cluster, target, began) = (book.Cluster(database), book.Store(to), Stopwatch.GetTimestamp());
        if (known.Copies.Where(c => c.RemovedAt is null && c.State != CopyState.Damaged && c.Store != to).Select(c => book.Store(c.Store)).FirstOrDefault(s => s.Here) is not { } from)
        {
            throw new DriverException(DriverProblem.CopyUnreachable, $"no whole copy of {set} can be read");
        }

        target.MustHaveRoom(known.Copies.Max(c => c.StoredBytes));
        var bytes = 0L;
        try
        {
            if (known.Kind != SetKind.Log)
            {
                var (source, staging) = (from.Whole(cluster.Database, known.Kind, set.Value), target.Staging(cluster.Database, known.Kind, call.Run));
                Fences.Hear(Path.Combine(staging, "fence"), call);
                foreach (var file in Directory.EnumerateFiles(source, "*", SearchOption.AllDirectories))
                {
                    bytes += await FolderStore.CopyAsync(file, Path.Combine(staging, Path.GetRelativePath(source, file)), cancel);
                }

                await WholeBackups.ReadAsync(known.Kind, staging, cancel);
                Fences.Hear(Path.Combine(staging, "fence"), call);
                WholeBackups.Finish(staging, target.Whole(cluster.Database, known.Kind, set.Value));
            }
            else
            {
                await target.CopyLogMarksAsync(from, cluster.Database, cancel);
                foreach (var (file, start) in from.LogFiles(cluster.Database, known))
                {
                    if (!FolderStore.IsWhole(file))
                    {
                        return new Taken(null, 0, 0, "its last file is still written; it is copied with the next");
                    }

                    await FolderStore.VerifySegmentAsync(file, start, cancel);
                    bytes += await FolderStore.CopySegmentAsync(file, Path.Combine(target.Log(cluster.Database), Path.GetFileName(file)), cancel);
                }
            }
        }
        catch (Exception e) when (e is InvalidDataException or LogBrokenException)
        {
            throw new DriverException(DriverProblem.CopyDamaged, $"the copy of {set} in {from.Name} is damaged: {e.Message}", new SetCopy(set, new(from.Name)));
        }
        catch (IOException e)
        {
            throw WholeBackups.Outside(e, target);
        }

        var now = Now();
        var copy = new BackupCopy(to, now, null, null, bytes, CopyState.Good);
        return new Taken(known with { Copies = [.. known.Copies.Where(c => c.Store != to), copy] }, Stopwatch.GetElapsedTime(began).TotalSeconds, bytes);
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<Taken>> ReadBackAsync(RunCall call, Id<Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel)
    {
        var (cluster, results) = (book.Cluster(database), new List<Taken>());
        foreach (var copy in copies)
        {
            var (set, store, began) = (Known(database, copy.Set), book.Store(copy.Store), Stopwatch.GetTimestamp());
            store.MustBeHere();
            var (state, bytes, why) = (CopyState.Good, 0L, (string?)null);
            try
            {
                if (set.Kind != SetKind.Log)
                {
                    bytes = await WholeBackups.ReadAsync(set.Kind, store.Whole(cluster.Database, set.Kind, set.Id.Value), cancel);
                }
                else
                {
                    bytes = await ReadLogAsync(store, cluster.Database, set, cancel);
                }
            }
            catch (Exception e) when (e is InvalidDataException or LogBrokenException or FileNotFoundException or DirectoryNotFoundException)
            {
                (state, why) = (CopyState.Damaged, e.Message);
            }

            results.Add(new Taken(
                set with { Copies = [.. set.Copies.Select(c => c.Store == copy.Store ? c with { State = state } : c)] },
                Stopwatch.GetElapsedTime(began).TotalSeconds,
                bytes,
                Note: why));
        }

        return results;
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<Taken>> RemoveAsync(RunCall call, Id<Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel) =>
        Task.Run<IReadOnlyList<Taken>>(() => Remove(database, copies), cancel);

    /// <inheritdoc/>
    public async Task<(string Found, Moved Moved)> CheckIntegrityAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        var cluster = book.Cluster(database);
        var began = Stopwatch.GetTimestamp();
        await using var connection = await Connections.OpenAsync(cluster, cancel);
        var (found, bytes) = await Structure.CheckAsync(connection, name => Connections.OpenAsync(cluster, cancel, name), cancel);
        return found.All(f => f.Passed)
            ? (string.Join("; ", found.Select(f => f.Detail)), new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, bytes))
            : throw new DriverException(DriverProblem.Refused, string.Join("; ", found.Where(f => !f.Passed).Select(f => f.Detail)));
    }

    /// <summary>How a cluster's log is cut, as it says itself.</summary>
    public static async Task<Segments> SegmentsAsync(Npgsql.NpgsqlConnection connection, CancellationToken cancel) =>
        new(int.Parse(await connection.AskAsync<string>("select setting from pg_settings where name = 'wal_segment_size'", cancel), CultureInfo.InvariantCulture));

    private async Task<Taken> LogAsync(ClusterSpec cluster, TakeSpec spec, CancellationToken cancel)
    {
        var began = Stopwatch.GetTimestamp();
        Lsn wanted;
        int timeline;
        await using (var connection = await Connections.OpenAsync(cluster, cancel))
        {
            wanted = Lsn.Parse(await connection.AskAsync<string>("select pg_current_wal_flush_lsn()::text", cancel));
            timeline = await connection.AskAsync<int>("select timeline_id from pg_control_checkpoint()", cancel);
        }

        using var timer = new PeriodicTimer(Look);
        do
        {
            if (book.NewestLog(new(spec.Database)) is { } newest && newest.Branch >= timeline && newest.ToPosition >= wanted.Value)
            {
                return new Taken(null, Stopwatch.GetElapsedTime(began).TotalSeconds, 0, Note: $"received all the time, now up to {new Lsn(newest.ToPosition)}; {wanted} was the newest when this was asked");
            }
        }
        while (Stopwatch.GetElapsedTime(began).TotalSeconds < LogSeconds && await timer.WaitForNextTickAsync(cancel));
        var last = book.NewestLog(new(spec.Database));
        throw new DriverException(
            DriverProblem.Unreachable,
            last is null ? "no log is being received" : $"log is received up to {new Lsn(last.ToPosition)}; {wanted} was written {LogSeconds:0} s ago and has not come");
    }

    private static async Task<long> ReadLogAsync(FolderStore store, string cluster, BackupSet set, CancellationToken cancel)
    {
        var (bytes, walk) = (0L, new LogWalk(store.LogSegments(cluster)));
        foreach (var (file, start) in store.LogFiles(cluster, set))
        {
            if (FolderStore.IsWhole(file))
            {
                await FolderStore.VerifySegmentAsync(file, start, cancel);
            }

            var content = await ReadAsync(file, cancel);
            walk.Take(set, start, content);
            bytes += content.Length;
        }

        return walk.Position is { } end && (end.Value >= set.ToPosition || set.ToPosition == set.FromPosition)
            ? bytes
            : throw new LogBrokenException(walk.Position ?? default, $"the log in {store.Name} ends before {new Lsn(set.ToPosition)}");
    }

    /// <summary>Reads a file of the log, which may be written to meanwhile.</summary>
    public static async Task<byte[]> ReadAsync(string file, CancellationToken cancel)
    {
        await using var stream = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1, true);
        var content = new byte[stream.Length];
        await stream.ReadExactlyAsync(content, cancel);
        return content;
    }

    private List<Taken> Remove(Id<Database> database, IReadOnlyList<SetCopy> copies)
    {
        var (cluster, results, now) = (book.Cluster(database), new List<Taken>(), Now());
        foreach (var copy in copies)
        {
            var (set, store, began) = (Known(database, copy.Set), book.Store(copy.Store), Stopwatch.GetTimestamp());
            store.MustBeHere();
            var stored = set.Copies.FirstOrDefault(c => c.Store == copy.Store)?.StoredBytes ?? 0;
            if (set.Kind != SetKind.Log)
            {
                var folder = store.Whole(cluster.Database, set.Kind, set.Id.Value);
                if (Directory.Exists(folder))
                {
                    // First under a name that nothing looks for: half a backup is never found.
                    var going = Path.Combine(Path.GetDirectoryName(folder)!, $".{Guid.NewGuid():n}");
                    Directory.Move(folder, going);
                    Directory.Delete(going, recursive: true);
                }
            }
            else if (Directory.Exists(store.Log(cluster.Database)))
            {
                // A file goes with the set that its last byte belongs to.
                var segments = store.LogSegments(cluster.Database);
                foreach (var start in segments.Over(new(set.FromPosition!.Value), new(set.ToPosition)))
                {
                    if (start.Value + segments.Bytes <= set.ToPosition && store.Segment(cluster.Database, segments, set.Branch, start) is { } file && FolderStore.IsWhole(file))
                    {
                        FolderStore.RemoveSegment(file);
                    }
                }
            }

            results.Add(new Taken(set with { Copies = [.. set.Copies.Select(c => c.Store == copy.Store ? c with { RemovedAt = c.RemovedAt ?? Instant.Max(now, c.AvailableAt) } : c)] }, Stopwatch.GetElapsedTime(began).TotalSeconds, stored));
        }

        return results;
    }

    private BackupSet Known(Id<Database> database, Id<BackupSet> set) =>
        book.Set(database, set) ?? throw new DriverException(DriverProblem.Refused, $"there is no set {set} of {database}");

    private Instant Now() => Instants.Floor(clock.GetCurrentInstant());
}
