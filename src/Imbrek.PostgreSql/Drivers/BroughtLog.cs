using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Log that is brought from stores to an engine here, which asks for it file by file.</summary>
internal static class BroughtLog
{
    /// <summary>Brings log to an instance, reading back what is brought.</summary>
    /// <param name="book">Where sets and stores are looked up.</param>
    /// <param name="there">The instance.</param>
    /// <param name="database">Whose log it is.</param>
    /// <param name="logs">The copies of it.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <param name="wholeAlone">Whether only whole files are brought: an engine that goes on receiving must not be given the beginning of one in place of what it received.</param>
    /// <returns>How the log is cut, and the bytes brought.</returns>
    /// <exception cref="DriverException">A copy is out of reach or damaged, or there is no room.</exception>
    public static async Task<(Segments Segments, long Bytes)> BringAsync(IClusterBook book, Instance there, Id<Database> database, IReadOnlyList<SetCopy> logs, CancellationToken cancel, bool wholeAlone = false)
    {
        Directory.CreateDirectory(there.Log);
        Segments segments = default;
        var (bytes, brought) = (0L, new HashSet<string>());
        foreach (var copy in logs)
        {
            var (set, store) = (book.Set(database, copy.Set) ?? throw new DriverException(DriverProblem.CopyUnreachable, $"{copy.Set} is not known any more", copy), book.Store(copy.Store));
            try
            {
                segments = store.LogSegments(database.Value);
                foreach (var (file, start) in store.LogFiles(database.Value, set))
                {
                    if ((wholeAlone && !FolderStore.IsWhole(file)) || !brought.Add(segments.NameOf(set.Branch, start)))
                    {
                        continue;
                    }

                    if (FolderStore.IsWhole(file))
                    {
                        await FolderStore.VerifySegmentAsync(file, start, cancel);
                    }

                    var content = await PostgreSqlBackupDriver.ReadAsync(file, cancel);
                    bytes += content.Length;
                    Array.Resize(ref content, segments.Bytes);
                    await File.WriteAllBytesAsync(Path.Combine(there.Log, segments.NameOf(set.Branch, start)), content, cancel);
                }

                foreach (var history in Directory.EnumerateFiles(store.Log(database.Value), "*.history"))
                {
                    File.Copy(history, Path.Combine(there.Log, Path.GetFileName(history)), overwrite: true);
                }
            }
            catch (LogBrokenException e)
            {
                throw new DriverException(DriverProblem.CopyDamaged, $"{copy.Set} in {copy.Store} is damaged: {e.Message}", copy);
            }
            catch (Exception e) when (e is FileNotFoundException or DirectoryNotFoundException || e is DriverException { Problem: DriverProblem.Unreachable, Copy: null })
            {
                throw new DriverException(DriverProblem.CopyUnreachable, $"{copy.Set}: {e.Message}", copy);
            }
            catch (IOException e)
            {
                throw new DriverException(e.Message.Contains("No space", StringComparison.Ordinal) ? DriverProblem.NoRoom : DriverProblem.Unreachable, e.Message);
            }
        }

        return (segments, bytes);
    }
}
