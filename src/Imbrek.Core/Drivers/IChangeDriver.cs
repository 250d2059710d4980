using Imbrek.Core.Changes;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>How a change is carried out, on a copy or on the database itself, and what is seen before and after. Every call is idempotent: a part that was carried out is found done.</summary>
/// <remarks>Every member throws <see cref="DriverException"/> with <see cref="DriverProblem.Stale"/> when the fence is an old one.</remarks>
public interface IChangeDriver
{
    /// <summary>Why a change cannot be carried out on a database itself as that is now; null when nothing is in the way. Nothing is changed.</summary>
    /// <exception cref="DriverException">It cannot be asked.</exception>
    Task<string?> WhyNotAsync(Id<Database> database, Change change, CancellationToken cancel) => Task.FromResult<string?>(null);

    /// <summary>Looks at what the change could break: version, rows of every table, named queries, errors in the log.</summary>
    /// <exception cref="DriverException">It cannot be looked at. A query that fails is no such failure: it is in what was seen.</exception>
    Task<ChangeLook> LookAsync(RunCall call, ChangeTarget target, IReadOnlyList<NamedQuery> queries, CancellationToken cancel);

    /// <summary>Carries a part out.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="target">On what.</param>
    /// <param name="number">Which part of the change, from 1.</param>
    /// <param name="round">How often people have decided again that it be carried out; 0 at first. Where nobody knows whether a statement was carried out, it is not carried out again in the same round.</param>
    /// <param name="part">The part.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">A statement cannot be carried out; it is said which, and what before it was.</exception>
    Task<PartDone> DoAsync(RunCall call, ChangeTarget target, int number, int round, ChangePart part, CancellationToken cancel);
}

/// <summary>On what a change is carried out.</summary>
/// <param name="Database">The database.</param>
/// <param name="Aside">The copy of it; null for the database itself.</param>
public sealed record ChangeTarget(Id<Database> Database, InstanceSpec? Aside);

/// <summary>What was seen.</summary>
/// <param name="At">When.</param>
/// <param name="Version">The version that runs; null when it is not told.</param>
/// <param name="Tables">Rows of every table.</param>
/// <param name="Queries">What the named queries answered, and how fast.</param>
/// <param name="Errors">Errors in the log of the engine when looking began; null where nobody can look.</param>
/// <param name="ErrorsSince">The same when it was over, with those of the queries themselves.</param>
public sealed record ChangeLook(Instant At, string? Version, IReadOnlyList<TableRows> Tables, IReadOnlyList<QueryTook> Queries, long? Errors, long? ErrorsSince = null);

/// <summary>Rows of a table.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Rows">How many.</param>
/// <param name="Estimated">Whether its engine estimates them, and nobody counted: on a database that others use.</param>
public sealed record TableRows(string Name, long Rows, bool Estimated = false);

/// <summary>What a named query answered.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Answer">What it answered, shortened; null when it failed.</param>
/// <param name="Seconds">Seconds until all of the answer was there, the middle one of several times.</param>
/// <param name="Error">Why it failed; null when it did not.</param>
/// <param name="Quickest">Seconds of the quickest of those times; null when it was asked once. What else goes on in the machine only ever adds to what a query takes.</param>
public sealed record QueryTook(string Name, string? Answer, double Seconds, string? Error, double? Quickest = null);

/// <summary>What a part measured.</summary>
/// <param name="Seconds">Seconds it took.</param>
/// <param name="Statements">What its statements did, one by one.</param>
/// <param name="Version">The version that runs since; null when it was not changed.</param>
/// <param name="Branch">The branch it began, where log from before does not lead on; null when it began none.</param>
/// <param name="Left">Replicas that no longer follow, with the reason.</param>
public sealed record PartDone(double Seconds, IReadOnlyList<StatementTook> Statements, string? Version = null, Branch? Branch = null, IReadOnlyList<string>? Left = null);

/// <summary>What a statement did.</summary>
public sealed record StatementTook(string Statement, double Seconds, string Said);
