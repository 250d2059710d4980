using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Store;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>What the drivers look up: how clusters are reached, where stores and restored instances lie, what sets are.</summary>
internal interface IClusterBook
{
    /// <exception cref="DriverException">There is no such cluster.</exception>
    ClusterSpec Cluster(Id<Database> database);

    /// <exception cref="DriverException">It is no folder this installation knows.</exception>
    FolderStore Store(Id<Core.Fleet.Store> store);

    /// <summary>The folder for restored instances on a host.</summary>
    /// <exception cref="DriverException">This server cannot start one there.</exception>
    string InstancesOn(Id<Host> host);

    /// <summary>A set as it is known now; null when it is not.</summary>
    BackupSet? Set(Id<Database> database, Id<BackupSet> set);

    /// <summary>The newest log of a database; null when there is none.</summary>
    BackupSet? NewestLog(Id<Database> database);
}
