using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>How long it takes to seed a replica and have it catch up (section 7): from backups and log, or by copying the database.</summary>
public static class Seeding
{
    /// <summary>A way to seed.</summary>
    /// <param name="ByBackup">Whether from backup sets; otherwise by copying the database.</param>
    /// <param name="Seconds">Until it receives in step, seconds.</param>
    /// <param name="Path">The sets restored and left unopened; null for a copy.</param>
    public sealed record Way(bool ByBackup, double Seconds, RestorePath? Path);

    /// <summary>The faster way, of equals from backups; null when neither ends or the log rate is not stated.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="at">When it would begin.</param>
    public static Way? Fastest(RecoverySubject subject, Replica replica, Instant at) => Fastest(subject, replica, at, out _);

    /// <summary>The same, with why neither way is possible.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="at">When it would begin.</param>
    /// <param name="why">Why neither is possible, when the answer is null.</param>
    public static Way? Fastest(RecoverySubject subject, Replica replica, Instant at, out string? why)
    {
        var (backup, copy) = (ByBackup(subject, replica, at, out var noBackup), ByCopy(subject, replica, at, out var noCopy));
        var way = copy is null || backup?.Seconds <= copy.Seconds ? backup : copy;
        why = way is null ? $"from backups: {noBackup}; by a copy: {noCopy}" : null;
        return way;
    }

    /// <summary>From backups: the best path to its host, whether that qualifies or not, to a state that log can be applied to, not opened.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="at">When it would begin.</param>
    /// <param name="why">Why it is not possible, when the answer is null.</param>
    public static Way? ByBackup(RecoverySubject subject, Replica replica, Instant at, out string? why)
    {
        if (replica.Place is not ReplicaPlace.OnHost { Host: var host })
        {
            why = "blocks on an array cannot be restored from sets";
            return null;
        }

        if (PathFinder.Unopened(subject, at, subject.Fleet.Hosts[host]) is not { } path)
        {
            why = $"no set that log can be applied to can be read at {host}";
            return null;
        }

        return CatchUp(subject, replica, at, path.Seconds - path.OpenSeconds, (path.Reaches - at).TotalSeconds, path, out why);
    }

    /// <summary>By copying the database over the link.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="at">When it would begin.</param>
    /// <param name="why">Why it is not possible, when the answer is null.</param>
    public static Way? ByCopy(RecoverySubject subject, Replica replica, Instant at, out string? why)
    {
        var rate = CopyRate(subject.Fleet, subject.Database, replica);
        if (rate <= 0)
        {
            why = "there is no link between the two sites";
            return null;
        }

        return CatchUp(subject, replica, at, subject.Database.SizeBytes / rate, 0, null, out why);
    }

    /// <summary>How fast a database can be copied to a replica, bytes per second: the least of link, engine and, but for an array, the host's disks; 0 without a link.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="replica">The replica.</param>
    public static double CopyRate(FleetModel fleet, Database database, Replica replica)
    {
        var rate = Math.Min(replica.ReceiveRateIn(fleet), fleet.Engines[database.Engine].RestoreBytesPerSecond);
        return replica.Place is ReplicaPlace.OnHost { Host: var host } ? Math.Min(rate, fleet.Hosts[host].WriteBytesPerSecond) : rate;
    }

    /// <summary>What came while it was seeded is caught up with, as long as the source keeps it.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="at">When it begins.</param>
    /// <param name="takes">How long the seed itself takes, seconds.</param>
    /// <param name="reaches">What instant it reaches, seconds after <paramref name="at"/>; not above 0.</param>
    /// <param name="path">The sets it is made of.</param>
    /// <param name="why">Why it does not end, when the answer is null.</param>
    internal static Way? CatchUp(RecoverySubject subject, Replica replica, Instant at, double takes, double reaches, RestorePath? path, out string? why)
    {
        var flow = LogFlow.Of(subject.Database);
        if (flow is null)
        {
            why = "its log rate is not stated";
            return null;
        }

        if (!new KeptLog(subject.Database, replica, flow).Spans(at, reaches, takes))
        {
            why = "more log comes meanwhile than its source keeps";
            return null;
        }

        var rate = Math.Min(replica.ReceiveRateIn(subject.Fleet), replica.ApplyRateIn(subject.Fleet));
        if (flow.CatchUp(at, takes, flow.Between(at, reaches, takes), rate) is not { } then)
        {
            why = "it would not catch up within 30 days";
            return null;
        }

        why = null;
        return new Way(path is not null, takes + then, path);
    }
}
