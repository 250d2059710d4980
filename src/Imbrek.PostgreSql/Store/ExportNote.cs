using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.PostgreSql.Cluster;

namespace Imbrek.PostgreSql.Store;

/// <summary>
/// What is known of an export as it lies in a store: the databases in it, the instant of each one's snapshot, and every file with its size and SHA-256. It stands beside them with a checksum of its own, so that what was
/// read back is what would be loaded.
/// </summary>
/// <param name="Run">The run that took it.</param>
/// <param name="Set">Its name.</param>
/// <param name="Timeline">The timeline it was taken on.</param>
/// <param name="Position">The position of the log at the first of its snapshots.</param>
/// <param name="CoversTo">The instant it is as of.</param>
/// <param name="FinishedAt">When it was there.</param>
/// <param name="DataBytes">Bytes of the databases.</param>
/// <param name="Seconds">Seconds it took.</param>
/// <param name="Cluster">How the cluster was made.</param>
/// <param name="Databases">The databases in it.</param>
/// <param name="Files">Its files, by their paths within its folder.</param>
internal sealed record ExportNote(
    Guid Run, string Set, int Timeline, long Position, string CoversTo, string FinishedAt, long DataBytes, double Seconds, MadeWith Cluster, IReadOnlyList<ExportNote.One> Databases, IReadOnlyDictionary<string, ExportNote.Piece> Files) : IWholeNote
{
    /// <summary>The roles of the cluster with their rights, as statements.</summary>
    public const string Roles = "roles.sql";

    /// <summary>The settings of the cluster that its files or its administrators made, for people to read.</summary>
    public const string Settings = "settings.conf";

    private const string FileName = "export.json", Sum = ".sha256";

    /// <summary>A database in it.</summary>
    /// <param name="Name">Its name.</param>
    /// <param name="Folder">Where it lies.</param>
    /// <param name="Relations">How many tables, indexes, views and sequences of its own it had.</param>
    /// <param name="Trail">The number of the last commit of its trail; null where it has none.</param>
    public sealed record One(string Name, string Folder, long Relations, long? Trail);

    /// <summary>A file of it.</summary>
    public sealed record Piece(long Bytes, string Sha256);

    /// <inheritdoc/>
    public SetKind Kind => SetKind.Export;

    /// <inheritdoc/>
    public long StoredBytes => Files.Values.Sum(f => f.Bytes);

    /// <summary>Reads every file in a folder, apart from what is written here.</summary>
    public static async Task<IReadOnlyDictionary<string, Piece>> FilesIn(string folder, CancellationToken cancel)
    {
        var files = new SortedDictionary<string, Piece>(StringComparer.Ordinal);
        foreach (var file in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories))
        {
            var name = Path.GetRelativePath(folder, file);
            if (name is not (FileName or FileName + Sum or "fence"))
            {
                await using var stream = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.Read, 1 << 17, true);
                files[name] = new(stream.Length, Convert.ToHexStringLower(await SHA256.HashDataAsync(stream, cancel)));
            }
        }

        return files;
    }

    /// <summary>What stands in a folder; null where nothing does, or it cannot be read.</summary>
    public static ExportNote? In(string folder)
    {
        try
        {
            return File.Exists(Path.Combine(folder, FileName)) ? Of(folder) : null;
        }
        catch (InvalidDataException)
        {
            return null;
        }
    }

    /// <inheritdoc/>
    public async Task WriteAsync(string folder, CancellationToken cancel)
    {
        var bytes = JsonSerializer.SerializeToUtf8Bytes(this);
        await FolderStore.WriteWholeAsync(Path.Combine(folder, FileName + Sum), Encoding.ASCII.GetBytes(Convert.ToHexStringLower(SHA256.HashData(bytes))), cancel);
        await FolderStore.WriteWholeAsync(Path.Combine(folder, FileName), bytes, cancel);
    }

    /// <summary>Reads all of an export back.</summary>
    /// <exception cref="InvalidDataException">It is not whole; says which file.</exception>
    public static async Task<ExportNote> ReadAsync(string folder, CancellationToken cancel)
    {
        var note = Of(folder);
        var there = await FilesIn(folder, cancel);
        foreach (var (name, file) in note.Files)
        {
            if (!there.TryGetValue(name, out var found))
            {
                throw new InvalidDataException($"{name} is missing");
            }

            if (found != file)
            {
                throw new InvalidDataException($"{name} is not what was written: {(found.Bytes != file.Bytes ? $"{found.Bytes} bytes instead of {file.Bytes}" : "its SHA-256 differs")}");
            }
        }

        return there.Keys.FirstOrDefault(k => !note.Files.ContainsKey(k)) is { } strange ? throw new InvalidDataException($"{strange} lies in it and was not written with it") : note;
    }

    /// <exception cref="InvalidDataException">It is not what was written.</exception>
    private static ExportNote Of(string folder)
    {
        try
        {
            var bytes = File.ReadAllBytes(Path.Combine(folder, FileName));
            return Convert.ToHexStringLower(SHA256.HashData(bytes)) == File.ReadAllText(Path.Combine(folder, FileName + Sum)).Trim() && JsonSerializer.Deserialize<ExportNote>(bytes) is { } note
                ? note
                : throw new InvalidDataException($"{FileName} is not what was written beside the files");
        }
        catch (Exception e) when (e is JsonException or FileNotFoundException or DirectoryNotFoundException)
        {
            throw new InvalidDataException($"{FileName} is missing, or cannot be read: {e.Message}", e);
        }
    }
}
