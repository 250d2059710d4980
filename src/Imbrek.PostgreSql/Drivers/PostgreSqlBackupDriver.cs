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

    /// <summary>By so much the state of a full is said to be earlier than its last commit.</summary>
    private static readonly Duration Aside = Duration.FromMilliseconds(2);

    /// <summary>The same where no commit is known: marks of quiet time are a second apart.</summary>
    private static readonly Duration Silence = Duration.FromSeconds(3);

    /// <summary>Seconds until log that does not come is a failure, where the task does not say.</summary>
    private const double LogSeconds = 60;

    /// <summary>What is kept beside a full, so that a call that is made again finds what it did.</summary>
    private sealed record Kept(Guid Run, string Set, int Timeline, long Position, string CoversTo, long LastCommitTicks, string FinishedAt, long DataBytes, long StoredBytes, double Seconds, int SegmentBytes);

    /// <inheritdoc/>
    public async Task<Taken> TakeAsync(RunCall call, TakeSpec spec, CancellationToken cancel)
    {
        var cluster = book.Cluster(new(spec.Database));
        return spec.Kind switch
        {
            SetKind.Full => await FullAsync(call, cluster, spec, cancel),
            SetKind.Export => await ExportAsync(call, cluster, spec, cancel),
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

                await ReadWholeAsync(known.Kind, staging, cancel);
                Fences.Hear(Path.Combine(staging, "fence"), call);
                Finish(staging, target.Whole(cluster.Database, known.Kind, set.Value));
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
            throw Outside(e, target);
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
                    bytes = await ReadWholeAsync(set.Kind, store.Whole(cluster.Database, set.Kind, set.Id.Value), cancel);
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

    /// <summary>The newest commit that is in a full whatever it is stopped at.</summary>
    public static Instant LastCommitIn(string folder) => Read(folder) is { } kept ? Instant.FromUnixTimeTicks(kept.LastCommitTicks) : Instant.MinValue;

    /// <summary>How the log in a full is cut, as was written beside it.</summary>
    public static Segments SegmentsOf(string folder) => new(Read(folder)?.SegmentBytes ?? throw new InvalidDataException($"{Path.GetFileName(folder)} is not there, or has lost what was written beside it"));

    private static Kept? Read(string folder)
    {
        var file = Path.Combine(folder, "set.json");
        try
        {
            return File.Exists(file) ? JsonSerializer.Deserialize<Kept>(File.ReadAllBytes(file)) : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private async Task<Taken> FullAsync(RunCall call, ClusterSpec cluster, TakeSpec spec, CancellationToken cancel)
    {
        var store = book.Store(new(spec.Store));
        store.MustBeHere();
        var fulls = Path.GetDirectoryName(store.Full(cluster.Database, "x"))!;
        if (Directory.Exists(fulls) && Directory.EnumerateDirectories(fulls).Where(d => !Path.GetFileName(d).StartsWith('.')).Select(Read).FirstOrDefault(k => k?.Run == call.Run) is { } done)
        {
            return new Taken(SetOf(done, spec), 0, 0);
        }

        if (spec.Key is not null)
        {
            throw new DriverException(DriverProblem.Refused, "base backups into a folder are not encrypted by this version; take the key out of the task");
        }

        var began = Stopwatch.GetTimestamp();
        var (staging, fence) = Stage(store, cluster, SetKind.Full, call);
        Segments segments;
        Instant before;
        long size;
        await using (var connection = await Connections.OpenAsync(cluster, cancel))
        {
            segments = await SegmentsAsync(connection, cancel);
            size = await connection.AskAsync<long>("select sum(pg_database_size(oid))::bigint from pg_database", cancel);
            before = await connection.NowAsync(cancel);
        }

        var pack = Path.Combine(staging, "pack");
        Directory.CreateDirectory(pack);
        using var taken = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var committing = CommitMeanwhileAsync(cluster, taken.Token);
        try
        {
            store.MustHaveRoom((long)(size * spec.Compression.Ratio()) + segments.Bytes);
            await BaseCopy.TakeAsync(
                cluster,
                pack,
                [
                    "--format", "tar", "--manifest-checksums", "SHA256", "--label", $"imbrek {call.Run:n}",
                    "--compress", spec.Compression switch { Compression.Off => "none", Compression.Light => "client-gzip:1", _ => "client-gzip:9" },
                ],
                cluster.BackupBytesPerSecond,
                cancel);
        }
        catch (Exception e) when (e is DriverException or IOException)
        {
            Directory.Delete(staging, recursive: true);
            throw e is IOException io ? Outside(io, store) : e;
        }
        finally
        {
            await taken.CancelAsync();
            await committing;
        }

        // Whoever stands in a chain must not be found broken on the day it is needed.
        PackedBackup.Contents read;
        try
        {
            read = await new PackedBackup(pack, segments).ReadAsync(null, cancel);
        }
        catch (Exception e) when (e is InvalidDataException or LogBrokenException)
        {
            Directory.Delete(staging, recursive: true);
            throw new DriverException(DriverProblem.Refused, $"what was written into {store.Name} is not what the cluster sent: {e.Message}", againMayHelp: true);
        }

        // Log is applied to a state that is earlier than what it covers to; what was received together with the last commit in here covers to that, in whole milliseconds.
        var last = read.LastCommit ?? before;
        var covers = Floor(last) - (read.LastCommit is null ? Silence : Aside);
        var now = Instant.Max(Now(), covers);
        var kept = new Kept(
            call.Run, SetNaming.Of(spec.Naming, new(spec.Database), SetKind.Full, now, DateTimeZone.Utc).Value, read.Manifest.Timeline, read.Manifest.To.Value, Instants.Write(covers), last.ToUnixTimeTicks(), Instants.Write(now), read.Manifest.Bytes, read.StoredBytes, Stopwatch.GetElapsedTime(began).TotalSeconds, segments.Bytes);
        while (Directory.Exists(store.Full(cluster.Database, kept.Set)))
        {
            // Two within a second, of two plans.
            kept = kept with { Set = $"{kept.Set}-{call.Run:n}"[..Math.Min(kept.Set.Length + 5, InputBounds.SetName)] };
        }

        await FolderStore.WriteWholeAsync(Path.Combine(pack, "set.json"), JsonSerializer.SerializeToUtf8Bytes(kept), cancel);
        Fences.Hear(fence, call);
        Finish(pack, store.Full(cluster.Database, kept.Set));
        Directory.Delete(staging, recursive: true);
        return new Taken(SetOf(kept, spec), kept.Seconds, kept.StoredBytes);
    }

    private async Task<Taken> ExportAsync(RunCall call, ClusterSpec cluster, TakeSpec spec, CancellationToken cancel)
    {
        var store = book.Store(new(spec.Store));
        store.MustBeHere();
        var exports = Path.GetDirectoryName(store.Export(cluster.Database, "x"))!;
        if (Directory.Exists(exports) && Directory.EnumerateDirectories(exports).Where(d => !Path.GetFileName(d).StartsWith('.')).Select(DumpNote.In).FirstOrDefault(n => n?.Run == call.Run) is { } done)
        {
            return new Taken(SetOf(done, spec), 0, 0);
        }

        if (spec.Key is not null)
        {
            throw new DriverException(DriverProblem.Refused, "exports into a folder are not encrypted by this version; take the key out of the task");
        }

        var began = Stopwatch.GetTimestamp();
        var (staging, fence) = Stage(store, cluster, SetKind.Export, call);
        var pack = Path.Combine(staging, "pack");
        Directory.CreateDirectory(pack);
        DumpNote note;
        try
        {
            long size;
            await using (var connection = await Connections.OpenAsync(cluster, cancel))
            {
                size = await connection.AskAsync<long>("select coalesce(sum(pg_database_size(oid)), 0)::bigint from pg_database where has_database_privilege(oid, 'connect')", cancel);
            }

            store.MustHaveRoom((long)(size * spec.Compression.Ratio()));
            var dumped = await Dump.TakeAsync(cluster, pack, spec.Compression, cancel);

            // Whoever was told of a commit before the first snapshot finds it in here.
            var covers = Floor(dumped.At);
            var now = Instant.Max(Now(), covers);
            note = new(
                call.Run, SetNaming.Of(spec.Naming, new(spec.Database), SetKind.Export, now, DateTimeZone.Utc).Value, dumped.Timeline, dumped.Position, Instants.Write(covers), Instants.Write(now), size, Stopwatch.GetElapsedTime(began).TotalSeconds, dumped.FirstRole,
                dumped.Locale.Encoding, dumped.Locale.Collate, dumped.Locale.CType, dumped.Databases, await DumpNote.FilesIn(pack, cancel));
            while (Directory.Exists(store.Export(cluster.Database, note.Set)))
            {
                // Two within a second, of two plans.
                note = note with { Set = $"{note.Set}-{call.Run:n}"[..Math.Min(note.Set.Length + 5, InputBounds.SetName)] };
            }

            await note.WriteAsync(pack, cancel);
        }
        catch (Exception e) when (e is DriverException or IOException or Npgsql.NpgsqlException)
        {
            Directory.Delete(staging, recursive: true);
            throw e switch { IOException io => Outside(io, store), Npgsql.NpgsqlException n => Connections.Told(cluster, n, cancel), _ => e };
        }

        Fences.Hear(fence, call);
        Finish(pack, store.Export(cluster.Database, note.Set));
        Directory.Delete(staging, recursive: true);
        return new Taken(SetOf(note, spec), note.Seconds, note.StoredBytes);
    }

    /// <summary>An empty folder in which a run puts a full or an export together; what an attempt that did not come to its end left is gone.</summary>
    private static (string Staging, string Fence) Stage(FolderStore store, ClusterSpec cluster, SetKind kind, RunCall call)
    {
        var staging = store.Staging(cluster.Database, kind, call.Run);
        var fence = Path.Combine(staging, "fence");
        Fences.Hear(fence, call);
        foreach (var left in Directory.EnumerateFileSystemEntries(staging).Where(f => f != fence))
        {
            if (Directory.Exists(left))
            {
                Directory.Delete(left, recursive: true);
            }
            else
            {
                File.Delete(left);
            }
        }

        return (staging, fence);
    }

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

    private static BackupSet SetOf(Kept kept, TakeSpec spec) => new()
    {
        Id = new(kept.Set),
        Database = new(spec.Database),
        Kind = SetKind.Full,
        Branch = kept.Timeline,
        ToPosition = kept.Position,
        CoversTo = Instants.Parse(kept.CoversTo),
        FinishedAt = Instants.Parse(kept.FinishedAt),
        DataBytes = kept.DataBytes,
        OutsideChain = spec.OutsideChain,
        Copies = [new BackupCopy(new(spec.Store), Instants.Parse(kept.FinishedAt), null, null, kept.StoredBytes, CopyState.Good)],
    };

    private static BackupSet SetOf(DumpNote note, TakeSpec spec) => new()
    {
        Id = new(note.Set),
        Database = new(spec.Database),
        Kind = SetKind.Export,
        Branch = note.Timeline,
        ToPosition = note.Position,
        CoversTo = Instants.Parse(note.CoversTo),
        FinishedAt = Instants.Parse(note.FinishedAt),
        DataBytes = note.DataBytes,
        OutsideChain = spec.OutsideChain,
        Copies = [new BackupCopy(new(spec.Store), Instants.Parse(note.FinishedAt), null, null, note.StoredBytes, CopyState.Good)],
    };

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

    private static void Finish(string from, string to)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(to)!);
        if (!Directory.Exists(to))
        {
            Directory.Move(from, to);
            File.Delete(Path.Combine(to, "fence"));
        }
    }

    /// <summary>Reads all of a full or an export in a folder back; gives how many bytes it was.</summary>
    /// <exception cref="InvalidDataException">It is not whole; says which file.</exception>
    private static async Task<long> ReadWholeAsync(SetKind kind, string folder, CancellationToken cancel) =>
        kind == SetKind.Export ? (await DumpNote.ReadAsync(folder, cancel)).StoredBytes : (await new PackedBackup(folder, SegmentsOf(folder)).ReadAsync(null, cancel)).StoredBytes;

    private static DriverException Outside(IOException e, FolderStore store) =>
        store.Here && (e.Message.Contains("No space left", StringComparison.Ordinal) || e.HResult == 28) ? new(DriverProblem.NoRoom, $"store {store.Name} is full: {e.Message}") : new(DriverProblem.Unreachable, $"store {store.Name}: {e.Message}");

    private Instant Now() => Instant.FromUnixTimeMilliseconds(clock.GetCurrentInstant().ToUnixTimeMilliseconds());

    private static Instant Floor(Instant at) => Instant.FromUnixTimeMilliseconds(at.ToUnixTimeMilliseconds());

    /// <summary>
    /// Commits nothing, some times a second, while a base backup is taken: each takes a number and leaves a record with its instant in the log, so that the backup knows the instant it ends at
    /// however quiet the cluster is.
    /// </summary>
    private static async Task CommitMeanwhileAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        try
        {
            await using var connection = await Connections.OpenAsync(cluster, cancel);
            using var timer = new PeriodicTimer(Look);
            do
            {
                await connection.AskAsync<string>("select pg_current_xact_id()::text", cancel);
            }
            while (await timer.WaitForNextTickAsync(cancel));
        }
        catch (Exception e) when (e is OperationCanceledException or DriverException or Npgsql.NpgsqlException or TimeoutException)
        {
            // The backup itself says what is wrong; without these commits its instant is only known less well.
        }
    }
}
