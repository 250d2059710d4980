using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Plans;

/// <summary>When a store will be full: what lies in it, and what came and what was removed in the last days, carried on.</summary>
internal static class StoreForecast
{
    private static readonly Duration Look = Duration.FromDays(14);

    /// <summary>Bytes that lie in a store.</summary>
    public static double Stored(Id<Store> store, FleetState state, Instant at) => Sum(store, state, at.ToUnixTimeMilliseconds());

    /// <summary>The day a store will be full if it goes on like the last two weeks; null when it will not be within a year, or nothing is said of its size.</summary>
    public static Instant? FullOn(Store store, FleetState state, Instant now)
    {
        if (store.CapacityBytes is not { } capacity)
        {
            return null;
        }

        var (then, today) = (Stored(store.Id, state, now - Look), Stored(store.Id, state, now));
        if (today >= capacity)
        {
            return now;
        }

        var perDay = (today - then) / Look.TotalDays;
        var days = perDay > 0 ? (capacity - today) / perDay : double.PositiveInfinity;
        return days <= 365 ? now + Duration.FromDays(days) : null;
    }

    private static double Sum(Id<Store> store, FleetState state, long at)
    {
        var total = 0.0;
        foreach (var d in state.Fleet.Databases)
        {
            total += state[d.Id].Subject.Catalogue.StoredIn(store, at);
        }

        return total;
    }
}
