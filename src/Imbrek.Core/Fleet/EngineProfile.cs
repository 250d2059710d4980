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
public sealed record EngineProfile(
    Id<EngineProfile> Id,
    string Name,
    double ProvisionSeconds,
    double PerSetSeconds,
    double RestoreBytesPerSecond,
    double ReplayBytesPerSecond,
    double IndexBytesPerSecond,
    double OpenSeconds);
