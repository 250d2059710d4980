using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>
/// How a restore is carried out on an engine. Every call carries the run and its fence and is idempotent: called again after a crash with the
/// same arguments it completes what was begun or finds it done. A call takes the seconds the engine takes, and says what it measured.
/// </summary>
/// <remarks>Every member throws <see cref="DriverException"/> with <see cref="DriverProblem.Stale"/> when the fence is an old one.</remarks>
public interface IRestoreDriver
{
    /// <summary>Makes an empty instance that nobody may use yet.</summary>
    /// <exception cref="DriverException">There is no room, or the host is out of reach.</exception>
    Task<Moved> ProvisionAsync(RunCall call, InstanceSpec instance, CancellationToken cancel);

    /// <summary>Empties an instance, or makes it where there is none: it stays under its name and, where the family can, at its address. Nobody is in it then.</summary>
    /// <exception cref="DriverException">There is no room, or the host is out of reach.</exception>
    async Task<Moved> EmptyAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        await DiscardAsync(call, instance, cancel);
        return await ProvisionAsync(call, instance, cancel);
    }

    /// <summary>Restores a base, or a differential or incremental on what is there.</summary>
    /// <exception cref="DriverException">The copy cannot be read, or is found broken while it is.</exception>
    Task<Moved> RestoreSetAsync(RunCall call, InstanceSpec instance, SetCopy copy, CancellationToken cancel);

    /// <summary>Applies logs one after another.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="instance">The instance.</param>
    /// <param name="logs">The logs, in order.</param>
    /// <param name="stop">Where it is stopped; null to apply all of it.</param>
    /// <param name="applied">Called with the number of logs applied so far.</param>
    /// <param name="cancel">Stops between two logs.</param>
    /// <returns>Among the rest the instant and the position that the instance really reached, where they are known before it is opened.</returns>
    /// <exception cref="DriverException">A copy cannot be read, is broken, or does not follow.</exception>
    Task<Moved> ApplyLogsAsync(RunCall call, InstanceSpec instance, IReadOnlyList<SetCopy> logs, LogStop? stop, Action<int> applied, CancellationToken cancel);

    /// <summary>Opens the instance for those who check it, and for nobody else.</summary>
    /// <returns>Among the rest the instant that the instance really reached.</returns>
    Task<Moved> OpenAsync(RunCall call, InstanceSpec instance, CancellationToken cancel);

    /// <summary>Looks whether what was restored is what should be there.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="instance">The instance.</param>
    /// <param name="wanted">The instant it should have been restored to.</param>
    /// <param name="wish">What of it is wanted; null for all that can be looked at.</param>
    /// <param name="cancel">Stops the checks.</param>
    Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, InstanceSpec instance, Instant wanted, CheckWish? wish, CancellationToken cancel);

    /// <summary>Lets clients in.</summary>
    Task<Moved> ReleaseAsync(RunCall call, InstanceSpec instance, CancellationToken cancel);

    /// <summary>
    /// Has the instance take the place of its database: what it holds is the database from now on, a new branch begins, and clients are let in. On the host where that runs there is no way back but a restore; on another one
    /// it must hold all that was written, and nobody may be writing. What was loaded from a dump begins its log anew: no log from before leads on.
    /// </summary>
    /// <exception cref="DriverException">It cannot, and says why; nothing has changed then.</exception>
    Task<Promotion> PlaceAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, $"nothing is put back in place of {instance.Database} by this driver");

    /// <summary>Tries whether its database could live in an instance on another host once all it holds has been dumped and loaded there, and changes nothing.</summary>
    /// <returns>What was tried; what does not pass would stop it after everybody has been kept out.</returns>
    Task<IReadOnlyList<CheckResult>> TryMoveAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => Task.FromResult<IReadOnlyList<CheckResult>>([]);

    /// <summary>Changes what the instance holds by statements of an administrator's own, before anybody is let in: all of them, or none.</summary>
    /// <exception cref="DriverException">A statement cannot be carried out; it is said which.</exception>
    Task<IReadOnlyList<CheckResult>> MaskAsync(RunCall call, InstanceSpec instance, IReadOnlyList<string> statements, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, $"nothing is masked in copies of {instance.Database} by this driver");

    /// <summary>Lets named hosts alone in, and tries it from both sides: each of them gets in, and others do not.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="instance">The instance.</param>
    /// <param name="hosts">The hosts; none when it is looked at through the product alone.</param>
    /// <param name="readOnly">Whether they may read alone.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">A host that should get in is out of reach.</exception>
    Task<LetIn> LetInAsync(RunCall call, InstanceSpec instance, IReadOnlyList<Id<Host>> hosts, bool readOnly, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, $"copies of {instance.Database} are opened to everybody or to nobody by this driver");

    /// <summary>Sets a setting of a host for as long as a run needs it. Where several need it at once it is set back with the last of them.</summary>
    /// <returns>What it was before the first of them changed it.</returns>
    /// <exception cref="DriverException">It cannot be changed, or another run needs it to be something else.</exception>
    Task<string> SetAsync(RunCall call, Id<Host> host, string setting, string value, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, $"no setting of {host} is changed by this driver: set {setting} to {value} there");

    /// <summary>A run needs a setting no longer: it is set back unless another does; nothing is done where the run changed nothing.</summary>
    /// <returns>What became of it.</returns>
    Task<string> SetBackAsync(RunCall call, Id<Host> host, string setting, CancellationToken cancel) => Task.FromResult("nothing was changed");

    /// <summary>Asks an instance that is open a query of an administrator's own, for reading alone.</summary>
    /// <param name="instance">The instance.</param>
    /// <param name="query">The query; one.</param>
    /// <param name="most">How many rows at most.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">The instance is not open, or the query cannot be answered; it is said why.</exception>
    Task<QueryRows> AskAsync(InstanceSpec instance, string query, int most, CancellationToken cancel);

    /// <summary>Removes the instance and everything it took, whatever state it is in; no error when there is nothing.</summary>
    Task DiscardAsync(RunCall call, InstanceSpec instance, CancellationToken cancel);
}

/// <summary>What came of letting hosts in.</summary>
/// <param name="Tried">What was tried, and how it went.</param>
/// <param name="Answers">Where it answers them; null where that is not known.</param>
public sealed record LetIn(IReadOnlyList<CheckResult> Tried, string? Answers = null);

/// <summary>What checks are wanted of something restored.</summary>
/// <param name="Query">A query of the administrator's own; null for none.</param>
/// <param name="WithinSeconds">How long they may take: what cannot be looked at by then is left out, and said; null for as long as they need.</param>
public sealed record CheckWish(string? Query = null, double? WithinSeconds = null);
