using System.Collections.Frozen;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;

namespace Imbrek.Core.Fleet;

/// <summary>The whole fleet, immutable and cross-checked: every identifier named by one of its members exists in it.</summary>
public sealed class FleetModel
{
    private readonly FrozenDictionary<(Id<Site>, Id<Site>), Link> linkByPair;
    private readonly FrozenDictionary<Id<Database>, Replica[]> replicasByDatabase;
    private readonly FrozenDictionary<Id<Database>, ReplicaGroup> groupByDatabase;
    private readonly FrozenDictionary<(Id<Host>, Id<EngineProfile>), Database[]> instanceData;
    private readonly Lazy<Caught> caught;

    /// <summary>Makes a fleet of parts already checked against each other.</summary>
    /// <exception cref="ArgumentException">Two parts of a kind share an identifier.</exception>
    public FleetModel(
        IEnumerable<Site> sites,
        IEnumerable<Link> links,
        IEnumerable<StorageArray> arrays,
        IEnumerable<Host> hosts,
        IEnumerable<Store> stores,
        IEnumerable<EngineProfile> engines,
        IEnumerable<Objective> objectives,
        IEnumerable<Service> services,
        IEnumerable<Database> databases,
        IEnumerable<Replica>? replicas = null,
        IEnumerable<ReplicaGroup>? groups = null)
    {
        SiteList = [.. sites];
        Links = [.. links];
        ArrayList = [.. arrays];
        HostList = [.. hosts];
        StoreList = [.. stores];
        EngineList = [.. engines];
        ObjectiveList = [.. objectives];
        ServiceList = [.. services];
        Databases = [.. databases];
        ReplicaList = [.. replicas ?? []];
        GroupList = [.. groups ?? []];
        Sites = SiteList.ToFrozenDictionary(s => s.Id);
        Arrays = ArrayList.ToFrozenDictionary(a => a.Id);
        Hosts = HostList.ToFrozenDictionary(h => h.Id);
        Stores = StoreList.ToFrozenDictionary(s => s.Id);
        Engines = EngineList.ToFrozenDictionary(e => e.Id);
        Objectives = ObjectiveList.ToFrozenDictionary(o => o.Id);
        Services = ServiceList.ToFrozenDictionary(s => s.Id);
        DatabaseById = Databases.ToFrozenDictionary(d => d.Id);
        Replicas = ReplicaList.ToFrozenDictionary(r => r.Id);
        Groups = GroupList.ToFrozenDictionary(g => g.Id);
        replicasByDatabase = ReplicaList.GroupBy(r => r.Database).ToFrozenDictionary(g => g.Key, g => g.ToArray());
        groupByDatabase = GroupList.SelectMany(g => g.Databases.Select(d => (Database: d, Group: g))).DistinctBy(p => p.Database).ToFrozenDictionary(p => p.Database, p => p.Group);
        linkByPair = Links.SelectMany(l => new[] { ((l.One, l.Other), l), ((l.Other, l.One), l) })
            .DistinctBy(p => p.Item1).ToFrozenDictionary(p => p.Item1, p => p.l);
        instanceData = Databases.Where(d => d.IsInstanceData).GroupBy(d => (d.Host, d.Engine)).ToFrozenDictionary(g => g.Key, g => g.ToArray());
        caught = new(Catch);
    }

    private FleetModel(FleetModel of, IReadOnlyList<Plan> plans)
    {
        (SiteList, Links, ArrayList, HostList, StoreList, EngineList, ObjectiveList, ServiceList, Databases, ReplicaList, GroupList) =
            (of.SiteList, of.Links, of.ArrayList, of.HostList, of.StoreList, of.EngineList, of.ObjectiveList, of.ServiceList, of.Databases, of.ReplicaList, of.GroupList);
        (Sites, Arrays, Hosts, Stores, Engines, Objectives, Services, DatabaseById, Replicas, Groups, linkByPair, replicasByDatabase, groupByDatabase, instanceData) =
            (of.Sites, of.Arrays, of.Hosts, of.Stores, of.Engines, of.Objectives, of.Services, of.DatabaseById, of.Replicas, of.Groups, of.linkByPair, of.replicasByDatabase, of.groupByDatabase, of.instanceData);
        Plans = plans;
        caught = new(Catch);
    }

    /// <summary>A fleet with nothing in it.</summary>
    public static FleetModel Empty { get; } = new([], [], [], [], [], [], [], [], []);

    /// <summary>Sites in the order of the file.</summary>
    public IReadOnlyList<Site> SiteList { get; }

    /// <summary>Links in the order of the file.</summary>
    public IReadOnlyList<Link> Links { get; }

    /// <summary>Arrays in the order of the file.</summary>
    public IReadOnlyList<StorageArray> ArrayList { get; }

    /// <summary>Hosts in the order of the file.</summary>
    public IReadOnlyList<Host> HostList { get; }

    /// <summary>Stores in the order of the file.</summary>
    public IReadOnlyList<Store> StoreList { get; }

    /// <summary>Engine profiles in the order of the file.</summary>
    public IReadOnlyList<EngineProfile> EngineList { get; }

    /// <summary>Objectives in the order of the file.</summary>
    public IReadOnlyList<Objective> ObjectiveList { get; }

    /// <summary>Services in the order of the file.</summary>
    public IReadOnlyList<Service> ServiceList { get; }

    /// <summary>Databases in the order of the file.</summary>
    public IReadOnlyList<Database> Databases { get; }

    /// <summary>Replicas in the order of the file.</summary>
    public IReadOnlyList<Replica> ReplicaList { get; }

    /// <summary>Groups in the order of the file.</summary>
    public IReadOnlyList<ReplicaGroup> GroupList { get; }

    /// <summary>Plans in the order of the file.</summary>
    public IReadOnlyList<Plan> Plans { get; } = [];

    /// <summary>Sites by identifier.</summary>
    public FrozenDictionary<Id<Site>, Site> Sites { get; }

    /// <summary>Arrays by identifier.</summary>
    public FrozenDictionary<Id<StorageArray>, StorageArray> Arrays { get; }

    /// <summary>Hosts by identifier.</summary>
    public FrozenDictionary<Id<Host>, Host> Hosts { get; }

    /// <summary>Stores by identifier.</summary>
    public FrozenDictionary<Id<Store>, Store> Stores { get; }

    /// <summary>Engine profiles by identifier.</summary>
    public FrozenDictionary<Id<EngineProfile>, EngineProfile> Engines { get; }

    /// <summary>Objectives by identifier.</summary>
    public FrozenDictionary<Id<Objective>, Objective> Objectives { get; }

    /// <summary>Services by identifier.</summary>
    public FrozenDictionary<Id<Service>, Service> Services { get; }

    /// <summary>Databases by identifier.</summary>
    public FrozenDictionary<Id<Database>, Database> DatabaseById { get; }

    /// <summary>Replicas by identifier.</summary>
    public FrozenDictionary<Id<Replica>, Replica> Replicas { get; }

    /// <summary>Groups by identifier.</summary>
    public FrozenDictionary<Id<ReplicaGroup>, ReplicaGroup> Groups { get; }

    /// <summary>The replicas of a database, in the order of the file.</summary>
    public IReadOnlyList<Replica> ReplicasOf(Id<Database> database) => replicasByDatabase.TryGetValue(database, out var replicas) ? replicas : [];

    /// <summary>The group a database is in; null when it is in none.</summary>
    public ReplicaGroup? GroupOf(Id<Database> database) => groupByDatabase.GetValueOrDefault(database);

    /// <summary>What a database needs before itself: the instance data of its host and engine, and of that the machine before all else; in the order of the file (ways, section 9).</summary>
    public IReadOnlyList<Database> Before(Database database) =>
        [.. (instanceData.TryGetValue((database.Host, database.Engine), out var data) ? data : []).Where(i => i.Turn < database.Turn)];

    /// <summary>The databases that need instance data before themselves, in the order of the file.</summary>
    public IReadOnlyList<Database> Needing(Database data) => data.IsInstanceData ? [.. Databases.Where(d => d.Host == data.Host && d.Engine == data.Engine && Before(d).Contains(data))] : [];

    /// <summary>Whether anything in the fleet is instance data.</summary>
    public bool KnowsInstanceData => instanceData.Count > 0;

    /// <summary>The link between two different sites; null when there is none.</summary>
    public Link? LinkBetween(Id<Site> one, Id<Site> other) => linkByPair.GetValueOrDefault((one, other));

    /// <summary>The same fleet with other plans.</summary>
    public FleetModel WithPlans(IEnumerable<Plan> plans) =>
        new(this, [.. plans]);

    /// <summary>The same fleet with other databases, replicas or groups; what is not given stays as it is.</summary>
    public FleetModel With(IEnumerable<Database>? databases = null, IEnumerable<Replica>? replicas = null, IEnumerable<ReplicaGroup>? groups = null) =>
        new FleetModel(SiteList, Links, ArrayList, HostList, StoreList, EngineList, ObjectiveList, ServiceList, databases ?? Databases, replicas ?? ReplicaList, groups ?? GroupList).WithPlans(Plans);

    /// <summary>The plans that catch a database.</summary>
    public IReadOnlyList<Plan> PlansOf(Database database) => caught.Value.Plans.TryGetValue(database.Id, out var plans) ? plans : [];

    /// <summary>The plans that back a database up: one as a rule, none when it is not covered, more when plans conflict.</summary>
    public IReadOnlyList<Plan> BackupPlansOf(Database database) => [.. PlansOf(database).Where(p => p.Tasks.Any(t => t.Kind.Makes() is not null))];

    /// <summary>The databases that one of its plans, or any other, catches, in the order of the fleet.</summary>
    public IReadOnlyList<Database> MembersOf(Plan plan) =>
        caught.Value.Members.TryGetValue(plan.Id, out var own) && ReferenceEquals(own.Plan, plan) ? own.Members : plan.Members.Of(this);

    private sealed record Caught(Dictionary<Id<Database>, IReadOnlyList<Plan>> Plans, Dictionary<Id<Plan>, (Plan Plan, IReadOnlyList<Database> Members)> Members);

    // Asked of each database again and again: looked up once for all.
    private Caught Catch()
    {
        var (byDatabase, members) = (new Dictionary<Id<Database>, List<Plan>>(), new Dictionary<Id<Plan>, (Plan, IReadOnlyList<Database>)>());
        foreach (var plan in Plans)
        {
            var of = plan.Members.Of(this);
            members[plan.Id] = (plan, of);
            foreach (var d in of)
            {
                (byDatabase.TryGetValue(d.Id, out var plans) ? plans : byDatabase[d.Id] = []).Add(plan);
            }
        }

        return new Caught(byDatabase.ToDictionary(p => p.Key, IReadOnlyList<Plan> (p) => p.Value), members);
    }

    /// <summary>The objective of a database; null when none was agreed.</summary>
    public Objective? ObjectiveOf(Database database) =>
        database.Objective is { } id ? Objectives[id] : null;
}
