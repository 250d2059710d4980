using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Log;

namespace Imbrek.PostgreSql.Store;

/// <summary>The manifest of a base backup: every file with its size and SHA-256, and the log that belongs to it.</summary>
internal sealed class Manifest
{
    private const long MostBytes = 512L << 20;

    private Manifest(IReadOnlyDictionary<string, (long Size, string Sum)> files, int timeline, Lsn from, Lsn to) => (Files, Timeline, From, To) = (files, timeline, from, to);

    /// <summary>The files, by their paths within the data folder.</summary>
    public IReadOnlyDictionary<string, (long Size, string Sum)> Files { get; }

    /// <summary>The timeline it was taken on.</summary>
    public int Timeline { get; }

    /// <summary>From where log is needed.</summary>
    public Lsn From { get; }

    /// <summary>Up to where log is needed: before that it is not consistent.</summary>
    public Lsn To { get; }

    /// <summary>Bytes of all files.</summary>
    public long Bytes => Files.Values.Sum(f => f.Size);

    /// <summary>Reads one, and checks it against its own checksum.</summary>
    /// <exception cref="InvalidDataException">It is not whole.</exception>
    public static async Task<Manifest> ReadAsync(string file, CancellationToken cancel)
    {
        if (!File.Exists(file) || new FileInfo(file).Length > MostBytes)
        {
            throw new InvalidDataException("the manifest is missing, or too large to be one");
        }

        var bytes = await File.ReadAllBytesAsync(file, cancel);
        var last = bytes.AsSpan().LastIndexOf("\"Manifest-Checksum\""u8);
        if (last < 0)
        {
            throw new InvalidDataException("the manifest has no checksum of its own");
        }

        try
        {
            using var read = JsonDocument.Parse(bytes);
            var root = read.RootElement;
            if (!string.Equals(root.GetProperty("Manifest-Checksum").GetString(), Convert.ToHexString(SHA256.HashData(bytes.AsSpan(0, last))), StringComparison.OrdinalIgnoreCase))
            {
                throw new InvalidDataException("the bytes of the manifest are not those that were written");
            }

            var files = new Dictionary<string, (long, string)>();
            foreach (var f in root.GetProperty("Files").EnumerateArray())
            {
                if (f.GetProperty("Checksum-Algorithm").GetString() != "SHA256")
                {
                    throw new InvalidDataException("a file of the manifest has no SHA-256");
                }

                var path = f.TryGetProperty("Path", out var plain) ? plain.GetString()! : Encoding.Latin1.GetString(Convert.FromHexString(f.GetProperty("Encoded-Path").GetString()!));
                files[path] = (f.GetProperty("Size").GetInt64(), f.GetProperty("Checksum").GetString()!);
            }

            var ranges = root.GetProperty("WAL-Ranges").EnumerateArray().ToArray();
            return new Manifest(files, ranges[0].GetProperty("Timeline").GetInt32(), Lsn.Parse(ranges[^1].GetProperty("Start-LSN").GetString()!), Lsn.Parse(ranges[0].GetProperty("End-LSN").GetString()!));
        }
        catch (Exception e) when (e is JsonException or KeyNotFoundException or InvalidOperationException or FormatException or IndexOutOfRangeException)
        {
            throw new InvalidDataException($"the manifest cannot be read: {e.Message}", e);
        }
    }
}
