using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>Who decides, after a loss, that a replica takes over by itself (section 7).</summary>
public static class Voters
{
    /// <summary>The voters of a group that are left after a loss.</summary>
    public static int AliveAfter(ReplicaGroup group, Loss loss, FleetModel fleet) => group.Voters.Count(h => loss.Spares(fleet.Hosts[h]));

    /// <summary>Whether those left after a loss are a majority of all; none of no voters.</summary>
    public static bool HaveMajorityAfter(ReplicaGroup group, Loss loss, FleetModel fleet) => group.Voters.Count > 0 && AliveAfter(group, loss, fleet) >= (group.Voters.Count / 2) + 1;

    /// <summary>Whether a loss takes the primary, and a majority of voters is left to have a replica take over.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss, resolved.</param>
    internal static bool WouldAct(RecoverySubject subject, Loss loss) =>
        loss.Kind is LossKind.Host or LossKind.Array or LossKind.Site && !loss.Spares(subject.Fleet.Hosts[subject.Database.Host])
        && subject.Fleet.GroupOf(subject.Database.Id) is { } group && HaveMajorityAfter(group, loss, subject.Fleet);

    /// <summary>The replica that would take over by itself at an instant under a loss; null when none would.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss, resolved.</param>
    /// <param name="at">The as-of instant.</param>
    public static ReplicaSource? WhoTakesOverByItself(RecoverySubject subject, Loss loss, Instant at)
    {
        if (!WouldAct(subject, loss))
        {
            return null;
        }

        return subject.Replicas.Where(r => r.Replica is { TakesOver: TakesOver.ByItself, LosesNothing: true }
                && r.At(at) is { Covers: true, ReceivedLag: 0 } && r.IntervalAt(loss, at) is not null && r.WhyItCannotFollow(at) is null)
            .MinBy(r => r.Replica.Priority);
    }
}
