namespace Imbrek.Core.Drivers;

/// <summary>How a running engine is looked at before, and while, it is protected. Nothing is changed by it.</summary>
/// <typeparam name="TAddress">How the family reaches one; it names credentials and holds none.</typeparam>
public interface IDiscoverDriver<in TAddress>
{
    /// <summary>Looks at it, for about a second: its log rate is measured.</summary>
    /// <exception cref="DriverException">It cannot be reached, or lets nobody in.</exception>
    Task<Discovered> DiscoverAsync(TAddress address, CancellationToken cancel);
}
