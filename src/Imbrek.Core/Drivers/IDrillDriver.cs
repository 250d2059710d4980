using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>
/// What a change of roles needs beside replication (section 11): somebody who writes and looks on from outside, writes that stop, clients that are sent over. Every call carries the run and its fence and is
/// idempotent: called again after a crash it completes what was begun or finds it done.
/// </summary>
/// <remarks>Every member throws <see cref="DriverException"/> with <see cref="DriverProblem.Stale"/> when the fence is an old one.</remarks>
public interface IDrillDriver
{
    /// <summary>Begins to write a marker a second into the database, and to try a write a second on both sides and through its usual address; until <see cref="EndAsync"/>.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="there">The host its roles are to change to.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <returns>When the first marker was committed.</returns>
    Task<Instant> BeginAsync(RunCall call, Id<Database> database, Id<Host> there, CancellationToken cancel);

    /// <summary>Stops writes at the primary. Of one that is taken for lost the replica receives nothing more either, from the same instant on.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="lostTo">The replica that receives nothing more, because the primary is taken for lost; null when both sides work together.</param>
    /// <param name="at">When, so that several stop at one instant; at once when null, or when that has passed.</param>
    /// <param name="cancel">Breaks it off.</param>
    Task<WritesStopped> StopAsync(RunCall call, Id<Database> database, Id<Replica>? lostTo, Instant? at, CancellationToken cancel);

    /// <summary>Stops the engine of the primary as if it had died, and helps nobody: voters, replica and clients do what they do by themselves.</summary>
    Task<WritesStopped> ProvokeAsync(RunCall call, Id<Database> database, CancellationToken cancel);

    /// <summary>Takes that back: writes go on, and the replica receives again.</summary>
    Task GoOnAsync(RunCall call, Id<Database> database, Id<Replica>? lostTo, CancellationToken cancel);

    /// <summary>Whether a replica holds all that its stopped primary wrote, by what its engine left; null where that is known by instants alone.</summary>
    /// <returns>Whether it has received all, and applied all.</returns>
    Task<(bool Received, bool Applied)?> HoldsAllAsync(RunCall call, Id<Database> database, Id<Replica> replica, CancellationToken cancel) => Task.FromResult<(bool Received, bool Applied)?>(null);

    /// <summary>Tries a write on a host, now.</summary>
    /// <returns>Whether it was taken.</returns>
    Task<bool> TakesWritesAsync(RunCall call, Id<Database> database, Id<Host> host, CancellationToken cancel);

    /// <summary>The markers that are present where the database runs now.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="upTo">Those committed up to this instant alone; null for all.</param>
    /// <param name="cancel">Breaks it off.</param>
    Task<MarkersPresent> MarkersAsync(RunCall call, Id<Database> database, Instant? upTo, CancellationToken cancel);

    /// <summary>Checks what the database holds where it runs now: that it is whole, as far as the engine can tell.</summary>
    Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, Id<Database> database, CancellationToken cancel);

    /// <summary>Has the usual address lead to a host from now on. Clients follow when they next ask for it.</summary>
    Task<Moved> SendClientsAsync(RunCall call, Id<Database> database, Id<Host> host, CancellationToken cancel);

    /// <summary>Waits until a client's write through the usual address succeeds, and says when it first did after an instant.</summary>
    Task<Instant> ClientsBackAsync(RunCall call, Id<Database> database, Instant since, CancellationToken cancel);

    /// <summary>What was seen so far in a run, second by second, from the beginning; nothing when nobody looks on. Acts on nothing, and needs no fence.</summary>
    Task<IReadOnlyList<DrillSpan>> SeenAsync(Guid run, Id<Database> database, CancellationToken cancel);

    /// <summary>Ends what <see cref="BeginAsync"/> began; no error when nothing was.</summary>
    Task EndAsync(RunCall call, Id<Database> database, CancellationToken cancel);
}

/// <summary>Writes have stopped.</summary>
/// <param name="At">When the last could have been committed.</param>
/// <param name="How">How, in words.</param>
/// <param name="Markers">What the one who writes markers has had committed until then.</param>
public sealed record WritesStopped(Instant At, string How, MarkersPresent Markers);

/// <summary>Markers that were found.</summary>
/// <param name="Count">How many.</param>
/// <param name="Last">When the last of them was committed; null when there is none.</param>
public sealed record MarkersPresent(int Count, Instant? Last);

/// <summary>A time in which whoever looked on saw the same each second.</summary>
/// <param name="From">The first second.</param>
/// <param name="To">The last.</param>
/// <param name="Here">Whether a write succeeded on the host that the database ran on at the beginning.</param>
/// <param name="There">Whether one succeeded on the host its roles were to change to.</param>
/// <param name="Clients">Whether one succeeded through the usual address.</param>
public sealed record DrillSpan(Instant From, Instant To, bool Here, bool There, bool Clients);
