using System.Text;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>Reads and writes the fleet file, <c>"format": "imbrek-fleet/1"</c>. JSON Schema: docs/formats/fleet.schema.json.</summary>
public static class FleetFile
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

    private static readonly IReadOnlyDictionary<string, SetKind> SetKinds = CatalogueFile.Kinds;

    private static readonly Dictionary<string, ReplicaMode> ReplicaModes = FleetMembers.WordsOf<ReplicaMode>();

    private const double DefaultProofDays = 90;

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
            ["branches"] = d.Branches.Select(b => new
            {
                id = b.Id,
                parent = b.Parent,
                forkPosition = b.ForkPosition,
                forkAt = Instants.Write(b.ForkAt),
                startsAt = Instants.Write(b.StartsAt),
            }),
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

    private sealed class Reader(LocatedJson root)
    {
        private readonly HashSet<string> sites = [];
        private readonly HashSet<string> arrays = [];
        private readonly HashSet<string> hosts = [];
        private readonly HashSet<string> stores = [];
        private readonly HashSet<string> engines = [];
        private readonly HashSet<string> objectives = [];
        private readonly HashSet<string> services = [];
        private readonly HashSet<string> databases = [];
        private readonly HashSet<string> replicas = [];

        public FleetModel? Read()
        {
            var format = root.Text("format");
            if (format is not null && format != Format)
            {
                root.FaultAt("format", $"is '{format}'; this reads {Format}");
                return null;
            }

            // Identifiers first, so that a reference may point forward.
            var siteItems = Identify("sites", sites);
            var arrayItems = Identify("arrays", arrays);
            var hostItems = Identify("hosts", hosts);
            var storeItems = Identify("stores", stores);
            var engineItems = Identify("engines", engines);
            var objectiveItems = Identify("objectives", objectives);
            var serviceItems = Identify("services", services);
            var databaseItems = Identify("databases", databases);
            var replicaItems = Identify("replicas", replicas);
            var groupItems = Identify("groups", []);
            var linkItems = root.Objects("links");
            var planItems = Identify("plans", []);

            var readSites = siteItems.Select(ReadSite).ToArray();
            var readLinks = ReadLinks(linkItems);
            var readArrays = arrayItems.Select(j => new StorageArray(new(Id(j)), new(Ref(j, "site", sites, "site") ?? ""))).ToArray();
            var readHosts = hostItems.Select(ReadHost).ToArray();
            var readStores = storeItems.Select(ReadStore).ToArray();
            var readEngines = engineItems.Select(ReadEngine).ToArray();
            var readObjectives = objectiveItems.Select(ReadObjective).ToArray();
            var readServices = serviceItems.Select(j => FleetMembers.Services.Read(j, new Service(new(Id(j)), Name(j), null))).ToArray();
            var readDatabases = databaseItems.Select(ReadDatabase).ToArray();
            var readReplicas = replicaItems.Select(ReadReplica).ToArray();
            var readGroups = ReadGroups(groupItems);
            CheckFeeders(replicaItems, readReplicas);
            CheckOpeners(replicaItems, readReplicas, readHosts, readArrays);
            foreach (var item in (IEnumerable<LocatedJson>)[root, .. siteItems, .. linkItems, .. arrayItems, .. hostItems, .. storeItems, .. engineItems, .. objectiveItems, .. serviceItems, .. databaseItems, .. replicaItems, .. groupItems])
            {
                item.WarnOfUnknown();
            }

            if (root.HasFaults)
            {
                return null;
            }

            // Plans name parts of the fleet: they are read against it once it is whole.
            var fleet = new FleetModel(readSites, readLinks, readArrays, readHosts, readStores, readEngines, readObjectives, readServices, readDatabases, readReplicas!, readGroups);
            var plans = planItems.Select(p => PlanFile.Read(p, fleet, new LocalDate(2000, 1, 1))).ToArray();
            return root.HasFaults ? null : fleet.WithPlans(plans!);
        }

        private IReadOnlyList<LocatedJson> Identify(string list, HashSet<string> ids)
        {
            var items = root.Objects(list);
            foreach (var item in items)
            {
                if (item.Identifier("id") is { } id && !ids.Add(id))
                {
                    item.FaultAt("id", $"'{id}' is used twice in {list}");
                }
            }

            return items;
        }

        private static string Id(LocatedJson j) => j.Text("id", false) ?? "";

        private static string Name(LocatedJson j) => j.Text("name", false) is { Length: > 0 } name ? name : Id(j);

        private static string? Ref(LocatedJson j, string member, HashSet<string> known, string what, bool required = true)
        {
            var id = j.Text(member, required);
            if (id is not null && !known.Contains(id))
            {
                j.FaultAt(member, $"there is no {what} '{InputBounds.Quote(id)}'");
            }

            return id;
        }

        private static IReadOnlyList<string> Refs(LocatedJson j, string member, HashSet<string> known, string what)
        {
            var ids = j.Texts(member);
            foreach (var id in ids.Where(id => !known.Contains(id)))
            {
                j.FaultAt(member, $"there is no {what} '{InputBounds.Quote(id)}'");
            }

            return ids;
        }

        private static Site ReadSite(LocatedJson j)
        {
            var zone = j.Text("timeZone", false) ?? "UTC";
            if (DateTimeZoneProviders.Tzdb.GetZoneOrNull(zone) is null)
            {
                j.FaultAt("timeZone", $"'{zone}' is no time zone of the IANA list");
            }

            return new(new(Id(j)), Name(j), zone);
        }

        private List<Link> ReadLinks(IReadOnlyList<LocatedJson> items)
        {
            var pairs = new HashSet<(string, string)>();
            var links = new List<Link>();
            foreach (var j in items)
            {
                var between = Refs(j, "between", sites, "site");
                if (between.Count != 2 || between[0] == between[1])
                {
                    j.FaultAt("between", "expected two different sites");
                    between = ["", ""];
                }
                else if (!pairs.Add(string.CompareOrdinal(between[0], between[1]) < 0 ? (between[0], between[1]) : (between[1], between[0])))
                {
                    j.FaultAt("between", $"there is already a link between {between[0]} and {between[1]}");
                }

                links.Add(FleetMembers.Links.Read(j, new Link(new(between[0]), new(between[1]), j.Rate("bytesPerSecond") ?? 1, null)));
            }

            return links;
        }

        private Host ReadHost(LocatedJson j) => FleetMembers.Hosts.Read(j, new Host(
            new(Id(j)),
            new(Ref(j, "site", sites, "site") ?? ""),
            Ref(j, "array", arrays, "array", false) is { } a ? new Id<StorageArray>(a) : null,
            j.Rate("writeBytesPerSecond") ?? 1,
            null,
            [.. Refs(j, "engines", engines, "engine").Select(e => new Id<EngineProfile>(e))],
            [],
            []));

        private Store ReadStore(LocatedJson j) => FleetMembers.Stores.Read(j, new Store(
            new(Id(j)),
            new(Ref(j, "site", sites, "site") ?? ""),
            Ref(j, "array", arrays, "array", false) is { } a ? new Id<StorageArray>(a) : null,
            Ref(j, "host", hosts, "host", false) is { } h ? new Id<Host>(h) : null,
            false,
            j.Rate("readBytesPerSecond") ?? 1,
            j.Rate("writeBytesPerSecond") ?? 1));

        private static EngineProfile ReadEngine(LocatedJson j) => FleetMembers.Engines.Read(j, new EngineProfile(
            new(Id(j)),
            Name(j),
            j.Seconds("provisionSeconds", true) ?? 0,
            j.Seconds("perSetSeconds", true) ?? 0,
            j.Rate("restoreBytesPerSecond") ?? 1,
            j.Rate("replayBytesPerSecond") ?? 1,
            j.Rate("indexBytesPerSecond") ?? 1,
            j.Seconds("openSeconds", true) ?? 0,
            ReadKinds(j)));

        private static SetKind[] ReadKinds(LocatedJson j)
        {
            var names = j.Texts("takes");
            foreach (var name in names.Where(n => !SetKinds.ContainsKey(n)))
            {
                j.FaultAt("takes", $"'{name}' is not one of {string.Join(", ", SetKinds.Keys)}");
            }

            return [.. names.Where(SetKinds.ContainsKey).Select(n => SetKinds[n]).Distinct()];
        }

        private static Objective ReadObjective(LocatedJson j)
        {
            var against = j.Texts("against");
            foreach (var kind in against.Where(k => !LossKinds.ContainsKey(k)))
            {
                j.FaultAt("against", $"'{kind}' is not one of {string.Join(", ", LossKinds.Keys)}");
            }

            return FleetMembers.Objectives.Read(j, new Objective(
                new(Id(j)),
                Name(j),
                j.Seconds("rpoSeconds", true) ?? 0,
                j.Seconds("rtoSeconds", true) ?? 0,
                [.. against.Where(LossKinds.ContainsKey).Select(k => LossKinds[k]).Distinct()],
                DefaultProofDays));
        }

        private Database ReadDatabase(LocatedJson j) => FleetMembers.Databases.Read(j, new Database
        {
            Id = new(Id(j)),
            Name = Name(j),
            Engine = new(Ref(j, "engine", engines, "engine") ?? ""),
            Host = new(Ref(j, "host", hosts, "host") ?? ""),
            RecoveryHosts = [.. Refs(j, "recoveryHosts", hosts, "host").Select(h => new Id<Host>(h))],
            Objective = Ref(j, "objective", objectives, "objective", false) is { } o ? new Id<Objective>(o) : null,
            Service = Ref(j, "service", services, "service", false) is { } s ? new Id<Service>(s) : null,
            SizeBytes = j.Bytes("sizeBytes") ?? 0,
            LogByHour = ReadHours(j),
            Branches = ReadBranches(j),
        });

        private Replica? ReadReplica(LocatedJson j)
        {
            var mode = j.Choice("mode", ReplicaModes);
            var place = ReadPlace(j, mode == ReplicaMode.Array);
            var stages = j.Object("stages") is { } own ? ReadStages(own) : null;
            if (mode is { } known && (known == ReplicaMode.Shipped) != j.Has("stages"))
            {
                j.FaultAt("stages", known == ReplicaMode.Shipped ? "is missing; mode shipped has three" : "are of mode shipped alone");
            }

            var database = Ref(j, "database", databases, "database");
            var from = Ref(j, "from", replicas, "replica", false);
            if (mode is null || place is null || database is null)
            {
                return null;
            }

            var replica = FleetMembers.Replicas.Read(j, new Replica
            {
                Id = new(Id(j)),
                Database = new(database),
                Place = place,
                From = from is null ? null : new Id<Replica>(from),
                Mode = mode.Value,
                Stages = stages,
            });
            if (replica.Until <= replica.Since)
            {
                j.FaultAt("until", "is not after since");
            }

            return replica;
        }

        private ReplicaPlace? ReadPlace(LocatedJson j, bool onArray)
        {
            var host = Ref(j, "host", hosts, "host", false);
            var array = Ref(j, "array", arrays, "array", false);
            var opensOn = Refs(j, "opensOn", hosts, "host");
            if (host is not null && array is not null)
            {
                j.FaultAt("host", "and array are both given; a replica lies on one of them");
            }
            else if (onArray && array is null)
            {
                j.FaultAt("array", "is missing; mode array lies on one");
            }
            else if (onArray && opensOn.Count == 0)
            {
                j.FaultAt("opensOn", "is missing; mode array names at least one host that can open it");
            }
            else if (!onArray && (array is not null || opensOn.Count > 0))
            {
                j.FaultAt(array is not null ? "array" : "opensOn", "is of mode array alone");
            }
            else if (host is null && array is null)
            {
                j.FaultAt("host", "is missing");
            }
            else
            {
                return array is not null ? new ReplicaPlace.OnArray(new(array), [.. opensOn.Select(h => new Id<Host>(h))]) : new ReplicaPlace.OnHost(new(host!));
            }

            return null;
        }

        private static ShippingStages ReadStages(LocatedJson j)
        {
            var stages = new ShippingStages(Stage("backup"), Stage("copy"), Stage("apply"), j.Seconds("keepAtSourceSeconds"), j.Seconds("keepHereSeconds"));
            j.WarnOfUnknown();
            return stages;

            ShippingStage Stage(string name)
            {
                if (j.Object(name) is not { } own)
                {
                    if (!j.Has(name))
                    {
                        j.FaultAt(name, "is missing; expected everySeconds and takesSeconds");
                    }

                    return default;
                }

                var stage = new ShippingStage(own.Seconds("everySeconds", true) ?? 0, own.Seconds("takesSeconds", true) ?? 0);
                own.WarnOfUnknown();
                return stage;
            }
        }

        private List<ReplicaGroup> ReadGroups(IReadOnlyList<LocatedJson> items)
        {
            var (inGroup, groups) = (new Dictionary<string, string>(), new List<ReplicaGroup>());
            foreach (var j in items)
            {
                var members = Refs(j, "databases", databases, "database").Distinct().ToArray();
                foreach (var d in members.Where(d => !inGroup.TryAdd(d, Id(j))))
                {
                    j.FaultAt("databases", $"'{d}' is in group '{inGroup[d]}' already");
                }

                groups.Add(FleetMembers.Groups.Read(j, new ReplicaGroup(
                    new(Id(j)), Name(j), [.. members.Select(d => new Id<Database>(d))], [.. Refs(j, "voters", hosts, "host").Distinct().Select(h => new Id<Host>(h))])));
            }

            return groups;
        }

        /// <summary>What feeds a replica is of the same database, and does not come back to it.</summary>
        private static void CheckFeeders(IReadOnlyList<LocatedJson> items, Replica?[] read)
        {
            var byId = read.OfType<Replica>().DistinctBy(r => r.Id).ToDictionary(r => r.Id);
            for (var i = 0; i < read.Length; i++)
            {
                if (read[i] is not { From: { } first } replica || !byId.TryGetValue(first, out var feeder))
                {
                    continue;
                }

                if (feeder.Database != replica.Database)
                {
                    items[i].FaultAt("from", $"'{first}' is a replica of {feeder.Database}");
                }

                var at = feeder;
                for (var steps = 0; at is not null; steps++)
                {
                    if (at.Id == replica.Id || steps > read.Length)
                    {
                        items[i].FaultAt("from", "leads back to the replica itself");
                        break;
                    }

                    at = at.From is { } next ? byId.GetValueOrDefault(next) : null;
                }
            }
        }

        /// <summary>An array is opened by hosts of its own site.</summary>
        private static void CheckOpeners(IReadOnlyList<LocatedJson> items, Replica?[] read, Host[] hosts, StorageArray[] arrays)
        {
            var siteOf = hosts.DistinctBy(h => h.Id).ToDictionary(h => h.Id, h => h.Site);
            for (var i = 0; i < read.Length; i++)
            {
                if (read[i]?.Place is ReplicaPlace.OnArray place && Array.Find(arrays, a => a.Id == place.Array) is { } array)
                {
                    foreach (var far in place.OpensOn.Where(h => siteOf.TryGetValue(h, out var site) && site != array.Site))
                    {
                        items[i].FaultAt("opensOn", $"host '{far}' is in another site than array '{array.Id}'");
                    }
                }
            }
        }

        private static IReadOnlyList<double> ReadHours(LocatedJson database)
        {
            var hours = database.Numbers("logByHour");
            if (hours.Count is not (0 or 24))
            {
                database.FaultAt("logByHour", "expected 24 numbers, one for each hour of the day (UTC)");
            }

            return hours;
        }

        private static List<Branch> ReadBranches(LocatedJson database)
        {
            var items = database.Objects("branches");
            var parents = new Dictionary<int, int>();
            var branches = new List<Branch>();
            foreach (var j in items)
            {
                var id = (int)(j.Integer("id", true, 2, int.MaxValue) ?? 0);
                if (id != 0 && !parents.TryAdd(id, (int)(j.Integer("parent", true, 1, int.MaxValue) ?? 0)))
                {
                    j.FaultAt("id", $"branch {id} is given twice");
                }

                var forkAt = j.Time("forkAt");
                var startsAt = j.Time("startsAt");
                if (startsAt < forkAt)
                {
                    j.FaultAt("startsAt", "is before forkAt");
                }

                branches.Add(new(id, parents.GetValueOrDefault(id), j.Integer("forkPosition") ?? 0, forkAt ?? default, startsAt ?? default));
            }

            foreach (var j in items)
            {
                j.WarnOfUnknown();
                if (j.Integer("id", false, 2, int.MaxValue) is not { } number || !parents.TryGetValue((int)number, out var parent))
                {
                    continue;
                }

                if (parent != 1 && !parents.ContainsKey(parent))
                {
                    j.FaultAt("parent", $"there is no branch {parent}");
                    continue;
                }

                var at = (int)number;
                for (var steps = 0; at != 1 && parents.TryGetValue(at, out at); steps++)
                {
                    if (steps > parents.Count)
                    {
                        j.FaultAt("parent", $"branch {number} is its own ancestor");
                        break;
                    }
                }
            }

            branches.Sort((a, b) => a.Id.CompareTo(b.Id));
            return branches;
        }
    }
}
