using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Drivers;

/// <summary>
/// How backups are taken, copied, read back and removed. Every call carries the run and its fence and is idempotent: called again after a crash
/// it finishes what was begun, or reports what it did. What it returns it measured.
/// </summary>
/// <remarks>Every member throws <see cref="DriverException"/> with <see cref="DriverProblem.Stale"/> when the fence is an old one.</remarks>
public interface IBackupDriver
{
    /// <summary>Takes a set into a store. One run takes one set: asked again it gives the set it took.</summary>
    /// <exception cref="DriverException">It is refused, the store is full, or something is out of reach.</exception>
    Task<Taken> TakeAsync(RunCall call, TakeSpec spec, CancellationToken cancel);

    /// <summary>Makes one more copy of a set; one that is there already is found done.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="set">The set.</param>
    /// <param name="to">The store the copy goes to.</param>
    /// <param name="lockSeconds">For how long it is locked in a store that locks; null for not at all.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">No whole copy can be read, the store is full, or no way leads there.</exception>
    Task<Taken> CopyAsync(RunCall call, Id<Database> database, Id<BackupSet> set, Id<Store> to, double? lockSeconds, CancellationToken cancel);

    /// <summary>Reads copies back and says of each set how its copies are.</summary>
    Task<IReadOnlyList<Taken>> ReadBackAsync(RunCall call, Id<Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel);

    /// <summary>Removes copies; those that are gone are found done.</summary>
    Task<IReadOnlyList<Taken>> RemoveAsync(RunCall call, Id<Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel);

    /// <summary>What of the database the account sees that would copy it, and what not: a copy of what it does not see is not one.</summary>
    /// <exception cref="DriverException">Nobody can ask.</exception>
    Task<IReadOnlyList<CheckResult>> SeesAsync(Id<Database> database, CancellationToken cancel);

    /// <summary>Reads the database itself and looks for damage.</summary>
    /// <returns>What was found, in words, with the bytes read.</returns>
    Task<(string Found, Moved Moved)> CheckIntegrityAsync(RunCall call, Id<Database> database, CancellationToken cancel);
}
