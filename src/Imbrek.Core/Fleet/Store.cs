namespace Imbrek.Core.Fleet;

/// <summary>Keeps backup copies; lies in a site, may lie on an array or be attached to one host.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Site">The site it stands in.</param>
/// <param name="Array">The array it lies on, if any.</param>
/// <param name="Host">The host it is attached to, if any; it is lost with that host.</param>
/// <param name="Offline">Out of reach of any credential (vaulted tape, locked bucket); still reachable for a restore.</param>
/// <param name="ReadBytesPerSecond">Read rate in bytes per second.</param>
/// <param name="WriteBytesPerSecond">Write rate in bytes per second.</param>
/// <param name="Slots">How many backups may write to it at once, log backups not counted; null for no limit.</param>
/// <param name="CapacityBytes">How much it holds, bytes; null when not stated.</param>
/// <param name="Locks">Whether it can lock copies against deletion.</param>
public sealed record Store(
    Id<Store> Id,
    Id<Site> Site,
    Id<StorageArray>? Array,
    Id<Host>? Host,
    bool Offline,
    double ReadBytesPerSecond,
    double WriteBytesPerSecond,
    int? Slots = null,
    long? CapacityBytes = null,
    bool Locks = false);
