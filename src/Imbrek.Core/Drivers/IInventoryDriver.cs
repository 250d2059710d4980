using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;

namespace Imbrek.Core.Drivers;

/// <summary>Asks a host which databases it runs. Nothing is changed by it, and nothing is kept.</summary>
public interface IInventoryDriver
{
    /// <summary>Asks a host.</summary>
    /// <param name="host">The host.</param>
    /// <param name="cancel">Gives up.</param>
    /// <exception cref="DriverException">It cannot be reached, or lets nobody in.</exception>
    Task<HostAnswer> AskAsync(Id<Host> host, CancellationToken cancel);
}
