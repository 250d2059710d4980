using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;

namespace Imbrek.Core.Recovery;

/// <summary>What a loss leaves of a database's way back: two losses that leave the same have the same figures, so that they are computed once; only why there is no path is said of each in its own words.</summary>
/// <param name="Stores">The stores of the catalogue that survive, a bit for each in its order.</param>
/// <param name="Host">The host it would be restored on.</param>
public readonly record struct Survival(ulong Stores, Id<Host> Host)
{
    private const int MostStores = 64;

    /// <summary>What is left; null where more than stores and host decides: locked copies, sets usable on some hosts alone, sources other than sets, and where no host is left.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss, resolved to a thing.</param>
    public static Survival? Of(RecoverySubject subject, Loss loss)
    {
        var c = subject.Catalogue;
        if (loss.Kind == LossKind.Hostile || subject.FurtherSources.Count > 0 || c.HasUsableOn || c.Stores.Count > MostStores
            || HostQualification.Default(subject.Fleet, subject.Database, loss) is not { } host)
        {
            return null;
        }

        var stores = 0UL;
        for (var i = 0; i < c.Stores.Count; i++)
        {
            stores |= loss.Spares(subject.Fleet.Stores[c.Stores[i]], subject.Fleet) ? 1UL << i : 0;
        }

        return new Survival(stores, host.Id);
    }
}
