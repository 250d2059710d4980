using NodaTime;

namespace Imbrek.Data;

/// <summary>A version of the fleet: the whole fleet file as it was from an instant on. The newest is the current one.</summary>
public sealed class FleetVersionRow
{
    public int Number { get; set; }

    public Instant At { get; set; }

    public string Who { get; set; } = "";

    public string Document { get; set; } = "";
}

/// <summary>A backup set, see <see cref="Core.Catalogue.BackupSet"/>.</summary>
public sealed class SetRow
{
    public string Database { get; set; } = "";

    public string Id { get; set; } = "";

    public short Kind { get; set; }

    public int Branch { get; set; }

    public string? Parent { get; set; }

    public long? FromPosition { get; set; }

    public long ToPosition { get; set; }

    public Instant? CoversFrom { get; set; }

    public Instant CoversTo { get; set; }

    public Instant FinishedAt { get; set; }

    public long DataBytes { get; set; }

    public bool OutsideChain { get; set; }

    public bool RollForward { get; set; }

    public string[]? UsableOn { get; set; }

    public string? Key { get; set; }
}

/// <summary>A copy of a set, see <see cref="Core.Catalogue.BackupCopy"/>.</summary>
public sealed class CopyRow
{
    public string Database { get; set; } = "";

    public string SetId { get; set; } = "";

    public string Store { get; set; } = "";

    public Instant AvailableAt { get; set; }

    public Instant? RemovedAt { get; set; }

    public Instant? LockedUntil { get; set; }

    public long StoredBytes { get; set; }

    public short State { get; set; }
}

/// <summary>A marker row known to have been written into a database.</summary>
public sealed class MarkerRow
{
    public long Id { get; set; }

    public string Database { get; set; } = "";

    public string Name { get; set; } = "";

    public Instant At { get; set; }
}

/// <summary>An incident somebody noted.</summary>
public sealed class IncidentRow
{
    public long Id { get; set; }

    public string Database { get; set; } = "";

    public string Title { get; set; } = "";

    public Instant At { get; set; }

    public string NotedBy { get; set; } = "";

    public Instant NotedAt { get; set; }
}

/// <summary>A run: a graph of steps, kept at each transition.</summary>
public sealed class RunRow
{
    public Guid Id { get; set; }

    public string Kind { get; set; } = "";

    public string Database { get; set; } = "";

    public RunState State { get; set; }

    public string Host { get; set; } = "";

    public string Instance { get; set; } = "";

    /// <summary>What was asked, as JSON.</summary>
    public string Request { get; set; } = "{}";

    /// <summary>What was planned, as JSON.</summary>
    public string Plan { get; set; } = "{}";

    /// <summary>What was measured and checked, as JSON; null until known.</summary>
    public string? Result { get; set; }

    public string CreatedBy { get; set; } = "";

    public Instant CreatedAt { get; set; }

    public Instant? StartedAt { get; set; }

    public Instant? ReadyAt { get; set; }

    public Instant? EndedAt { get; set; }

    /// <summary>Why it ended as it did, or what it waits for.</summary>
    public string? Message { get; set; }

    /// <summary>Who released, threw away or cancelled it.</summary>
    public string? DecidedBy { get; set; }

    /// <summary>The process that carries it out, while its lease lasts.</summary>
    public string? LeaseOwner { get; set; }

    /// <summary>Until when, by PostgreSQL's clock.</summary>
    public Instant? LeaseUntil { get; set; }

    public List<StepRow> Steps { get; set; } = [];
}

/// <summary>Where a run stands.</summary>
public enum RunState
{
    /// <summary>Waits for a process to take it.</summary>
    Queued,

    /// <summary>Is being carried out.</summary>
    Running,

    /// <summary>Ready and checked; nobody is let in until somebody has looked.</summary>
    Held,

    /// <summary>Somebody released it: clients are being let in.</summary>
    Releasing,

    /// <summary>Somebody threw it away after the checks.</summary>
    Discarding,

    /// <summary>Somebody cancelled it: what it made is being removed.</summary>
    Cancelling,

    /// <summary>Ended: clients were let in.</summary>
    Released,

    /// <summary>Ended: thrown away after the checks.</summary>
    Discarded,

    /// <summary>Ended: cancelled, nothing left behind.</summary>
    Cancelled,

    /// <summary>Ended: could not be completed, nothing left behind.</summary>
    Failed,
}

/// <summary>One step of a run.</summary>
public sealed class StepRow
{
    public Guid RunId { get; set; }

    public int Ordinal { get; set; }

    /// <summary>What it does: provision, restore, logs, open, check, hold, release.</summary>
    public string Kind { get; set; } = "";

    public string Title { get; set; } = "";

    /// <summary>Ordinals of the steps that must be done before.</summary>
    public int[] After { get; set; } = [];

    public StepState State { get; set; }

    public double? PlannedSeconds { get; set; }

    /// <summary>What it works on, as JSON.</summary>
    public string Work { get; set; } = "{}";

    public Instant? StartedAt { get; set; }

    public Instant? EndedAt { get; set; }

    /// <summary>How far it is, 0 to 1.</summary>
    public double Progress { get; set; }

    public string? Note { get; set; }

    public int Attempts { get; set; }
}

/// <summary>Where a step stands.</summary>
public enum StepState
{
    /// <summary>Not begun.</summary>
    Waiting,

    /// <summary>Under way.</summary>
    Running,

    /// <summary>Done.</summary>
    Done,

    /// <summary>Could not be done.</summary>
    Failed,

    /// <summary>Done, and taken back since.</summary>
    Undone,

    /// <summary>Not needed any more.</summary>
    Skipped,
}

/// <summary>An entry of the evidence ledger, see <see cref="Core.Evidence.LedgerEntry"/>. Rows are never updated or deleted: a trigger refuses.</summary>
public sealed class LedgerRow
{
    public long Number { get; set; }

    public Instant At { get; set; }

    public string Who { get; set; } = "";

    public string Kind { get; set; } = "";

    public string Database { get; set; } = "";

    public string Body { get; set; } = "{}";

    public string Previous { get; set; } = "";

    public string Hash { get; set; } = "";
}

/// <summary>A proof, see <see cref="Core.Evidence.Proof"/>.</summary>
public sealed class ProofRow
{
    public long Id { get; set; }

    public string Database { get; set; } = "";

    public Instant At { get; set; }

    public double LostSeconds { get; set; }

    public double ServiceSeconds { get; set; }

    public bool Passed { get; set; }

    public long SizeBytes { get; set; }

    public string? Version { get; set; }

    public string Loss { get; set; } = "none";

    public string Host { get; set; } = "";

    public Guid? RunId { get; set; }

    public long LedgerNumber { get; set; }
}

/// <summary>How one finished step compared with its profile; recovery times are learned from these.</summary>
public sealed class PaceRow
{
    public long Id { get; set; }

    public string Database { get; set; } = "";

    public string Store { get; set; } = "";

    public string Host { get; set; } = "";

    public double ProfileSeconds { get; set; }

    public double ActualSeconds { get; set; }
}

/// <summary>What happened in the simulated world that people should read.</summary>
public sealed class HappeningRow
{
    public long Id { get; set; }

    public Instant At { get; set; }

    public string? Database { get; set; }

    public string Kind { get; set; } = "";

    public string Text { get; set; } = "";
}

/// <summary>What the simulated world remembers; one row.</summary>
public sealed class WorldRow
{
    public int Id { get; set; }

    /// <summary>Counts the processes that have led the world: one that finds another number does so no longer.</summary>
    public int Lead { get; set; }

    public string State { get; set; } = "{}";

    /// <summary>The instant that was "now" when the demo was made.</summary>
    public Instant MadeAt { get; set; }

    /// <summary>How many days of history it has.</summary>
    public int HistoryDays { get; set; }

    /// <summary>Seconds of the world a second of the wall clock; 0 is paused.</summary>
    public double Pace { get; set; }
}
