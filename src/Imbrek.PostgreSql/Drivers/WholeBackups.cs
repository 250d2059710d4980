using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Takes all of a cluster into a folder of a store: a full, which is a base backup that is read back wholly before anybody is told of it, or an export, dumped in parallel (<see cref="Dump"/>). Either is put together where
/// nothing looks for it, and gets its name when it is whole; a call that is made again finds what it did.
/// </summary>
internal sealed class WholeBackups(IClusterBook book, IClock clock)
{
    private static readonly TimeSpan CommitEvery = TimeSpan.FromMilliseconds(200);

    /// <summary>By so much the state of a full is said to be earlier than its last commit.</summary>
    private static readonly Duration Aside = Duration.FromMilliseconds(2);

    /// <summary>The same where no commit is known: marks of quiet time are a second apart.</summary>
    private static readonly Duration Silence = Duration.FromSeconds(3);

    /// <summary>One that is being taken.</summary>
    /// <param name="Run">The run that takes it.</param>
    /// <param name="Cluster">Of what.</param>
    /// <param name="Spec">As it was asked for.</param>
    /// <param name="Store">Into which store.</param>
    /// <param name="Folder">Where it is put together.</param>
    /// <param name="Began">When that began, as a time stamp of this process.</param>
    private sealed record Taking(Guid Run, ClusterSpec Cluster, TakeSpec Spec, FolderStore Store, string Folder, long Began)
    {
        /// <summary>A name for it that no other has.</summary>
        public string Name(Instant now)
        {
            var first = SetNaming.Of(Spec.Naming, new(Spec.Database), Spec.Kind, now, DateTimeZone.Utc).Value;

            // Two within a second, of two plans.
            return Directory.Exists(Store.Whole(Cluster.Database, Spec.Kind, first)) ? $"{first}-{Run:n}"[..Math.Min(first.Length + 5, InputBounds.SetName)] : first;
        }

        /// <summary>Seconds since it began.</summary>
        public double Seconds => Stopwatch.GetElapsedTime(Began).TotalSeconds;
    }

    /// <summary>Takes a base backup.</summary>
    /// <exception cref="DriverException">It cannot be had, or is not what the cluster sent; nothing of it is left.</exception>
    public Task<Taken> FullAsync(RunCall call, ClusterSpec cluster, TakeSpec spec, CancellationToken cancel) => TakeAsync(call, cluster, spec, FullNote.In, t => PackAsync(t, cancel), cancel);

    /// <summary>Takes an export.</summary>
    /// <exception cref="DriverException">It cannot be had whole; nothing of it is left.</exception>
    public Task<Taken> ExportAsync(RunCall call, ClusterSpec cluster, TakeSpec spec, CancellationToken cancel) => TakeAsync(call, cluster, spec, ExportNote.In, t => DumpAsync(t, cancel), cancel);

    /// <summary>Reads all of a full or an export in a folder back; gives how many bytes it was.</summary>
    /// <exception cref="InvalidDataException">It is not whole; says which file.</exception>
    /// <exception cref="LogBrokenException">The log in it is not whole.</exception>
    public static async Task<long> ReadAsync(SetKind kind, string folder, CancellationToken cancel) =>
        kind == SetKind.Export ? (await ExportNote.ReadAsync(folder, cancel)).StoredBytes : (await new PackedBackup(folder, FullNote.SegmentsOf(folder)).ReadAsync(null, cancel)).StoredBytes;

    /// <summary>Gives what was put together its name.</summary>
    public static void Finish(string from, string to)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(to)!);
        if (!Directory.Exists(to))
        {
            Directory.Move(from, to);
            File.Delete(Path.Combine(to, "fence"));
        }
    }

    /// <summary>What went wrong with a store, as drivers say it.</summary>
    public static DriverException Outside(IOException e, FolderStore store) =>
        store.Here && (e.Message.Contains("No space left", StringComparison.Ordinal) || e.HResult == 28) ? new(DriverProblem.NoRoom, $"store {store.Name} is full: {e.Message}") : new(DriverProblem.Unreachable, $"store {store.Name}: {e.Message}");

    private async Task<Taken> TakeAsync<T>(RunCall call, ClusterSpec cluster, TakeSpec spec, Func<string, T?> noteIn, Func<Taking, Task<T>> take, CancellationToken cancel)
        where T : class, IWholeNote
    {
        var store = book.Store(new(spec.Store));
        store.MustBeHere();
        var all = Path.GetDirectoryName(store.Whole(cluster.Database, spec.Kind, "x"))!;
        if (Directory.Exists(all) && Directory.EnumerateDirectories(all).Where(d => !Path.GetFileName(d).StartsWith('.')).Select(noteIn).FirstOrDefault(n => n?.Run == call.Run) is { } done)
        {
            return new Taken(SetOf(done, spec), 0, 0);
        }

        if (spec.Key is not null)
        {
            throw new DriverException(DriverProblem.Refused, "what is taken into a folder is not encrypted by this version; take the key out of the task");
        }

        var (staging, fence) = Stage(store, cluster, spec.Kind, call);
        var taking = new Taking(call.Run, cluster, spec, store, Path.Combine(staging, "pack"), Stopwatch.GetTimestamp());
        Directory.CreateDirectory(taking.Folder);
        T note;
        try
        {
            note = await take(taking);
            await note.WriteAsync(taking.Folder, cancel);
        }
        catch (Exception e) when (e is DriverException or IOException or NpgsqlException)
        {
            Directory.Delete(staging, recursive: true);
            throw e switch { IOException io => Outside(io, store), NpgsqlException n => Connections.Told(cluster, n, cancel), _ => e };
        }

        Fences.Hear(fence, call);
        Finish(taking.Folder, store.Whole(cluster.Database, spec.Kind, note.Set));
        Directory.Delete(staging, recursive: true);
        return new Taken(SetOf(note, spec), note.Seconds, note.StoredBytes);
    }

    private async Task<FullNote> PackAsync(Taking t, CancellationToken cancel)
    {
        Segments segments;
        Instant before;
        long size;
        await using (var connection = await Connections.OpenAsync(t.Cluster, cancel))
        {
            segments = await PostgreSqlBackupDriver.SegmentsAsync(connection, cancel);
            size = await connection.AskAsync<long>("select sum(pg_database_size(oid))::bigint from pg_database", cancel);
            before = await connection.NowAsync(cancel);
        }

        using (var taken = CancellationTokenSource.CreateLinkedTokenSource(cancel))
        {
            var committing = CommitMeanwhileAsync(t.Cluster, taken.Token);
            try
            {
                t.Store.MustHaveRoom((long)(size * t.Spec.Compression.Ratio()) + segments.Bytes);
                await BaseCopy.TakeAsync(
                    t.Cluster,
                    t.Folder,
                    [
                        "--format", "tar", "--manifest-checksums", "SHA256", "--label", $"imbrek {t.Run:n}",
                        "--compress", t.Spec.Compression switch { Compression.Off => "none", Compression.Light => "client-gzip:1", _ => "client-gzip:9" },
                    ],
                    t.Cluster.BackupBytesPerSecond,
                    cancel);
            }
            finally
            {
                await taken.CancelAsync();
                await committing;
            }
        }

        // Whoever stands in a chain must not be found broken on the day it is needed.
        PackedBackup.Contents read;
        try
        {
            read = await new PackedBackup(t.Folder, segments).ReadAsync(null, cancel);
        }
        catch (Exception e) when (e is InvalidDataException or LogBrokenException)
        {
            throw new DriverException(DriverProblem.Refused, $"what was written into {t.Store.Name} is not what the cluster sent: {e.Message}", againMayHelp: true);
        }

        // Log is applied to a state that is earlier than what it covers to; what was received together with the last commit in here covers to that, in whole milliseconds.
        var last = read.LastCommit ?? before;
        var covers = Instants.Floor(last) - (read.LastCommit is null ? Silence : Aside);
        var now = Instant.Max(Instants.Floor(clock.GetCurrentInstant()), covers);
        return new(t.Run, t.Name(now), read.Manifest.Timeline, read.Manifest.To.Value, Instants.Write(covers), last.ToUnixTimeTicks(), Instants.Write(now), read.Manifest.Bytes, read.StoredBytes, t.Seconds, segments.Bytes);
    }

    private async Task<ExportNote> DumpAsync(Taking t, CancellationToken cancel)
    {
        long size;
        await using (var connection = await Connections.OpenAsync(t.Cluster, cancel))
        {
            size = await connection.AskAsync<long>("select coalesce(sum(pg_database_size(oid)), 0)::bigint from pg_database where has_database_privilege(oid, 'connect')", cancel);
        }

        t.Store.MustHaveRoom((long)(size * t.Spec.Compression.Ratio()));
        var dumped = await Dump.TakeAsync(await Connections.AsFirstAsync(t.Cluster, cancel), t.Folder, t.Spec.Compression, cancel);

        // Whoever was told of a commit before the first snapshot finds it in here.
        var covers = Instants.Floor(dumped.At);
        var now = Instant.Max(Instants.Floor(clock.GetCurrentInstant()), covers);
        return new(t.Run, t.Name(now), dumped.Timeline, dumped.Position, Instants.Write(covers), Instants.Write(now), size, t.Seconds, dumped.Cluster, dumped.Databases, await ExportNote.FilesIn(t.Folder, cancel));
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

    private static BackupSet SetOf(IWholeNote note, TakeSpec spec) => new()
    {
        Id = new(note.Set),
        Database = new(spec.Database),
        Kind = note.Kind,
        Branch = note.Timeline,
        ToPosition = note.Position,
        CoversTo = Instants.Parse(note.CoversTo),
        FinishedAt = Instants.Parse(note.FinishedAt),
        DataBytes = note.DataBytes,
        OutsideChain = spec.OutsideChain,
        Copies = [new BackupCopy(new(spec.Store), Instants.Parse(note.FinishedAt), null, null, note.StoredBytes, CopyState.Good)],
    };

    /// <summary>
    /// Commits nothing, some times a second, while a base backup is taken: each takes a number and leaves a record with its instant in the log, so that the backup knows the instant it ends at
    /// however quiet the cluster is.
    /// </summary>
    private static async Task CommitMeanwhileAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        try
        {
            await using var connection = await Connections.OpenAsync(cluster, cancel);
            using var timer = new PeriodicTimer(CommitEvery);
            do
            {
                await connection.AskAsync<string>("select pg_current_xact_id()::text", cancel);
            }
            while (await timer.WaitForNextTickAsync(cancel));
        }
        catch (Exception e) when (e is OperationCanceledException or DriverException or NpgsqlException or TimeoutException)
        {
            // The backup itself says what is wrong; without these commits its instant is only known less well.
        }
    }
}
