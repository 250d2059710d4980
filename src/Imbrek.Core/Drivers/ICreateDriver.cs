using Imbrek.Core.Fleet;

namespace Imbrek.Core.Drivers;

/// <summary>
/// How databases are made on an engine, and taken back. Every call carries the run and its fence and is idempotent: called again after a crash it completes what was begun or finds it done.
/// </summary>
/// <remarks>Every member throws <see cref="DriverException"/> with <see cref="DriverProblem.Stale"/> when the fence is an old one.</remarks>
public interface ICreateDriver
{
    /// <summary>Tries what a database needs where it is to be, and changes nothing.</summary>
    Task<IReadOnlyList<CheckResult>> TryAsync(RunCall call, Database database, CancellationToken cancel);

    /// <summary>Makes it, empty: it takes writes from then on, and nothing protects it yet.</summary>
    /// <returns>How long it took, and when it was there.</returns>
    Task<Moved> CreateAsync(RunCall call, Database database, CancellationToken cancel);

    /// <summary>Takes it back with all that is in it.</summary>
    Task DropAsync(RunCall call, Id<Database> database, CancellationToken cancel);
}
