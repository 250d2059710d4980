using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.PostgreSql.Log;
using NodaTime;

namespace Imbrek.PostgreSql.Store;

/// <summary>What is kept beside a full, so that a call that is made again finds what it did.</summary>
/// <param name="Run">The run that took it.</param>
/// <param name="Set">Its name.</param>
/// <param name="Timeline">The timeline it was taken on.</param>
/// <param name="Position">The position of the log that it ends at.</param>
/// <param name="CoversTo">The instant it is as of.</param>
/// <param name="LastCommitTicks">The newest commit in it, ticks of the Unix epoch.</param>
/// <param name="FinishedAt">When it was there.</param>
/// <param name="DataBytes">Bytes of the cluster.</param>
/// <param name="StoredBytes">Bytes of its files.</param>
/// <param name="Seconds">Seconds it took.</param>
/// <param name="SegmentBytes">How the log is cut.</param>
internal sealed record FullNote(Guid Run, string Set, int Timeline, long Position, string CoversTo, long LastCommitTicks, string FinishedAt, long DataBytes, long StoredBytes, double Seconds, int SegmentBytes) : IWholeNote
{
    private const string FileName = "set.json";

    /// <inheritdoc/>
    public SetKind Kind => SetKind.Full;

    /// <summary>What stands in a folder; null where nothing does, or it cannot be read.</summary>
    public static FullNote? In(string folder)
    {
        var file = Path.Combine(folder, FileName);
        try
        {
            return File.Exists(file) ? JsonSerializer.Deserialize<FullNote>(File.ReadAllBytes(file)) : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>The newest commit that is in a full whatever it is stopped at.</summary>
    public static Instant LastCommitIn(string folder) => In(folder) is { } note ? Instant.FromUnixTimeTicks(note.LastCommitTicks) : Instant.MinValue;

    /// <summary>How the log in a full is cut.</summary>
    /// <exception cref="InvalidDataException">Nothing beside it says so.</exception>
    public static Segments SegmentsOf(string folder) => new(In(folder)?.SegmentBytes ?? throw new InvalidDataException($"{Path.GetFileName(folder)} is not there, or has lost what was written beside it"));

    /// <inheritdoc/>
    public Task WriteAsync(string folder, CancellationToken cancel) => FolderStore.WriteWholeAsync(Path.Combine(folder, FileName), JsonSerializer.SerializeToUtf8Bytes(this), cancel);
}
