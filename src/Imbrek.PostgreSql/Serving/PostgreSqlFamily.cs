using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
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
    public IRestoreDriver Restore { get; } = new PostgreSqlRestoreDriver(book, clock);

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
    public string MaskHelp => "SQL, as the owner of the database signed in to; all statements are one transaction where they allow it";

    /// <inheritdoc/>
    public string? WhyNoMask(IReadOnlyList<string> statements) => Statements.WhyNever(statements);

    /// <inheritdoc/>
    public string? WhyNoCopy(CopyUse use, bool forHosts) =>
        use == CopyUse.LeftOpen ? "its drivers leave nothing open for log: a standby follows by itself (Replicas)"
        : use == CopyUse.View && forHosts ? "its drivers open a copy for reading through the product alone: hosts are let into clones"
        : null;

    /// <inheritdoc/>
    public string? WhyNotLetIn(Host host) => NamedHosts.WhyNot(host);

    /// <inheritdoc/>
    public string ChangeHelp => "SQL; a part is one transaction where its statements allow it";

    /// <inheritdoc/>
    public string? WhyNoChange(Core.Changes.Change change) => change.Parts.Select(PostgreSqlChangeDriver.WhyNever).FirstOrDefault(w => w is not null);

    /// <inheritdoc/>
    /// <remarks>Its engine must run on this machine; whether it does is known for sure when people are kept out of it, before anything is touched.</remarks>
    public string? WhyNotInPlace(Database database, RestorePath? path) =>
        path?.Base.Kind == SetKind.Export ? InPlace.WhyNoExport
        : book.Cluster(database.Id) is var c && (!System.Net.IPAddress.TryParse(c.UsualAddress, out var at) || IsHere(at)) ? null
        : $"the engine at {c.UsualAddress}:{c.Port} does not run on this server's machine: it cannot be stopped from here";

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
    public IDisposable Engage(string who) => Nobody.Instance;

    private static bool IsHere(System.Net.IPAddress address) =>
        System.Net.IPAddress.IsLoopback(address) || System.Net.NetworkInformation.NetworkInterface.GetAllNetworkInterfaces().Any(n => n.GetIPProperties().UnicastAddresses.Any(u => u.Address.Equals(address)));

    private sealed class Nobody : IDisposable
    {
        public static readonly Nobody Instance = new();

        public void Dispose()
        {
        }
    }
}
