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

    /// <summary>The rate of the slowest resource between a host and a store, bytes per second; 0 when no link leads there.</summary>
    public static double Slowest(FleetModel fleet, Id<Host> host, Id<Store> store)
    {
        var (h, s) = (fleet.Hosts[host], fleet.Stores[store]);
        return Math.Min(Math.Min(h.WriteBytesPerSecond, Rate(s)), OfLink(fleet, h.Site, s.Site));
    }

    /// <summary>The same between two stores, where the second writes.</summary>
    public static double Slowest(FleetModel fleet, Id<Store> from, Id<Store> to)
    {
        var (a, b) = (fleet.Stores[from], fleet.Stores[to]);
        return Math.Min(Math.Min(Rate(a), b.WriteBytesPerSecond), OfLink(fleet, a.Site, b.Site));
    }

    private static double Rate(Store store) => Math.Max(store.ReadBytesPerSecond, store.WriteBytesPerSecond);

    private static double OfLink(FleetModel fleet, Id<Site> one, Id<Site> other) =>
        one == other ? double.PositiveInfinity : fleet.LinkBetween(one, other)?.BytesPerSecond ?? 0;

    private static string[]? Way(FleetModel fleet, string one, Id<Site> oneSite, string other, Id<Site> otherSite) =>
        oneSite == otherSite ? [one, other]
        : fleet.LinkBetween(oneSite, otherSite) is null ? null
        : [one, other, Of(oneSite, otherSite)];
}
