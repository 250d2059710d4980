using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>
/// How replicas are seeded, stopped, mended, proved, looked at and promoted on an engine. Every call carries the run and its fence and is idempotent: called
/// again after a crash it completes what was begun or finds it done. A call takes the seconds the engine takes, and says what it measured.
/// </summary>
/// <remarks>Every member throws <see cref="DriverException"/> with <see cref="DriverProblem.Stale"/> when the fence is an old one.</remarks>
public interface IReplicateDriver
{
    /// <summary>Why it cannot do something at all, in words for people; null when it can. What it cannot is refused before it is begun.</summary>
    /// <param name="act">What is to be done.</param>
    /// <param name="replica">With which replica; null for one that is to be made.</param>
    string? WhyNot(ReplicaAct act, Id<Replica>? replica) => null;

    /// <summary>Tries what a replica needs, from both sides: signing in, the link, the port, the share, room, rights.</summary>
    Task<IReadOnlyList<CheckResult>> TryAsync(RunCall call, Replica replica, CancellationToken cancel);

    /// <summary>Seeds a replica with a copy of its database; it goes on from there by itself.</summary>
    /// <exception cref="DriverException">It is out of reach, or has no room.</exception>
    Task<Moved> CopyAsync(RunCall call, Id<Replica> replica, CancellationToken cancel);

    /// <summary>Makes an instance that was restored and not opened the replica; it goes on from there by itself.</summary>
    /// <exception cref="DriverException">What it holds does not lead to what its source still keeps.</exception>
    Task<Moved> JoinAsync(RunCall call, Id<Replica> replica, InstanceSpec restored, CancellationToken cancel);

    /// <summary>Applies log backups to a replica that could not go on, or none where its source still keeps what it needs; it goes on from there by itself.</summary>
    /// <exception cref="DriverException">A copy cannot be read, or does not follow.</exception>
    Task<Moved> MendAsync(RunCall call, Id<Replica> replica, IReadOnlyList<SetCopy> logs, CancellationToken cancel);

    /// <summary>Carries out one stage of a replica that log is shipped to; when there is nothing to do, no byte is moved.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="step">Which stage.</param>
    /// <param name="keepSeconds">For how long what is shipped is kept where the stage puts it, seconds; null for as the replica states.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">Something stands in its way, or the engine ships no log in stages.</exception>
    Task<Moved> ShipAsync(RunCall call, Id<Replica> replica, ShippingStep step, double? keepSeconds, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, $"nothing is shipped to {replica} in stages");

    /// <summary>How far a replica is.</summary>
    Task<ReplicaLook> LookAsync(RunCall call, Id<Replica> replica, CancellationToken cancel);

    /// <summary>Where a replica and its primary stand now, in the engine's own positions. Acts on nothing, and needs no run.</summary>
    /// <exception cref="DriverException">The replica does not answer.</exception>
    Task<ReplicaPositions> PositionsAsync(Id<Replica> replica, CancellationToken cancel);

    /// <summary>Proves that what is written at the primary arrives: a marker written there and read here, digests compared at one position, a write here refused.</summary>
    Task<IReadOnlyList<CheckResult>> ProveAsync(RunCall call, Id<Replica> replica, CancellationToken cancel);

    /// <summary>Has it receive nothing more until it is resumed.</summary>
    Task<Moved> HoldAsync(RunCall call, Id<Replica> replica, CancellationToken cancel);

    /// <summary>Has it go on.</summary>
    Task<Moved> ResumeAsync(RunCall call, Id<Replica> replica, CancellationToken cancel);

    /// <summary>Takes back what was made for a replica that is none any more, or never came to be: what runs of it ends, and its source keeps nothing for it. Called again it does what is left.</summary>
    Task EndAsync(RunCall call, Replica replica, CancellationToken cancel);

    /// <summary>Opens a copy of what a replica holds elsewhere, for those who look at it; the replica goes on receiving.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="instance">The instance that is made of it.</param>
    /// <param name="at">An instant it can be taken back to; null for the newest.</param>
    /// <param name="cancel">Breaks it off.</param>
    Task<Moved> OpenCopyAsync(RunCall call, Id<Replica> replica, InstanceSpec instance, Instant? at, CancellationToken cancel);

    /// <summary>Keeps the old side out, so that there are never two that take writes.</summary>
    /// <returns>What was done, in words.</returns>
    Task<string> FenceAsync(RunCall call, Id<Database> database, CancellationToken cancel);

    /// <summary>Keeps everybody out of a database whose engine is there, but for those who save what it holds: until it is let in again, or put back in place.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="insteadOf">The run that keeps them out already, where this one does it in its place: let in again by this one, they are kept out by that one still. Null where nobody is.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <returns>What was done, in words.</returns>
    /// <exception cref="DriverException">It cannot, and says why; nothing has changed then.</exception>
    Task<string> ShutOutAsync(RunCall call, Id<Database> database, Guid? insteadOf, CancellationToken cancel) => FenceAsync(call, database, cancel);

    /// <summary>Lets everybody in again who was kept out: nobody took over after all, or it is as it was.</summary>
    Task LetInAsync(RunCall call, Id<Database> database, CancellationToken cancel);

    /// <summary>Has a replica take over: it applies what it received, becomes the primary, and a new branch begins. There is no way back.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="replica">The replica.</param>
    /// <param name="host">Where its database runs from then on.</param>
    /// <param name="upTo">Where it stops, so that it fits the others of its group: what it received behind that is given up. Null for all it received.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">It cannot, and says why; nothing has changed then.</exception>
    Task<Promotion> PromoteAsync(RunCall call, Id<Replica> replica, Id<Host> host, Instant? upTo, CancellationToken cancel);

    /// <summary>Whether a promotion can stop at an instant that is given, so that several open as of the same.</summary>
    bool StopsAtInstants => true;
}

/// <summary>What can be done with a replica.</summary>
public enum ReplicaAct
{
    /// <summary>Made, seeded and proved.</summary>
    SetUp,

    /// <summary>Held, and resumed.</summary>
    Hold,

    /// <summary>Mended.</summary>
    Mend,

    /// <summary>A copy of it opened elsewhere.</summary>
    Look,

    /// <summary>Made the primary.</summary>
    TakeOver,

    /// <summary>Ended.</summary>
    End,
}

/// <summary>How far a replica is, as both sides say.</summary>
/// <param name="At">When it was looked at.</param>
/// <param name="ReceivedTo">It has received all that was committed up to this instant.</param>
/// <param name="AppliedTo">It has applied all that was committed up to this instant.</param>
/// <param name="PendingBytes">Log received and not applied.</param>
/// <param name="Position">The position received; null when not known.</param>
/// <param name="HeldUpBy">What keeps it from going on, in words; null when nothing does.</param>
/// <param name="Unusable">Whether it cannot go on until it is mended.</param>
public sealed record ReplicaLook(Instant At, Instant ReceivedTo, Instant AppliedTo, long PendingBytes, long? Position, string? HeldUpBy, bool Unusable);

/// <summary>Where both sides of a replica stand, in the engine's own positions.</summary>
/// <param name="At">When it was asked.</param>
/// <param name="Written">Where the primary's log ends; null when it does not answer.</param>
/// <param name="Received">Where the replica's ends.</param>
/// <param name="Applied">Up to where it is applied.</param>
/// <param name="NotReceivedBytes">Log between the first two; null when the primary does not answer.</param>
/// <param name="NotAppliedBytes">Log between the last two.</param>
/// <param name="NotReceivedTransactions">Transactions that are in the primary's log and not in the replica's; null when the engine does not say.</param>
/// <param name="NotAppliedTransactions">Transactions that are not applied, received or not; null when the engine does not say.</param>
public sealed record ReplicaPositions(Instant At, string? Written, string Received, string Applied, long? NotReceivedBytes, long NotAppliedBytes, long? NotReceivedTransactions, long? NotAppliedTransactions);

/// <summary>What taking over came to.</summary>
/// <param name="Seconds">Seconds it took.</param>
/// <param name="Branch">The branch that began, with where it left its parent.</param>
/// <param name="Host">Where the database runs now.</param>
/// <param name="LostSeconds">From the last change it holds to the last the old primary committed, as far as that is known.</param>
/// <param name="LostTransactions">How many commits of the old primary it does not hold; null when not known.</param>
/// <param name="Left">Other replicas that do not follow the new primary, with why not.</param>
/// <param name="Version">The version that runs now, where it is another than before; null where it is the same.</param>
public sealed record Promotion(double Seconds, Branch Branch, Id<Host> Host, double LostSeconds, long? LostTransactions, IReadOnlyList<Promotion.LeftBehind> Left, string? Version = null)
{
    /// <summary>A replica that does not follow.</summary>
    /// <param name="Replica">The replica.</param>
    /// <param name="Why">Why not.</param>
    public sealed record LeftBehind(Id<Replica> Replica, string Why);
}
