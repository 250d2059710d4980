namespace Imbrek.Core.Fleet;

/// <summary>Runs database instances; lies in a site and may use an array.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Site">The site it stands in.</param>
/// <param name="Array">The array its storage lies on; null when it has its own disks.</param>
/// <param name="WriteBytesPerSecond">How fast it can write restored data, bytes per second.</param>
/// <param name="FreeBytes">Room for a restored database, bytes; null when not stated, which never disqualifies.</param>
/// <param name="Engines">The engine families it can run; empty means any.</param>
/// <param name="Versions">The major versions installed; empty means not stated.</param>
/// <param name="Keys">The names of the encryption keys present; empty means not stated.</param>
/// <param name="Slots">How many backups may run on it at once, log backups not counted; null for no limit.</param>
/// <param name="Processors">How many processors backups may use; null when not stated, which never limits.</param>
/// <param name="Collation">By which rules text is ordered there, with their version; null when not stated.</param>
/// <param name="CharacterSet">The character set databases there are made with; null when not stated.</param>
/// <param name="TimeZone">The time zone databases there are asked in; null when not stated.</param>
public sealed record Host(
    Id<Host> Id,
    Id<Site> Site,
    Id<StorageArray>? Array,
    double WriteBytesPerSecond,
    long? FreeBytes,
    IReadOnlyList<Id<EngineProfile>> Engines,
    IReadOnlyList<string> Versions,
    IReadOnlyList<string> Keys,
    int? Slots = null,
    double? Processors = null,
    string? Collation = null,
    string? CharacterSet = null,
    string? TimeZone = null)
{
    /// <summary>The networks from which what runs on it can be reached; empty means not stated.</summary>
    public IReadOnlyList<string> OpenTo { get; init; } = [];

    /// <summary>The accounts, or groups of them, that may sign in to what runs on it; empty means not stated.</summary>
    public IReadOnlyList<string> SignsIn { get; init; } = [];

    /// <summary>Who can read what lies on it; empty means not stated.</summary>
    public IReadOnlyList<string> ReadBy { get; init; } = [];

    /// <summary>The addresses it asks from, as IP addresses: by them it is let into a clone; empty means not stated.</summary>
    public IReadOnlyList<string> Addresses { get; init; } = [];

    /// <summary>Settings of its engines; one that is not named is not stated.</summary>
    public IReadOnlyList<Setting> Settings { get; init; } = [];

    /// <summary>Whether what lies on it is encrypted.</summary>
    public bool Encrypted { get; init; }

    /// <summary>Whether a key is present; null when it is not stated which are.</summary>
    /// <param name="key">The name of the key.</param>
    public bool? HasKey(string key) => Keys.Count == 0 ? null : Keys.Contains(key);
}
