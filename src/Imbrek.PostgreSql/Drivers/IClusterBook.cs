using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>What the drivers look up: how clusters are reached, where stores and restored instances lie, what sets are.</summary>
internal interface IClusterBook
{
    /// <exception cref="DriverException">There is no such cluster.</exception>
    ClusterSpec Cluster(Id<Database> database);

    /// <summary>The clusters that the fleet has on a host.</summary>
    IReadOnlyList<(ClusterSpec Cluster, Database Database)> ClustersOn(Id<Host> host);

    /// <exception cref="DriverException">It is no folder this installation knows.</exception>
    FolderStore Store(Id<Core.Fleet.Store> store);

    /// <summary>The folder for restored instances on a host; beside the data of a cluster there that is, or was, put back in place, where no other is known.</summary>
    /// <exception cref="DriverException">This server cannot start one there.</exception>
    string InstancesOn(Id<Host> host);

    /// <summary>A set as it is known now; null when it is not.</summary>
    BackupSet? Set(Id<Database> database, Id<BackupSet> set);

    /// <summary>The newest log of a database; null when there is none.</summary>
    BackupSet? NewestLog(Id<Database> database);

    /// <summary>The standby a replica is, and its cluster; also one that was promoted.</summary>
    /// <exception cref="DriverException">There is none.</exception>
    (ClusterSpec Cluster, StandbySpec Standby) Standby(Id<Replica> replica);

    /// <summary>A host as the fleet has it; null when it has none of that name.</summary>
    Host? Host(Id<Host> host);

    /// <summary>A replica as the fleet has it; null when it has none of that name.</summary>
    Replica? Replica(Id<Replica> replica);

    /// <summary>Keeps how a standby is reached, in place of what was known of it: it is watched from now on.</summary>
    Task StandbyIsAsync(Id<Database> database, StandbySpec standby, CancellationToken cancel);

    /// <summary>Forgets a standby; nothing is done when it is not known.</summary>
    Task StandbyGoneAsync(Id<Replica> replica, CancellationToken cancel);

    /// <summary>When the log of a database stood where, as far as was received of it since an instant; in order.</summary>
    IEnumerable<(Instant At, Lsn Position)> Stood(Id<Database> database, Instant since);

    /// <summary>Log sets of a branch that hold something behind a position, in order.</summary>
    IReadOnlyList<BackupSet> LogBehind(Id<Database> database, int branch, Lsn position);

    /// <summary>Keeps that a standby was promoted. Once the fleet says that its database runs on its host, the cluster is there.</summary>
    Task PromotedAsync(Id<Replica> replica, Instant at, CancellationToken cancel);

    /// <summary>Keeps how everybody is kept out of a cluster, or, with null, that nobody is any more: it is reached so from now on.</summary>
    /// <exception cref="DriverException">A higher fence of that run is known.</exception>
    Task AsideAsync(Id<Database> database, KeptOut? how, CancellationToken cancel);

    /// <summary>Keeps what was put in the place of a cluster; nobody is kept out any more.</summary>
    Task PlacedAsync(Id<Database> database, Placed what, CancellationToken cancel);

    /// <summary>Keeps that a cluster lives in an instance of this server's making from now on; nobody is kept out any more. It is there once the fleet says that its database runs on that host.</summary>
    /// <param name="database">The database.</param>
    /// <param name="instance">The name of the instance.</param>
    /// <param name="port">Its port.</param>
    /// <param name="what">What that came to.</param>
    /// <param name="cancel">Breaks it off.</param>
    Task MovedAsync(Id<Database> database, string instance, int port, Placed what, CancellationToken cancel);

    /// <summary>Keeps how a change of a cluster stands.</summary>
    /// <exception cref="DriverException">A higher fence of that run is known.</exception>
    Task ChangingAsync(Id<Database> database, Changing how, CancellationToken cancel);

    /// <summary>The folders for restored instances of all hosts.</summary>
    IEnumerable<string> InstanceFolders { get; }

    /// <summary>The host a database runs on, as the fleet says.</summary>
    Id<Host> HostOf(Id<Database> database);

    /// <summary>The address by which clients reach a database wherever it runs; null where it has none of its own.</summary>
    (string Address, int Port)? ClientAddress(Id<Database> database);

    /// <summary>Has that address lead somewhere from now on; nothing is done where there is none.</summary>
    Task SendClientsAsync(Id<Database> database, string address, int port, CancellationToken cancel);
}
