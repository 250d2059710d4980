using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;

namespace Imbrek.Core.Formats;

/// <summary>
/// The members of the fleet file that may be left out and name nothing else. A new one is a property of its record and a line here: it is read, bounded, written,
/// taken by the API as a part of the fleet, and described by the schema from it (a test holds docs/formats/fleet.schema.json to this, and writes it when asked to).
/// </summary>
internal static class FleetMembers
{
    private const int MostSlots = 10_000;

    private static readonly Dictionary<string, LogMode> LogModes = new()
    {
        ["kept"] = LogMode.Kept,
        ["discarded"] = LogMode.Discarded,
    };

    public static readonly IReadOnlyList<OptionalMember<Link>> Links =
    [
        OptionalMember<Link>.Number("roundTripMs", 0, 1e6, l => l.RoundTripMs, (l, v) => l with { RoundTripMs = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Host>> Hosts =
    [
        OptionalMember<Host>.Bytes("freeBytes", h => h.FreeBytes, (h, v) => h with { FreeBytes = v }),
        OptionalMember<Host>.Texts("versions", h => h.Versions, (h, v) => h with { Versions = v }),
        OptionalMember<Host>.Texts("keys", h => h.Keys, (h, v) => h with { Keys = v }),
        OptionalMember<Host>.Count("slots", 1, MostSlots, h => h.Slots, (h, v) => h with { Slots = v }),
        OptionalMember<Host>.Number("processors", 0.01, MostSlots, h => h.Processors, (h, v) => h with { Processors = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Store>> Stores =
    [
        OptionalMember<Store>.Flag("offline", s => s.Offline, (s, v) => s with { Offline = v }),
        OptionalMember<Store>.Count("slots", 1, MostSlots, s => s.Slots, (s, v) => s with { Slots = v }),
        OptionalMember<Store>.Bytes("capacityBytes", s => s.CapacityBytes, (s, v) => s with { CapacityBytes = v }),
        OptionalMember<Store>.Flag("locks", s => s.Locks, (s, v) => s with { Locks = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<EngineProfile>> Engines =
    [
        OptionalMember<EngineProfile>.Flag("tracksChanges", e => e.TracksChanges, (e, v) => e with { TracksChanges = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Objective>> Objectives =
    [
        OptionalMember<Objective>.Number("proofDays", 0, 36_500, o => o.ProofDays, (o, v) => o with { ProofDays = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Service>> Services =
    [
        OptionalMember<Service>.Text("owner", s => s.Owner, (s, v) => s with { Owner = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Database>> Databases =
    [
        OptionalMember<Database>.Number("growthBytesPerDay", -InputBounds.Bytes, InputBounds.Bytes, d => d.GrowthBytesPerDay, (d, v) => d with { GrowthBytesPerDay = v }),
        OptionalMember<Database>.Number("changeBytesPerDay", 0, InputBounds.Bytes, d => d.ChangeBytesPerDay, (d, v) => d with { ChangeBytesPerDay = v }),
        OptionalMember<Database>.Number("logBytesPerSecond", 0, InputBounds.Rate, d => d.LogBytesPerSecond, (d, v) => d with { LogBytesPerSecond = v }),
        OptionalMember<Database>.Choice("logMode", LogModes, d => d.LogMode, (d, v) => d with { LogMode = v }),
        OptionalMember<Database>.Text("version", d => d.Version, (d, v) => d with { Version = v }),
        OptionalMember<Database>.Seconds("detectSeconds", d => d.DetectSeconds, (d, v) => d with { DetectSeconds = v }),
        OptionalMember<Database>.Seconds("decideSeconds", d => d.DecideSeconds, (d, v) => d with { DecideSeconds = v }),
        OptionalMember<Database>.Seconds("checkSeconds", d => d.CheckSeconds, (d, v) => d with { CheckSeconds = v }),
        OptionalMember<Database>.Seconds("redirectSeconds", d => d.RedirectSeconds, (d, v) => d with { RedirectSeconds = v }),
        OptionalMember<Database>.Texts("tags", d => d.Tags, (d, v) => d with { Tags = v }),
    ];

    /// <summary>Reads what is there of the members into a thing.</summary>
    public static T Read<T>(this IReadOnlyList<OptionalMember<T>> members, LocatedJson json, T thing) => members.Aggregate(thing, (t, m) => m.Read(json, t));

    /// <summary>Adds the members to what is written of a thing.</summary>
    public static Dictionary<string, object?> Write<T>(this IReadOnlyList<OptionalMember<T>> members, T thing, Dictionary<string, object?> written)
    {
        foreach (var m in members)
        {
            written[m.Name] = m.Write(thing);
        }

        return written;
    }

    /// <summary>What JSON Schema says of the members, by the list of the file whose items they belong to.</summary>
    public static IReadOnlyDictionary<string, IReadOnlyList<(string Name, JsonObject Schema)>> Schemas { get; } = new Dictionary<string, IReadOnlyList<(string, JsonObject)>>
    {
        ["links"] = Of(Links),
        ["hosts"] = Of(Hosts),
        ["stores"] = Of(Stores),
        ["engines"] = Of(Engines),
        ["objectives"] = Of(Objectives),
        ["services"] = Of(Services),
        ["databases"] = Of(Databases),
    };

    private static (string, JsonObject)[] Of<T>(IReadOnlyList<OptionalMember<T>> members) => [.. members.Select(m => (m.Name, m.Schema))];
}
