using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.PostgreSql.Log;
using NodaTime;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Where recovery is to stop in log that was brought.</summary>
/// <param name="Next">The first commit that must not be in it; null where all of the log may.</param>
/// <param name="Last">The last whole record that was walked over.</param>
/// <param name="Timeline">The timeline it ends on.</param>
/// <param name="Trail">The number of the last commit of a trail before it; null where there is none.</param>
internal sealed record StopPoint(Commit? Next, Lsn Last, int Timeline, long? Trail)
{
    /// <summary>Commits of clients that commit at once may stand in the log in another order than their clocks say, by less than this.</summary>
    private static readonly Duration Disorder = Duration.FromSeconds(5);

    /// <summary>Finds it, by walking over as few of the sets as can tell.</summary>
    /// <exception cref="DriverException">A log is broken, and says which.</exception>
    public static async Task<StopPoint> FindAsync(
        IClusterBook book, Instance there, Id<Database> database, BackupSet restored, IReadOnlyList<SetCopy> logs, LogStop? stop, Segments segments, CancellationToken cancel)
    {
        BackupSet[] sets = [.. logs.Select(l => book.Set(database, l.Set)!)];

        // Whoever wants all that was received gets all of it: what a set covers to is told in whole milliseconds, and its last commit may lie within the one that has begun.
        stop = stop is { Before: null, At: var asked } && asked >= sets[^1].CoversTo ? null : stop;
        var first = stop switch
        {
            null => sets.Length - 1,
            { Before: { } before } => Math.Max(0, Array.FindLastIndex(sets, s => s.FromPosition <= before)),
            { At: var t } => Math.Max(0, Array.FindLastIndex(sets, s => s.CoversTo < t - Disorder)),
        };

        // Quiet time at the end of a file has no record of its own: the last whole one lies before it.
        for (; ; first--)
        {
            if (await WalkAsync(sets[first..]) is var found && (found.Next is not null || found.Last is not null || first == 0))
            {
                return new(found.Next, found.Last ?? new Lsn(restored.ToPosition), sets[^1].Branch, found.Trail);
            }
        }

        async Task<(Commit? Next, Lsn? Last, long? Trail)> WalkAsync(BackupSet[] over)
        {
            Commit? next = null;
            long? trail = null;
            var walk = new LogWalk(segments, c =>
            {
                if (c.Position.Value < restored.ToPosition || next is not null)
                {
                    return;
                }

                if (stop is { } s && (s.Before is { } before ? c.Position.Value >= before : c.At > s.At))
                {
                    next = c;
                }
                else if (Drivers.Trail.NumberOf(c.Name) is { } number)
                {
                    trail = number;
                }
            });
            (string Name, byte[] Content) file = ("", []);
            foreach (var (set, start) in over.SelectMany(s => segments.Over(new(s.FromPosition!.Value), new(s.ToPosition)).Select(at => (s, at))).TakeWhile(_ => next is null))
            {
                if (segments.NameOf(set.Branch, start) is var name && name != file.Name)
                {
                    file = (name, await File.ReadAllBytesAsync(Path.Combine(there.Log, name), cancel));
                }

                try
                {
                    walk.Take(set, start, file.Content);
                }
                catch (LogBrokenException e)
                {
                    throw new DriverException(DriverProblem.CopyDamaged, $"{set.Id}: {e.Message}", logs.First(l => l.Set == set.Id));
                }
            }

            return (next, walk.Last?.Position, trail);
        }
    }
}
