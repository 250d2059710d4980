using System.Formats.Tar;
using System.IO.Compression;
using System.Security.Cryptography;
using Imbrek.PostgreSql.Log;
using NodaTime;

namespace Imbrek.PostgreSql.Store;

/// <summary>
/// A base backup as it lies in a store: <c>base.tar</c>, the log it needs in <c>pg_wal.tar</c> (either with <c>.gz</c>), and <c>backup_manifest</c>. Reading it checks every file
/// against the manifest and every record of its log, whether it is unpacked on the way or not: what was read back is what would be restored.
/// </summary>
internal sealed class PackedBackup(string folder, Segments segments)
{
    private const int Buffer = 1 << 17;
    private const UnixFileMode OwnFile = UnixFileMode.UserRead | UnixFileMode.UserWrite;
    private const UnixFileMode OwnFolder = OwnFile | UnixFileMode.UserExecute;

    /// <summary>What reading it found.</summary>
    /// <param name="Manifest">Its manifest.</param>
    /// <param name="LastCommit">The newest commit in its log before its end; null when there is none.</param>
    /// <param name="StoredBytes">Bytes read of the packed files.</param>
    public sealed record Contents(Manifest Manifest, Instant? LastCommit, long StoredBytes);

    /// <summary>Reads it wholly, and unpacks it into a data folder where one is named.</summary>
    /// <param name="into">The data folder; null to read it back only.</param>
    /// <param name="cancel">Stops it.</param>
    /// <exception cref="InvalidDataException">It is not whole; says which file.</exception>
    /// <exception cref="LogBrokenException">The log in it is not whole.</exception>
    /// <exception cref="IOException">It cannot be read, or there is no room.</exception>
    public async Task<Contents> ReadAsync(string? into, CancellationToken cancel)
    {
        var manifest = await Manifest.ReadAsync(Path.Combine(folder, "backup_manifest"), cancel);
        var missing = new HashSet<string>(manifest.Files.Keys);
        await EachAsync("base", async (entry, name) =>
        {
            if (name == "backup_manifest")
            {
                return;
            }

            if (!missing.Remove(name))
            {
                throw new InvalidDataException($"{name} is in the backup and not in its manifest");
            }

            var (size, sum) = manifest.Files[name];
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            var bytes = await TakeAsync(entry, into is null ? null : Inside(into, name), hash.AppendData, cancel);
            if (bytes != size || !string.Equals(Convert.ToHexString(hash.GetHashAndReset()), sum, StringComparison.OrdinalIgnoreCase))
            {
                throw new InvalidDataException($"{name} is not what its manifest says: {(bytes != size ? $"{bytes} bytes instead of {size}" : "its SHA-256 differs")}");
            }
        }, name =>
        {
            if (into is not null)
            {
                Directory.CreateDirectory(name.Length == 0 ? into : Inside(into, name), OwnFolder);
            }
        }, cancel);
        if (missing.Count > 0)
        {
            throw new InvalidDataException($"{missing.Order(StringComparer.Ordinal).First()} is missing{(missing.Count > 1 ? $", and {missing.Count - 1} more" : "")}");
        }

        var commit = await ReadLogAsync(manifest, into, cancel);
        return new Contents(manifest, commit, FolderStore.BytesOf(folder));
    }

    private async Task<Instant?> ReadLogAsync(Manifest manifest, string? into, CancellationToken cancel)
    {
        Instant? last = null;
        LogReader? reader = null;
        await EachAsync("pg_wal", async (entry, name) =>
        {
            Action<ReadOnlySpan<byte>> hear = _ => { };
            if (segments.Read(name) is { } file && file.Timeline == manifest.Timeline && file.Start < manifest.To)
            {
                if (reader is null || reader.Position != file.Start)
                {
                    reader = new LogReader(segments, file.Start)
                    {
                        OnCommit = c => last = c.Position < manifest.To && (last is null || c.At > last) ? c.At : last,
                    };
                }

                var within = reader;

                // Behind its end lies what another use of the file left.
                hear = bytes =>
                {
                    if (within.Position < manifest.To)
                    {
                        within.Feed(bytes[..(int)Math.Min(bytes.Length, manifest.To.Value - within.Position.Value)]);
                    }
                };
            }

            await TakeAsync(entry, into is null ? null : Inside(into, Path.Combine("pg_wal", name)), hear, cancel);
        }, name =>
        {
            if (into is not null)
            {
                Directory.CreateDirectory(Inside(into, Path.Combine("pg_wal", name)), OwnFolder);
            }
        }, cancel);
        return reader is not null && reader.Position >= manifest.To && reader.Last is { } record && record.End >= manifest.To
            ? last
            : throw new InvalidDataException($"the log it needs ends at {reader?.Last?.End.ToString() ?? "nothing"}, before {manifest.To}");
    }

    private async Task EachAsync(string name, Func<TarEntry, string, Task> file, Action<string> directory, CancellationToken cancel)
    {
        var packed = Path.Combine(folder, $"{name}.tar");
        var zipped = !File.Exists(packed);
        await using var stream = new FileStream(zipped ? $"{packed}.gz" : packed, FileMode.Open, FileAccess.Read, FileShare.Read, Buffer, true);
        await using var bytes = zipped ? (Stream)new GZipStream(stream, CompressionMode.Decompress) : stream;
        await using var tar = new TarReader(bytes);
        try
        {
            while (await tar.GetNextEntryAsync(copyData: false, cancel) is { } entry)
            {
                var path = entry.Name.StartsWith("./", StringComparison.Ordinal) ? entry.Name[2..] : entry.Name;
                path = path.TrimEnd('/');
                switch (entry.EntryType)
                {
                    case TarEntryType.Directory:
                        directory(path);
                        break;
                    case TarEntryType.RegularFile or TarEntryType.V7RegularFile:
                        await file(entry, path);
                        break;
                    default:
                        throw new InvalidDataException($"{path} is a {entry.EntryType}; tablespaces outside the data folder are not restored by this version");
                }
            }
        }
        catch (EndOfStreamException e)
        {
            throw new InvalidDataException($"{Path.GetFileName(stream.Name)} is cut off", e);
        }
    }

    /// <summary>A path inside a folder; one that leads out of it is refused.</summary>
    private static string Inside(string into, string name)
    {
        var path = Path.GetFullPath(Path.Combine(into, name));
        return path.StartsWith(into + Path.DirectorySeparatorChar, StringComparison.Ordinal) ? path : throw new InvalidDataException($"{name} leads out of the data folder");
    }

    private static async Task<long> TakeAsync(TarEntry entry, string? to, Action<ReadOnlySpan<byte>> hear, CancellationToken cancel)
    {
        FileStream? target = null;
        if (to is not null)
        {
            Directory.CreateDirectory(Path.GetDirectoryName(to)!, OwnFolder);
            target = new FileStream(to, new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write, UnixCreateMode = OwnFile, BufferSize = 0 });
        }

        var total = 0L;
        var buffer = System.Buffers.ArrayPool<byte>.Shared.Rent(Buffer);
        try
        {
            while (entry.DataStream is { } data && await data.ReadAsync(buffer, cancel) is > 0 and var n)
            {
                hear(buffer.AsSpan(0, n));
                total += n;
                if (target is not null)
                {
                    await target.WriteAsync(buffer.AsMemory(0, n), cancel);
                }
            }
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(buffer);
            if (target is not null)
            {
                await target.DisposeAsync();
            }
        }

        return total;
    }
}
