using Imbrek.Core.Catalogue;
using Imbrek.PostgreSql.Store;

namespace Imbrek.PostgreSql.Log;

/// <summary>Reads the log of sets in their order, file after file: sets part files, and files part sets; what was read is not read again.</summary>
/// <param name="segments">How the log is cut into files.</param>
/// <param name="onCommit">Told of each commit.</param>
internal sealed class LogWalk(Segments segments, Action<Commit>? onCommit = null)
{
    private LogReader? reader;
    private int timeline;

    /// <summary>The last whole record; null before the first.</summary>
    public LogRecord? Last => reader?.Last;

    /// <summary>Up to where was read; null before the first file.</summary>
    public Lsn? Position => reader?.Position;

    /// <summary>Reads sets as they lie in a store, in their order, each file once.</summary>
    /// <exception cref="LogBrokenException">It is not what the engine writes.</exception>
    /// <exception cref="IOException">A file is missing, or cannot be read.</exception>
    public static void Over(FolderStore store, string cluster, IEnumerable<BackupSet> sets, Action<Commit> onCommit, CancellationToken cancel)
    {
        var walk = new LogWalk(store.LogSegments(cluster), onCommit);
        (string File, byte[] Content) last = ("", []);
        foreach (var set in sets)
        {
            foreach (var (file, start) in store.LogFiles(cluster, set))
            {
                cancel.ThrowIfCancellationRequested();
                if (last.File != file)
                {
                    last = (file, File.ReadAllBytes(file));
                }

                walk.Take(set, start, last.Content);
            }
        }
    }

    /// <summary>Reads what a file adds of a set.</summary>
    /// <param name="set">The set.</param>
    /// <param name="start">The first position of the file.</param>
    /// <param name="content">What is in the file; one still written may be shorter than the others.</param>
    /// <exception cref="LogBrokenException">It is not what the engine writes.</exception>
    public void Take(BackupSet set, Lsn start, ReadOnlySpan<byte> content)
    {
        if (reader is null || set.Branch != timeline || start > reader.Position)
        {
            (timeline, reader) = (set.Branch, new LogReader(segments, start) { OnCommit = onCommit });
        }

        var (from, upTo) = (reader.Position.Value, Math.Min(set.ToPosition, start.Value + Math.Min(segments.Bytes, content.Length)));
        if (upTo > from)
        {
            reader.Feed(content[(int)(from - start.Value)..(int)(upTo - start.Value)]);
        }
    }
}
