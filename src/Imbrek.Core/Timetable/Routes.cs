using Imbrek.Core.Fleet;

namespace Imbrek.Core.Timetable;

/// <summary>The resources that bytes use on their way, by the names that <see cref="FairShare"/> knows them by.</summary>
public static class Routes
{
    /// <summary>A host's name as a resource.</summary>
    public static string Of(Id<Host> host) => "host " + host;

    /// <summary>A store's name as a resource.</summary>
    public static string Of(Id<Store> store) => "store " + store;

    /// <summary>A link's name as a resource, the same from both ends.</summary>
    public static string Of(Id<Site> one, Id<Site> other) =>
        string.CompareOrdinal(one.Value, other.Value) < 0 ? $"link {one}|{other}" : $"link {other}|{one}";

    /// <summary>Gives a network the bandwidth of every host, store and link of a fleet.</summary>
    public static void SetCapacities(FairShare network, FleetModel fleet)
    {
        foreach (var s in fleet.StoreList)
        {
            network.SetCapacity(Of(s.Id), Math.Max(s.ReadBytesPerSecond, s.WriteBytesPerSecond));
        }

        foreach (var h in fleet.HostList)
        {
            network.SetCapacity(Of(h.Id), h.WriteBytesPerSecond);
        }

        foreach (var l in fleet.Links)
        {
            network.SetCapacity(Of(l.One, l.Other), l.BytesPerSecond);
        }
    }

    /// <summary>From a host to a store, or back; null when no link leads there.</summary>
    public static IReadOnlyList<string>? Between(FleetModel fleet, Id<Host> host, Id<Store> store) =>
        Way(fleet, Of(host), fleet.Hosts[host].Site, Of(store), fleet.Stores[store].Site);

    /// <summary>From a store to another; null when no link leads there.</summary>
    public static IReadOnlyList<string>? Between(FleetModel fleet, Id<Store> from, Id<Store> to) =>
        Way(fleet, Of(from), fleet.Stores[from].Site, Of(to), fleet.Stores[to].Site);

    private static string[]? Way(FleetModel fleet, string one, Id<Site> oneSite, string other, Id<Site> otherSite) =>
        oneSite == otherSite ? [one, other]
        : fleet.LinkBetween(oneSite, otherSite) is null ? null
        : [one, other, Of(oneSite, otherSite)];
}
