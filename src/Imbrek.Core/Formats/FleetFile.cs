using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>Reads and writes the fleet file, <c>"format": "imbrek-fleet/1"</c>. JSON Schema: docs/formats/fleet.schema.json.</summary>
public static partial class FleetFile
{
    /// <summary>What the <c>format</c> member must say.</summary>
    public const string Format = "imbrek-fleet/1";

    internal static readonly IReadOnlyDictionary<string, LossKind> LossKinds = new Dictionary<string, LossKind>
    {
        ["none"] = LossKind.None,
        ["host"] = LossKind.Host,
        ["array"] = LossKind.Array,
        ["site"] = LossKind.Site,
        ["hostile"] = LossKind.Hostile,
    };

    private static readonly Dictionary<string, ReplicaMode> ReplicaModes = FleetMembers.WordsOf<ReplicaMode>();

    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    /// <summary>Reads a fleet; lists every fault with line and member, and then gives nothing.</summary>
    /// <param name="utf8">The text of the file.</param>
    /// <param name="file">What to call the file in faults.</param>
    public static ReadResult<FleetModel> Read(ReadOnlyMemory<byte> utf8, string file)
    {
        var report = new FaultReport(file);
        if (utf8.Span.StartsWith(Encoding.UTF8.Preamble))
        {
            utf8 = utf8[3..];
        }

        var root = LocatedJson.Parse(utf8, report);
        if (root is { IsObject: false })
        {
            root.Fault("expected an object");
            root = null;
        }

        var fleet = root is null ? null : new Reader(root).Read();
        if (fleet?.StoreList.Count > DatabaseCatalogue.MostStores)
        {
            root!.FaultAt("stores", $"are more than {DatabaseCatalogue.MostStores:N0}");
        }

        return new(report.Faults.Count == 0 ? fleet : null, report.Faults, report.Warnings);
    }

    /// <summary>Writes a fleet so that <see cref="Read"/> gives the same one.</summary>
    public static string Write(FleetModel fleet) => JsonSerializer.Serialize(Document(fleet), Indented) + "\n";

    /// <summary>Writes a fleet to a stream as it goes, however large it is.</summary>
    public static async Task WriteAsync(FleetModel fleet, Stream to, CancellationToken cancel)
    {
        await JsonSerializer.SerializeAsync(to, Document(fleet), Indented, cancel);
        await to.WriteAsync("\n"u8.ToArray(), cancel);
    }

    /// <summary>A branch as it stands in the file.</summary>
    public static JsonObject Write(Branch branch)
    {
        var part = new JsonObject
        {
            ["id"] = branch.Id,
            ["parent"] = branch.Parent,
            ["forkPosition"] = branch.ForkPosition,
            ["forkAt"] = Instants.Write(branch.ForkAt),
            ["startsAt"] = Instants.Write(branch.StartsAt),
        };
        if (branch.LeftHost is { } left)
        {
            part["leftHost"] = left.Value;
        }

        return part;
    }

    private static object Document(FleetModel fleet) => new
    {
        format = Format,
        sites = fleet.SiteList.Select(s => new { id = s.Id.Value, name = s.Name, timeZone = s.TimeZone }),
        links = fleet.Links.Select(l => FleetMembers.Links.Write(l, new() { ["between"] = new[] { l.One.Value, l.Other.Value }, ["bytesPerSecond"] = l.BytesPerSecond })),
        arrays = fleet.ArrayList.Select(a => new { id = a.Id.Value, site = a.Site.Value }),
        hosts = fleet.HostList.Select(h => FleetMembers.Hosts.Write(h, new()
        {
            ["id"] = h.Id.Value,
            ["site"] = h.Site.Value,
            ["array"] = h.Array?.Value,
            ["writeBytesPerSecond"] = h.WriteBytesPerSecond,
            ["engines"] = h.Engines.Select(e => e.Value),
        })),
        stores = fleet.StoreList.Select(s => FleetMembers.Stores.Write(s, new()
        {
            ["id"] = s.Id.Value,
            ["site"] = s.Site.Value,
            ["array"] = s.Array?.Value,
            ["host"] = s.Host?.Value,
            ["readBytesPerSecond"] = s.ReadBytesPerSecond,
            ["writeBytesPerSecond"] = s.WriteBytesPerSecond,
        })),
        engines = fleet.EngineList.Select(e => FleetMembers.Engines.Write(e, new()
        {
            ["id"] = e.Id.Value,
            ["name"] = e.Name,
            ["provisionSeconds"] = e.ProvisionSeconds,
            ["perSetSeconds"] = e.PerSetSeconds,
            ["restoreBytesPerSecond"] = e.RestoreBytesPerSecond,
            ["replayBytesPerSecond"] = e.ReplayBytesPerSecond,
            ["indexBytesPerSecond"] = e.IndexBytesPerSecond,
            ["openSeconds"] = e.OpenSeconds,
            ["takes"] = e.Takes?.Select(k => k.ToString().ToLowerInvariant()),
        })),
        objectives = fleet.ObjectiveList.Select(o => FleetMembers.Objectives.Write(o, new()
        {
            ["id"] = o.Id.Value,
            ["name"] = o.Name,
            ["rpoSeconds"] = o.RpoSeconds,
            ["rtoSeconds"] = o.RtoSeconds,
            ["against"] = o.Against.Select(k => k.ToString().ToLowerInvariant()),
        })),
        services = fleet.ServiceList.Select(s => FleetMembers.Services.Write(s, new() { ["id"] = s.Id.Value, ["name"] = s.Name })),
        databases = fleet.Databases.Select(d => FleetMembers.Databases.Write(d, new()
        {
            ["id"] = d.Id.Value,
            ["name"] = d.Name,
            ["engine"] = d.Engine.Value,
            ["host"] = d.Host.Value,
            ["recoveryHosts"] = d.RecoveryHosts.Select(h => h.Value),
            ["objective"] = d.Objective?.Value,
            ["service"] = d.Service?.Value,
            ["sizeBytes"] = d.SizeBytes,
            ["logByHour"] = d.LogByHour,
            ["branches"] = d.Branches.Select(b => Write(b)),
        })),
        replicas = fleet.ReplicaList.Select(r => FleetMembers.Replicas.Write(r, new()
        {
            ["id"] = r.Id.Value,
            ["database"] = r.Database.Value,
            ["host"] = (r.Place as ReplicaPlace.OnHost)?.Host.Value,
            ["array"] = (r.Place as ReplicaPlace.OnArray)?.Array.Value,
            ["opensOn"] = (r.Place as ReplicaPlace.OnArray)?.OpensOn.Select(h => h.Value),
            ["from"] = r.From?.Value,
            ["mode"] = ReplicaModes.First(m => m.Value == r.Mode).Key,
            ["stages"] = r.Stages is { } s ? new { backup = Document(s.Backup), copy = Document(s.Copy), apply = Document(s.Apply), keepAtSourceSeconds = s.KeepAtSourceSeconds, keepHereSeconds = s.KeepHereSeconds } : null,
        })),
        groups = fleet.GroupList.Select(g => FleetMembers.Groups.Write(g, new() { ["id"] = g.Id.Value, ["name"] = g.Name, ["databases"] = g.Databases.Select(d => d.Value), ["voters"] = g.Voters.Select(h => h.Value) })),
        plans = fleet.Plans.Select(PlanFile.Write),
    };

    private static object Document(ShippingStage stage) => new { everySeconds = stage.EverySeconds, takesSeconds = stage.TakesSeconds };
}
