using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;

namespace Imbrek.Core.Recovery;

/// <summary>What a loss leaves of a database's way back: two losses that leave the same have the same figures, so that they are computed once; only why there is no path is said of each in its own words.</summary>
/// <param name="Stores">The stores of the catalogue that survive, a bit for each in its order.</param>
/// <param name="Host">The host it would be restored on.</param>
/// <param name="Replicas">For each replica, in the order of the file, the host it would run on; nothing where it does not count.</param>
/// <param name="UpToNow">Whether a replica offers the as-of instant itself, and not only what was before.</param>
/// <param name="ByItself">Whether a replica may take over by itself.</param>
public readonly record struct Survival(ulong Stores, Id<Host> Host, string Replicas, bool UpToNow, bool ByItself)
{
    private const int MostStores = 64;

    /// <summary>What is left; null where more decides than stores, host and replicas: locked copies, sets usable on some hosts alone, and where no host is left.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss, resolved to a thing.</param>
    public static Survival? Of(RecoverySubject subject, Loss loss)
    {
        var c = subject.Catalogue;
        if (loss.Kind == LossKind.Hostile || c.HasUsableOn || c.Stores.Count > MostStores
            || HostQualification.Default(subject.Fleet, subject.Database, loss) is not { } host)
        {
            return null;
        }

        var stores = 0UL;
        for (var i = 0; i < c.Stores.Count; i++)
        {
            stores |= loss.Spares(subject.Fleet.Stores[c.Stores[i]], subject.Fleet) ? 1UL << i : 0;
        }

        var replicas = subject.Replicas.Count == 0 ? "" : string.Join('|', subject.Replicas.Select(r => r.CountsUnder(loss) ? r.Replica.HostAfter(loss, subject.Fleet)!.Id.Value : ""));
        return new Survival(stores, host.Id, replicas, replicas.Length > 0 && loss.Kind != LossKind.None, replicas.Length > 0 && Voters.WouldAct(subject, loss));
    }
}
