using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>One task of a plan: what is done to each member, when, and what follows.</summary>
public sealed record PlanTask
{
    /// <summary>Its name, unique within its plan.</summary>
    public required string Id { get; init; }

    /// <summary>What it does.</summary>
    public required TaskKind Kind { get; init; }

    /// <summary>When it is due; null when it only follows other tasks.</summary>
    public Recurrence? Recurrence { get; init; }

    /// <summary>The tasks it follows.</summary>
    public IReadOnlyList<TaskLink> After { get; init; } = [];

    /// <summary>Members start this far apart in all: the first when due, the last this much later, the others evenly between.</summary>
    public Duration SpreadOver { get; init; }

    /// <summary>Members that start at their own time after it is due, by database; overrides <see cref="SpreadOver"/>.</summary>
    public IReadOnlyDictionary<string, Duration> Offsets { get; init; } = new Dictionary<string, Duration>();

    /// <summary>How long after it was due it must have ended; null for no window.</summary>
    public Duration? Window { get; init; }

    /// <summary>The store the set goes to, for tasks that make one or copy one.</summary>
    public Id<Store>? Store { get; init; }

    /// <summary>Stores that get a copy once the set is there.</summary>
    public IReadOnlyList<Id<Store>> CopyTo { get; init; } = [];

    /// <summary>How sets are named; tokens {database}, {kind}, {date}, {time}, in local time.</summary>
    public string Naming { get; init; } = SetNaming.Default;

    /// <summary>How hard it compresses.</summary>
    public Compression Compression { get; init; } = Compression.Light;

    /// <summary>The name of the key the set is encrypted with; null when it is not.</summary>
    public string? Key { get; init; }

    /// <summary>Whether a checksum is written with the set.</summary>
    public bool Checksum { get; init; } = true;

    /// <summary>Whether what was written is read back at once.</summary>
    public bool VerifyAfterWriting { get; init; }

    /// <summary>Attempts in all before a run has failed; at least 1.</summary>
    public int Attempts { get; init; } = 2;

    /// <summary>Wait before the second attempt; doubled before each further one.</summary>
    public Duration BackOff { get; init; } = Duration.FromMinutes(1);

    /// <summary>A run that takes longer is ended; null for no limit.</summary>
    public Duration? TimeLimit { get; init; }

    /// <summary>Sets of it stand aside: later differentials do not build on them.</summary>
    public bool OutsideChain { get; init; }

    /// <summary>What is kept in <see cref="Store"/>.</summary>
    public RetentionRule Keep { get; init; } = RetentionRule.For(Duration.FromDays(14));

    /// <summary>What is kept in <see cref="CopyTo"/>; null for the same.</summary>
    public RetentionRule? KeepCopies { get; init; }

    /// <summary>How long copies are locked in stores that lock; null for not at all.</summary>
    public Duration? Lock { get; init; }

    /// <summary>What happens with missed occurrences.</summary>
    public MissedRule Missed { get; init; } = MissedRule.CatchUpOnce;

    /// <summary>What happens when the run before is still going.</summary>
    public OverlapRule Overlap { get; init; } = OverlapRule.Skip;

    /// <summary>The stores its sets end up in, the first first.</summary>
    public IEnumerable<Id<Store>> Stores => Store is { } s ? CopyTo.Prepend(s) : CopyTo;

    /// <summary>The rule for one of its stores.</summary>
    public RetentionRule KeepIn(Id<Store> store) => store == Store ? Keep : KeepCopies ?? Keep;
}
