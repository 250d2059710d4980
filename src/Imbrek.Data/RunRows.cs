using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Data;

/// <summary>
/// A run of any kind: one that was due, one somebody asked for, a restore. What the runner knows of it and what people decided stand in
/// columns and tables of their own, so that neither overwrites the other.
/// </summary>
public sealed class RunRow
{
    public Guid Id { get; set; }

    /// <summary>What it does: the name of a kind of task, or of a kind of run.</summary>
    public string Kind { get; set; } = "";

    public string Database { get; set; } = "";

    /// <summary>The plan it is of; null when it is of none.</summary>
    public string? Plan { get; set; }

    /// <summary>The task of the plan; null when it is of none.</summary>
    public string? Task { get; set; }

    /// <summary>When it was due; for one that was asked for at once, when that was.</summary>
    public Instant Due { get; set; }

    /// <summary>See <see cref="RunState"/>.</summary>
    public short State { get; set; }

    public Instant? Started { get; set; }

    public Instant? Ended { get; set; }

    public int Attempts { get; set; }

    public long DataBytes { get; set; }

    public long StoredBytes { get; set; }

    public double ExpectedSeconds { get; set; }

    public string? SetId { get; set; }

    /// <summary>Why it stands or ended as it does.</summary>
    public string? Note { get; set; }

    public string? Oddity { get; set; }

    public Guid? AfterId { get; set; }

    /// <summary>Who asked for it; null when it was due.</summary>
    public string? AskedBy { get; set; }

    /// <summary>Whether the one who asked wants its set outside the chain.</summary>
    public bool OutsideChain { get; set; }

    /// <summary>What it alone may hold, as "host/instance"; null when nothing, or not any more.</summary>
    public string? Claim { get; set; }

    /// <summary>When what it makes ends; null for what has no end.</summary>
    public Instant? Until { get; set; }

    /// <summary>The drivers it is carried out through; null for one that others carry out.</summary>
    public string? Driver { get; set; }

    /// <summary>What was asked, as JSON of its kind.</summary>
    public string? Question { get; set; }

    /// <summary>Its steps with what has become of them, as JSON (<c>RunSteps</c>); null for one that others carry out.</summary>
    public string? Steps { get; set; }

    /// <summary>What was measured, as JSON of its kind; null until known.</summary>
    public string? Result { get; set; }

    /// <summary>Whether there is no way back any more: then it cannot be cancelled.</summary>
    public bool NoWayBack { get; set; }

    /// <summary>Rises each time a process takes it up; who writes or calls with a lower one is refused.</summary>
    public long Fence { get; set; }

    /// <summary>The process that carries it out, while its lease lasts.</summary>
    public string? LeaseOwner { get; set; }

    /// <summary>Until when, by PostgreSQL's clock.</summary>
    public Instant? LeaseUntil { get; set; }

    /// <summary>Who cancelled it. Written by people alone.</summary>
    public string? CancelledBy { get; set; }

    /// <summary>How often people decided something about it. Written by people alone.</summary>
    public int Said { get; set; }

    /// <summary>Of what people decided, how much its runner has acted on. Written by the runner alone.</summary>
    public int Heard { get; set; }

    /// <summary>What it can be found by, made by PostgreSQL.</summary>
    public string Search { get; private set; } = "";

    /// <summary>Where it stands.</summary>
    public RunState StateIs => (RunState)State;

    /// <summary>Its steps with what has become of them.</summary>
    public Run ToRun() => RunJson.ReadRun(Steps, CancelledBy);

    /// <summary>The run of a task; only for one that is of a plan.</summary>
    public TaskRun ToTaskRun() => new()
    {
        Id = Id,
        Plan = new(Plan!),
        Task = Task!,
        Kind = PlanFile.KindNamed(Kind)!.Value,
        Database = new(Database),
        Due = Due,
        State = StateIs,
        Started = Started,
        Ended = Ended,
        Attempts = Attempts,
        DataBytes = DataBytes,
        StoredBytes = StoredBytes,
        ExpectedSeconds = ExpectedSeconds,
        Set = SetId is null ? null : new(SetId),
        Note = Note,
        Oddity = Oddity,
        After = AfterId,
        AskedBy = AskedBy,
    };
}

/// <summary>What somebody decided about a step of a run, see <see cref="Decision"/>. Added by people, never changed.</summary>
public sealed class DecisionRow
{
    public Guid RunId { get; set; }

    public int Step { get; set; }

    public int Round { get; set; }

    public string Choice { get; set; } = "";

    public string Who { get; set; } = "";

    public Instant At { get; set; }

    /// <summary>Why, as far as it was said.</summary>
    public string? Why { get; set; }

    /// <summary>The decision.</summary>
    public Decision ToDecision() => new(Step, Round, Choice, Who, At, Why);
}

/// <summary>A line of a run's log.</summary>
public sealed class RunLineRow
{
    public long Id { get; set; }

    public Guid RunId { get; set; }

    public Instant At { get; set; }

    public string Text { get; set; } = "";
}
