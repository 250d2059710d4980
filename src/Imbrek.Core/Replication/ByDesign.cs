using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>What a replica comes to when all goes well (section 7): what may be lost, how old what is read there may be, what a commit waits.</summary>
public static class ByDesign
{
    /// <summary>What may be lost when all goes well, seconds; null when it never keeps up, there is no link, or the log rate is not stated.</summary>
    public static double? LossSeconds(FleetModel fleet, Replica replica)
    {
        var link = replica.LinkIn(fleet, out var apart);
        if (apart && link is null)
        {
            return null;
        }

        var own = replica.LosesNothing ? 0
            : replica.Stages is { } stages ? stages.Backup.AtWorstSeconds + stages.Copy.AtWorstSeconds
            : TransferSeconds(fleet, replica, link, replica.ReceiveRateIn(fleet));
        return own + FeederSeconds(fleet, replica);
    }

    /// <summary>How old what is read there may be when all goes well, seconds; null as for <see cref="LossSeconds"/>.</summary>
    public static double? ReadSeconds(FleetModel fleet, Replica replica)
    {
        if (replica.Stages is { } stages)
        {
            return LossSeconds(fleet, replica) + stages.Apply.AtWorstSeconds;
        }

        var link = replica.LinkIn(fleet, out var apart);
        return apart && link is null
            ? null
            : TransferSeconds(fleet, replica, link, Math.Min(replica.ReceiveRateIn(fleet), replica.ApplyRateIn(fleet))) + replica.DelaySeconds + FeederSeconds(fleet, replica);
    }

    /// <summary>What a commit waits for it at least, milliseconds; null when it waits and there is no link.</summary>
    public static double? WaitMs(FleetModel fleet, Replica replica)
    {
        if (!replica.LosesNothing && replica.Mode != ReplicaMode.Burst)
        {
            return 0;
        }

        var link = replica.LinkIn(fleet, out var apart);
        return !apart ? 0 : link is null ? null : link.RoundTripMs ?? 0;
    }

    /// <summary>The lag its replicas will have all week: one stretch each, where both figures are known.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="from">Where the week begins.</param>
    /// <param name="to">Where it ends.</param>
    public static IReadOnlyList<LagHistory> Lag(FleetModel fleet, Database database, Instant from, Instant to)
    {
        var busiest = LogFlow.Of(database)?.Busiest ?? 0;
        var histories = new List<LagHistory>();
        foreach (var replica in fleet.ReplicasOf(database.Id))
        {
            if (LossSeconds(fleet, replica) is { } received && ReadSeconds(fleet, replica) is { } applied)
            {
                var (first, second) = (Duration.FromMilliseconds(ReplicaSource.Milliseconds(received)), Duration.FromMilliseconds(ReplicaSource.Milliseconds(applied)));
                var branch = ReplicaSource.LiveBranchOf(database, from);
                histories.Add(new LagHistory(replica.Id, [new LagStretch(replica.Id, branch, from, to, first, second, second, (long)(busiest * (applied - received)), null)]));
            }
        }

        return histories;
    }

    /// <summary>Half a round trip, and the longest that log waits on its way at a rate.</summary>
    private static double? TransferSeconds(FleetModel fleet, Replica replica, Link? link, double rate) =>
        ((link?.RoundTripMs ?? 0) / 2000) + (LogFlow.Of(fleet.DatabaseById[replica.Database])?.LongestQueue(rate) / rate);

    private static double? FeederSeconds(FleetModel fleet, Replica replica) => replica.From is { } feeder ? LossSeconds(fleet, fleet.Replicas[feeder]) : 0;
}
