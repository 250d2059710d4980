using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Log;

namespace Imbrek.PostgreSql.Store;

/// <summary>
/// A store that is a folder: <c>CLUSTER/full/SET/</c> with the packed backup and its manifest, <c>CLUSTER/export/SET/</c> with what was dumped and what is known of it, <c>CLUSTER/log/</c> with the files of the log, each with its
/// checksum beside it once it is whole, the one still written named <c>.partial</c>. What is not whole lies under a name that is not that of anything whole.
/// </summary>
/// <param name="name">What the fleet calls it.</param>
/// <param name="folder">The folder.</param>
/// <param name="capacity">How many bytes it may hold, as the fleet says; null for as many as there is room.</param>
internal sealed class FolderStore(string name, string folder, long? capacity)
{
    /// <summary>What the name of a file that is still written ends with.</summary>
    public const string Partial = ".partial";

    private const string Sum = ".sha256";
    private const string SegmentBytes = "segment-bytes";
    private const string Named = "system";
    private const UnixFileMode Own = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    /// <summary>What the fleet calls it.</summary>
    public string Name => name;

    /// <summary>Where a full lies.</summary>
    public string Full(string cluster, string set) => Path.Combine(folder, cluster, "full", set);

    /// <summary>Where an export lies.</summary>
    public string Export(string cluster, string set) => Path.Combine(folder, cluster, "export", set);

    /// <summary>Where a full or an export lies.</summary>
    public string Whole(string cluster, SetKind kind, string set) => kind == SetKind.Export ? Export(cluster, set) : Full(cluster, set);

    /// <summary>Where a full or an export is put together by a run.</summary>
    public string Staging(string cluster, SetKind kind, Guid run) => Whole(cluster, kind, $".{run:n}");

    /// <summary>Where log lies.</summary>
    public string Log(string cluster) => Path.Combine(folder, cluster, "log");

    /// <summary>How the log of a cluster in this store is cut into files; told by the store itself, for the cluster may be gone.</summary>
    /// <exception cref="FileNotFoundException">No log of it lies here.</exception>
    public Segments LogSegments(string cluster)
    {
        var mark = Path.Combine(Log(cluster), SegmentBytes);
        return File.Exists(mark) && int.TryParse(File.ReadAllText(mark), NumberStyles.None, CultureInfo.InvariantCulture, out var bytes)
            ? new(bytes)
            : throw new FileNotFoundException($"no log of {cluster} lies in store {name}");
    }

    /// <summary>Makes the folder for the log of a cluster, and writes down what the cluster calls itself and how its log is cut.</summary>
    /// <returns>What the cluster called itself whose log lies here: the same, or that of another. One that was moved has called itself several names.</returns>
    public async Task<string> BeginLogAsync(string cluster, string system, Segments segments, CancellationToken cancel)
    {
        MustBeHere();
        Directory.CreateDirectory(Log(cluster), Own);
        var mark = Path.Combine(Log(cluster), Named);
        if (!File.Exists(Path.Combine(Log(cluster), SegmentBytes)))
        {
            await WriteWholeAsync(Path.Combine(Log(cluster), SegmentBytes), Encoding.ASCII.GetBytes(segments.Bytes.ToString(CultureInfo.InvariantCulture)), cancel);
        }

        if (!File.Exists(mark))
        {
            await WriteWholeAsync(mark, Encoding.ASCII.GetBytes(system), cancel);
        }

        var names = await File.ReadAllLinesAsync(mark, cancel);
        return names.Contains(system) ? system : names[^1];
    }

    /// <summary>Has the log of a cluster go on as that of one that calls itself otherwise: it was moved by dump and load.</summary>
    public async Task LogGoesOnAsync(string cluster, string system, CancellationToken cancel)
    {
        MustBeHere();
        var mark = Path.Combine(Log(cluster), Named);
        var names = File.Exists(mark) ? await File.ReadAllLinesAsync(mark, cancel) : [];
        if (!names.Contains(system))
        {
            Directory.CreateDirectory(Log(cluster), Own);
            await WriteWholeAsync(mark, Encoding.ASCII.GetBytes(string.Join('\n', [.. names, system])), cancel);
        }
    }

    /// <summary>Copies what belongs to a cluster's log as a whole from another store: its marks, and how its timelines came to be.</summary>
    public async Task CopyLogMarksAsync(FolderStore from, string cluster, CancellationToken cancel)
    {
        MustBeHere();
        Directory.CreateDirectory(Log(cluster), Own);
        foreach (var file in (string[])[.. Directory.EnumerateFiles(from.Log(cluster), "*.history"), Path.Combine(from.Log(cluster), SegmentBytes), Path.Combine(from.Log(cluster), Named)])
        {
            await CopyAsync(file, Path.Combine(Log(cluster), Path.GetFileName(file)), cancel);
        }
    }

    /// <summary>The files of the log that a set lies in, in order.</summary>
    /// <exception cref="FileNotFoundException">One is missing.</exception>
    /// <exception cref="DriverException">The store cannot be reached.</exception>
    public IEnumerable<(string File, Lsn Start)> LogFiles(string cluster, BackupSet set)
    {
        MustBeHere();
        var segments = LogSegments(cluster);
        foreach (var start in segments.Over(new(set.FromPosition!.Value), new(set.ToPosition)))
        {
            yield return (Segment(cluster, segments, set.Branch, start) ?? throw new FileNotFoundException($"{segments.NameOf(set.Branch, start)} is missing in store {name}"), start);
        }
    }

    /// <summary>Whether it can be reached: its folder is there.</summary>
    public bool Here => Directory.Exists(folder);

    /// <summary>Says so when the store cannot be reached.</summary>
    /// <exception cref="DriverException">It cannot.</exception>
    public void MustBeHere()
    {
        if (!Here)
        {
            throw new DriverException(DriverProblem.Unreachable, $"store {name} is gone: there is no folder {folder}");
        }
    }

    /// <summary>Bytes that may still be written.</summary>
    public long Room()
    {
        var free = new DriveInfo(folder).AvailableFreeSpace;
        return capacity is { } most ? Math.Min(free, most - Used()) : free;
    }

    /// <summary>Says so when there is no room.</summary>
    /// <exception cref="DriverException">There is not.</exception>
    public void MustHaveRoom(long bytes)
    {
        MustBeHere();
        if (Room() is var room && room < bytes)
        {
            throw new DriverException(DriverProblem.NoRoom, $"store {name} is full: {room:N0} bytes are left, {bytes:N0} are needed");
        }
    }

    /// <summary>The bytes of a folder or file; 0 where there is none.</summary>
    public static long BytesOf(string path) =>
        File.Exists(path) ? new FileInfo(path).Length : Directory.Exists(path) ? new DirectoryInfo(path).EnumerateFiles("*", SearchOption.AllDirectories).Sum(f => f.Length) : 0;

    private long Used() => BytesOf(folder);

    /// <summary>Writes a small file so that it is there whole or not at all, and stays when the machine fails.</summary>
    public static async Task WriteWholeAsync(string file, ReadOnlyMemory<byte> bytes, CancellationToken cancel)
    {
        var unfinished = $"{file}.new";
        await using (var stream = new FileStream(unfinished, FileMode.Create, FileAccess.Write, FileShare.None))
        {
            await stream.WriteAsync(bytes, cancel);
            stream.Flush(flushToDisk: true);
        }

        File.Move(unfinished, file, overwrite: true);
    }

    /// <summary>Closes a file of the log: from now on it has its name, and its checksum beside it.</summary>
    /// <param name="partial">The file while it was written.</param>
    /// <param name="sum">The SHA-256 of what was written, made while it was.</param>
    /// <param name="cancel">Gives up.</param>
    public static async Task CloseSegmentAsync(string partial, string sum, CancellationToken cancel)
    {
        var file = partial[..^Partial.Length];
        await WriteWholeAsync(file + Sum, Encoding.ASCII.GetBytes(sum), cancel);
        File.Move(partial, file, overwrite: true);
    }

    /// <summary>The file of the log that holds a position: whole, or still written; null when there is neither.</summary>
    public string? Segment(string cluster, Segments segments, int timeline, Lsn position)
    {
        var file = Path.Combine(Log(cluster), segments.NameOf(timeline, position));
        return File.Exists(file) ? file : File.Exists(file + Partial) ? file + Partial : null;
    }

    /// <summary>Reads a whole file of the log back: its bytes must come to the checksum that was written when it was closed.</summary>
    /// <exception cref="LogBrokenException">They do not, or the checksum is missing.</exception>
    public static async Task VerifySegmentAsync(string file, Lsn start, CancellationToken cancel)
    {
        if (!File.Exists(file + Sum))
        {
            throw new LogBrokenException(start, $"{Path.GetFileName(file)} has lost the checksum beside it");
        }

        if (await SumOfAsync(file, cancel) != (await File.ReadAllTextAsync(file + Sum, cancel)).Trim())
        {
            throw new LogBrokenException(start, $"the bytes of {Path.GetFileName(file)} are not those that were written: its SHA-256 differs");
        }
    }

    /// <summary>Removes a file of the log with what belongs to it.</summary>
    public static void RemoveSegment(string file)
    {
        File.Delete(file);
        File.Delete(file + Sum);
    }

    /// <summary>Copies a file so that it is there whole or not at all.</summary>
    public static async Task<long> CopyAsync(string from, string to, CancellationToken cancel)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(to)!, Own);
        var unfinished = $"{to}.new";
        await using (var source = new FileStream(from, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1 << 17, true))
        await using (var target = new FileStream(unfinished, FileMode.Create, FileAccess.Write, FileShare.None, 1 << 17, true))
        {
            await source.CopyToAsync(target, 1 << 17, cancel);
            target.Flush(flushToDisk: true);
        }

        File.Move(unfinished, to, overwrite: true);
        return new FileInfo(to).Length;
    }

    /// <summary>Whether a file of the log has been closed.</summary>
    public static bool IsWhole(string file) => !file.EndsWith(Partial, StringComparison.Ordinal);

    /// <summary>Copies a closed file with its checksum.</summary>
    public static async Task<long> CopySegmentAsync(string from, string to, CancellationToken cancel)
    {
        var bytes = await CopyAsync(from, to, cancel);
        if (File.Exists(from + Sum))
        {
            await CopyAsync(from + Sum, to + Sum, cancel);
        }

        return bytes;
    }

    private static async Task<string> SumOfAsync(string file, CancellationToken cancel)
    {
        await using var stream = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1 << 17, true);
        return Convert.ToHexStringLower(await SHA256.HashDataAsync(stream, cancel));
    }
}
