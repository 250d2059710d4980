using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.PostgreSql.Drills;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Features.Runs;
using NodaTime;

namespace Imbrek.PostgreSql.Serving;

/// <summary>The drivers of real clusters. Any server process can call them that shares the folders of its stores.</summary>
internal sealed class PostgreSqlFamily(ClusterBook book, IClock clock) : IDriverFamily
{
    /// <inheritdoc/>
    public string Name => "postgresql";

    /// <inheritdoc/>
    public bool Here => true;

    /// <inheritdoc/>
    public IRestoreDriver Restore { get; } = new PostgreSqlRestoreDriver(book);

    /// <inheritdoc/>
    public IBackupDriver Backup { get; } = new PostgreSqlBackupDriver(book, clock);

    /// <inheritdoc/>
    public IReplicateDriver? Replicate { get; } = new PostgreSqlReplicateDriver(book, clock);

    /// <inheritdoc/>
    public IDrillDriver? Drill { get; } = new PostgreSqlDrillDriver(book, clock);

    /// <inheritdoc/>
    public IChangeDriver? Change { get; } = new PostgreSqlChangeDriver(book, clock);

    /// <inheritdoc/>
    public IInventoryDriver? Inventory { get; } = new PostgreSqlInventoryDriver(book);

    /// <inheritdoc/>
    public string ChangeHelp => "SQL; a part is one transaction where its statements allow it";

    /// <inheritdoc/>
    public string? WhyNoChange(bool aside) => aside ? null : "its drivers rehearse changes on copies, and carry out none on a cluster that others use";

    /// <inheritdoc/>
    public bool StopsAtPositions => true;

    /// <inheritdoc/>
    public bool RestoresInstances => true;

    /// <inheritdoc/>
    public string QueryHelp => "SQL, asked while it may only be read; false as its first answer fails the check";

    /// <inheritdoc/>
    public bool Knows(Database database) => book.All.ContainsKey(database.Id.Value);

    /// <inheritdoc/>
    /// <remarks>Where this server knows a folder for instances.</remarks>
    public bool StartsOn(Id<Host> host) => book.FolderOf(FolderRow.OfHost, host.Value) is not null;

    /// <inheritdoc/>
    public IDisposable Engage() => Nobody.Instance;

    private sealed class Nobody : IDisposable
    {
        public static readonly Nobody Instance = new();

        public void Dispose()
        {
        }
    }
}
