using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Database;

/// <summary>What a set that is taken outside the chain would be, whoever asks for it.</summary>
internal static class AdHocPlanning
{
    /// <summary>What would be taken, or why it cannot be.</summary>
    /// <param name="d">The database.</param>
    /// <param name="request">What is asked for.</param>
    /// <param name="fleet">The fleet.</param>
    /// <param name="drivers">The drivers of this installation.</param>
    /// <param name="word">What its name says it was taken for.</param>
    public static (TakeSpec? Take, BadInputException? Why) Of(Core.Fleet.Database d, AdHocEndpoints.AdHocRequest request, FleetModel fleet, Drivers drivers, string word = "now")
    {
        var engine = fleet.Engines[d.Engine];
        if (request.Kind == SetKind.Log || !engine.CanTake(request.Kind))
        {
            return (null, new("kind", request.Kind == SetKind.Log ? "log is taken by plans: outside the chain it would be a hole in it" : $"{engine.Name} takes no {request.Kind.ToString().ToLowerInvariant()}"));
        }

        if (!fleet.Stores.TryGetValue(new(request.Store ?? ""), out var store))
        {
            return (null, new("store", $"there is no store '{InputBounds.Quote(request.Store ?? "")}'"));
        }

        if (Routes.Slowest(fleet, d.Host, store.Id) <= 0)
        {
            return (null, new("store", $"nothing leads from {d.Host} to {store.Id}", 409, "no-link"));
        }

        if (request.Key is { Length: > 0 } key && (InputBounds.WhatIsWrong(key, InputBounds.Name) is not null || fleet.Hosts[d.Host].HasKey(key) == false))
        {
            return (null, new("key", $"key '{InputBounds.Quote(key)}' is not on {d.Host}", 409, "no-key"));
        }

        if (request.Why is { } why && InputBounds.WhatIsWrong(why, InputBounds.Reason) is { } wrong)
        {
            return (null, new("why", wrong));
        }

        if (drivers.TryFor(d) is null)
        {
            return (null, new("database", Drivers.WhyNone(d), 409, "no-driver"));
        }

        return (new(d.Id.Value, request.Kind, store.Id.Value, request.Compression ?? Compression.Light, string.IsNullOrEmpty(request.Key) ? null : request.Key, $"{{database}}-{word}-{{kind}}-{{date}}T{{time}}-{Guid.NewGuid().ToString("n")[..6]}", OutsideChain: true, ReadBack: false, LockSeconds: null), null);
    }

    /// <summary>Seconds it is expected to take, and bytes it is expected to store; null where nothing tells.</summary>
    public static (double? Seconds, double? Stored) Expected(TakeSpec take, FleetModel fleet, DesignedState designed, Core.Fleet.Database d, Instant now)
    {
        var task = new PlanTask { Id = "now", Kind = Enum.GetValues<TaskKind>().First(k => k.Makes() == take.Kind), Store = new(take.Store), Compression = take.Compression };
        return designed.LoadOf(d, now).StoredWhole(task, now) is var stored && RunPace.Alone(fleet, d, task, stored) is var seconds && double.IsFinite(seconds) ? (seconds, stored) : (null, null);
    }
}
