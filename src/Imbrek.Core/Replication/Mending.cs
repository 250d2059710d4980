using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>How a replica that cannot go on by itself is mended (section 7): by log, by a set left unopened and log, or anew.</summary>
public static class Mending
{
    /// <summary>The ways.</summary>
    public enum By
    {
        /// <summary>Log backups that lead from what it has applied to what its source still keeps.</summary>
        Log,

        /// <summary>A set restored and not opened, the log after it, then joined.</summary>
        Set,

        /// <summary>Seeded by a copy of the database.</summary>
        Anew,
    }

    /// <summary>A way, or why it is not possible.</summary>
    /// <param name="By">Which.</param>
    /// <param name="Seconds">Until it receives in step, seconds; null when it is not possible.</param>
    /// <param name="Sets">The sets it takes; null where it takes none.</param>
    /// <param name="WhyNot">Why it is not possible; null when it is.</param>
    public sealed record Way(By By, double? Seconds, RestorePath? Sets, string? WhyNot);

    /// <summary>All three ways, the fastest first and those that are not possible last.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="source">The replica.</param>
    /// <param name="at">When it would begin.</param>
    public static IReadOnlyList<Way> Of(RecoverySubject subject, ReplicaSource source, Instant at)
    {
        var (bySet, anew) = (Seeding.ByBackup(subject, source.Replica, at, out var whyNoSet), Seeding.ByCopy(subject, source.Replica, at, out var whyNoCopy));
        Way[] ways = [ByLog(subject, source, at), new(By.Set, bySet?.Seconds, bySet?.Path, whyNoSet), new(By.Anew, anew?.Seconds, null, whyNoCopy)];
        return [.. ways.OrderBy(w => w.Seconds is null).ThenBy(w => w.Seconds)];
    }

    private static Way ByLog(RecoverySubject subject, ReplicaSource source, Instant at)
    {
        var replica = source.Replica;
        if (source.At(at) is not { } known)
        {
            return No("nothing of it is known");
        }

        if (source.WhyItCannotFollow(at) is { } left)
        {
            return No(left);
        }

        if (replica.Place is not ReplicaPlace.OnHost { Host: var host })
        {
            return No("blocks on an array take no log");
        }

        // What its source still keeps begins before it, or log leads there.
        var reached = known.AppliedTo;
        RestorePath? path = null;
        if (!Kept(reached))
        {
            path = PathFinder.Onwards(subject, at, subject.Fleet.Hosts[host], known.Branch, known.AppliedTo);
            if (path is null)
            {
                return No($"no log backup that can be read at {host} goes on from {Formats.Instants.Write(known.AppliedTo)}");
            }

            reached = path.Reaches;
        }

        return Seeding.CatchUp(subject, replica, at, path?.Seconds ?? 0, (reached - at).TotalSeconds, path, out var why) is { } way
            ? new Way(By.Log, way.Seconds, path, null)
            : No(path is null ? why! : $"log backups lead to {Formats.Instants.Write(reached)}; from there {why}");

        bool Kept(Instant from) => new KeptLog(subject.Database, replica, LogFlow.Of(subject.Database)).Spans(at, (from - at).TotalSeconds, 0);

        static Way No(string why) => new(By.Log, null, null, why);
    }
}
