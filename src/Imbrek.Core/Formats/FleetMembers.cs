using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;

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

    private static readonly Dictionary<string, InstancePart> InstanceParts = WordsOf<InstancePart>();
    private static readonly Dictionary<string, ReplicaReadable> Readables = WordsOf<ReplicaReadable>();
    private static readonly Dictionary<string, TakesOver> TakeOvers = WordsOf<TakesOver>();
    private static readonly Dictionary<string, WhenCut> WhenCuts = WordsOf<WhenCut>();
    private static readonly Dictionary<string, ResumeRule> Resumes = WordsOf<ResumeRule>();

    /// <summary>The words of a choice as the file writes them: its names, with a small first letter.</summary>
    public static Dictionary<string, T> WordsOf<T>()
        where T : struct, Enum => Enum.GetValues<T>().ToDictionary(v => char.ToLowerInvariant(v.ToString()[0]) + v.ToString()[1..]);

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
        OptionalMember<Host>.Text("collation", h => h.Collation, (h, v) => h with { Collation = v }),
        OptionalMember<Host>.Text("characterSet", h => h.CharacterSet, (h, v) => h with { CharacterSet = v }),
        OptionalMember<Host>.Text("timeZone", h => h.TimeZone, (h, v) => h with { TimeZone = v }),
        OptionalMember<Host>.Texts("addresses", h => h.Addresses, (h, v) => h with { Addresses = v }),
        OptionalMember<Host>.Settings("settings", h => h.Settings, (h, v) => h with { Settings = v }),
        OptionalMember<Host>.Texts("openTo", h => h.OpenTo, (h, v) => h with { OpenTo = v }),
        OptionalMember<Host>.Texts("signsIn", h => h.SignsIn, (h, v) => h with { SignsIn = v }),
        OptionalMember<Host>.Texts("readBy", h => h.ReadBy, (h, v) => h with { ReadBy = v }),
        OptionalMember<Host>.Flag("encrypted", h => h.Encrypted, (h, v) => h with { Encrypted = v }),
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
        OptionalMember<EngineProfile>.Flag("mountsSets", e => e.MountsSets, (e, v) => e with { MountsSets = v }),
        OptionalMember<EngineProfile>.Settings("loadNeeds", e => e.LoadNeeds, (e, v) => e with { LoadNeeds = v }),
        OptionalMember<EngineProfile>.Settings("moveNeeds", e => e.MoveNeeds, (e, v) => e with { MoveNeeds = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Objective>> Objectives =
    [
        OptionalMember<Objective>.Number("proofDays", 0, 36_500, o => o.ProofDays, (o, v) => o with { ProofDays = v }),
        OptionalMember<Objective>.Text("owner", o => o.Owner, (o, v) => o with { Owner = v }),
        OptionalMember<Objective>.Text("reason", o => o.Reason, (o, v) => o with { Reason = v }),
        OptionalMember<Objective>.Time("until", o => o.Until, (o, v) => o with { Until = v }),
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
        OptionalMember<Database>.Bytes("logRoomBytes", d => d.LogRoomBytes, (d, v) => d with { LogRoomBytes = v }),
        OptionalMember<Database>.Choice("logMode", LogModes, d => d.LogMode, (d, v) => d with { LogMode = v }),
        OptionalMember<Database>.Text("version", d => d.Version, (d, v) => d with { Version = v }),
        OptionalMember<Database>.Seconds("detectSeconds", d => d.DetectSeconds, (d, v) => d with { DetectSeconds = v }),
        OptionalMember<Database>.Seconds("decideSeconds", d => d.DecideSeconds, (d, v) => d with { DecideSeconds = v }),
        OptionalMember<Database>.Seconds("checkSeconds", d => d.CheckSeconds, (d, v) => d with { CheckSeconds = v }),
        OptionalMember<Database>.Seconds("redirectSeconds", d => d.RedirectSeconds, (d, v) => d with { RedirectSeconds = v }),
        OptionalMember<Database>.Words("holds", InstanceParts, d => d.Holds, (d, v) => d with { Holds = v }),
        OptionalMember<Database>.Texts("tags", d => d.Tags, (d, v) => d with { Tags = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<Replica>> Replicas =
    [
        OptionalMember<Replica>.Flag("waits", r => r.Waits, (r, v) => r with { Waits = v }),
        OptionalMember<Replica>.Seconds("delaySeconds", r => r.DelaySeconds, (r, v) => r with { DelaySeconds = v }),
        OptionalMember<Replica>.Seconds("rewindSeconds", r => r.RewindSeconds, (r, v) => r with { RewindSeconds = v }),
        OptionalMember<Replica>.Seconds("rewindTakesSeconds", r => r.RewindTakesSeconds, (r, v) => r with { RewindTakesSeconds = v }),
        OptionalMember<Replica>.Flag("apart", r => r.Apart, (r, v) => r with { Apart = v }),
        OptionalMember<Replica>.Choice("readable", Readables, r => r.Readable, (r, v) => r with { Readable = v }),
        OptionalMember<Replica>.Seconds("watchSeconds", r => r.WatchSeconds, (r, v) => r with { WatchSeconds = v }),
        OptionalMember<Replica>.Rate("applyBytesPerSecond", r => r.ApplyBytesPerSecond, (r, v) => r with { ApplyBytesPerSecond = v }),
        OptionalMember<Replica>.Seconds("promoteSeconds", r => r.PromoteSeconds, (r, v) => r with { PromoteSeconds = v }),
        OptionalMember<Replica>.Choice("takesOver", TakeOvers, r => r.TakesOver, (r, v) => r with { TakesOver = v }),
        OptionalMember<Replica>.Count("priority", 0, MostSlots, r => r.Priority, (r, v) => r with { Priority = v }),
        OptionalMember<Replica>.MaybeSeconds("keepLogSeconds", r => r.KeepLogSeconds, (r, v) => r with { KeepLogSeconds = v }),
        OptionalMember<Replica>.Bytes("keepLogBytes", r => r.KeepLogBytes, (r, v) => r with { KeepLogBytes = v }),
        OptionalMember<Replica>.Bytes("logRoomBytes", r => r.LogRoomBytes, (r, v) => r with { LogRoomBytes = v }),
        OptionalMember<Replica>.Choice("whenCut", WhenCuts, r => r.WhenCut, (r, v) => r with { WhenCut = v }),
        OptionalMember<Replica>.Choice("resume", Resumes, r => r.Resume, (r, v) => r with { Resume = v }),
        OptionalMember<Replica>.Seconds("cutAfterSeconds", r => r.CutAfterSeconds, (r, v) => r with { CutAfterSeconds = v }),
        OptionalMember<Replica>.Time("since", r => r.Since, (r, v) => r with { Since = v }),
        OptionalMember<Replica>.Time("until", r => r.Until, (r, v) => r with { Until = v }),
    ];

    public static readonly IReadOnlyList<OptionalMember<ReplicaGroup>> Groups =
    [
        OptionalMember<ReplicaGroup>.MaybeSeconds("noticeSeconds", g => g.NoticeSeconds, (g, v) => g with { NoticeSeconds = v }),
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
        ["replicas"] = Of(Replicas),
        ["groups"] = Of(Groups),
    };

    private static (string, JsonObject)[] Of<T>(IReadOnlyList<OptionalMember<T>> members) => [.. members.Select(m => (m.Name, m.Schema))];
}
