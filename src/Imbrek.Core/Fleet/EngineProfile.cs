using Imbrek.Core.Catalogue;

namespace Imbrek.Core.Fleet;

/// <summary>What one family of database engine can do and how fast (section 6 of the definitions).</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="ProvisionSeconds">Seconds to make an empty instance before the first set is restored.</param>
/// <param name="PerSetSeconds">Fixed seconds for every set restored.</param>
/// <param name="RestoreBytesPerSecond">The rate at which the engine itself can restore, bytes per second.</param>
/// <param name="ReplayBytesPerSecond">The rate at which log is replayed, bytes of log data per second.</param>
/// <param name="IndexBytesPerSecond">The rate at which an export rebuilds indexes, bytes of data per second.</param>
/// <param name="OpenSeconds">Seconds to open the database after the last set.</param>
/// <param name="Takes">The kinds of set it can take; empty means not stated, which allows all.</param>
/// <param name="TracksChanges">Whether it knows what changed; without, a differential or incremental reads the whole database.</param>
/// <param name="MountsSets">Whether it can open base, differential and incremental where they lie, for reading, without moving them first.</param>
public sealed record EngineProfile(
    Id<EngineProfile> Id,
    string Name,
    double ProvisionSeconds,
    double PerSetSeconds,
    double RestoreBytesPerSecond,
    double ReplayBytesPerSecond,
    double IndexBytesPerSecond,
    double OpenSeconds,
    IReadOnlyList<SetKind>? Takes = null,
    bool TracksChanges = true,
    bool MountsSets = false)
{
    /// <summary>The settings a host must have for an export to be loaded there.</summary>
    public IReadOnlyList<Setting> LoadNeeds { get; init; } = [];

    /// <summary>The settings the host of a database must have for it to be moved away by rounds of log.</summary>
    public IReadOnlyList<Setting> MoveNeeds { get; init; } = [];

    /// <summary>Seconds to load an export, its fixed ones left out: read or written, whichever is slower, and every index built (section 4).</summary>
    /// <param name="dataBytes">Bytes of data in it.</param>
    /// <param name="fetchSeconds">Seconds to read it from its store.</param>
    /// <param name="writeRate">The rate at which what is loaded can be written, bytes per second.</param>
    public double LoadSeconds(double dataBytes, double fetchSeconds, double writeRate) => Math.Max(fetchSeconds, dataBytes / writeRate) + (dataBytes / IndexBytesPerSecond);

    /// <summary>Whether it can take a kind of set.</summary>
    public bool CanTake(SetKind kind) => Takes is not { Count: > 0 } || Takes.Contains(kind);
}
