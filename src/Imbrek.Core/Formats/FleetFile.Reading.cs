using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <content>Reads all but replicas and groups.</content>
public static partial class FleetFile
{
    private const double DefaultProofDays = 90;

    private static readonly IReadOnlyDictionary<string, SetKind> SetKinds = CatalogueFile.Kinds;

    private sealed partial class Reader(LocatedJson root)
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

        private static IReadOnlyList<double> ReadHours(LocatedJson database)
        {
            var hours = database.Numbers("logByHour");
            if (hours.Count is not (0 or 24))
            {
                database.FaultAt("logByHour", "expected 24 numbers, one for each hour of the day (UTC)");
            }

            return hours;
        }

        private List<Branch> ReadBranches(LocatedJson database)
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

                branches.Add(new(id, parents.GetValueOrDefault(id), j.Integer("forkPosition") ?? 0, forkAt ?? default, startsAt ?? default, Ref(j, "leftHost", hosts, "host", false) is { } left ? new Id<Host>(left) : null));
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
