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

    /// <summary>The names of files and accounts that a database brings, and those that are taken on a host; changes nothing.</summary>
    Task<NamesAt> NamesAsync(Id<Database> source, Id<Host> host, CancellationToken cancel);

    /// <summary>Makes a database of what an open instance of the same run holds: it takes writes from then on, under names of its own, and the instance is gone.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="instance">The instance.</param>
    /// <param name="database">The database, on the host of the instance.</param>
    /// <param name="names">What its files and accounts are called there; one that was taken meanwhile is refused.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <returns>How long it took, and when it was there.</returns>
    Task<Moved> AdoptAsync(RunCall call, InstanceSpec instance, Database database, IReadOnlyList<MappedName> names, CancellationToken cancel);

    /// <summary>Takes back what the run made, with all that is in it; nothing is done where it made none of that name.</summary>
    Task DropAsync(RunCall call, Id<Database> database, CancellationToken cancel);
}
