using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Data;

/// <summary>A version of the fleet: the whole fleet file as it was from an instant on. The newest is the current one.</summary>
public sealed class FleetVersionRow
{
    public int Number { get; set; }

    public Instant At { get; set; }

    public string Who { get; set; } = "";

    /// <summary>Why, as far as whoever changed it said so.</summary>
    public string? Why { get; set; }

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

/// <summary>A stretch of lag of a replica, see <see cref="Core.Replication.LagStretch"/>; lags are milliseconds.</summary>
public sealed class LagRow
{
    public string Replica { get; set; } = "";

    public Instant From { get; set; }

    public Instant To { get; set; }

    public int Branch { get; set; }

    public long ReceivedLag { get; set; }

    public long AppliedLag { get; set; }

    public long LeastLag { get; set; }

    public long PendingBytes { get; set; }

    public long? ReceivedPosition { get; set; }
}

/// <summary>What is known of a replica beside its lag.</summary>
public sealed class ReplicaNoteRow
{
    public string Replica { get; set; } = "";

    public string? HeldUpBy { get; set; }

    public string? Unusable { get; set; }

    public Instant? Since { get; set; }

    /// <summary>Who holds it.</summary>
    public string? HeldBy { get; set; }

    /// <summary>The host it is watched from.</summary>
    public string? WatchedFrom { get; set; }

    /// <summary>The run that brings it into being, or back.</summary>
    public Guid? SeedingRun { get; set; }
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

    /// <summary>Whether a replica took over; otherwise sets were restored.</summary>
    public bool TookOver { get; set; }

    public long LedgerNumber { get; set; }

    /// <summary>The row of a proof.</summary>
    /// <param name="database">The database.</param>
    /// <param name="proof">What was measured.</param>
    /// <param name="loss">The loss that was supposed.</param>
    /// <param name="host">Where the database was brought back.</param>
    /// <param name="run">The run that measured it; null when that was no run of ours.</param>
    public static ProofRow Of(Id<Database> database, Proof proof, Loss loss, Id<Host> host, Guid? run = null) => new()
    {
        Database = database.Value,
        At = proof.At,
        LostSeconds = proof.LostSeconds,
        ServiceSeconds = proof.ServiceSeconds,
        Passed = proof.Passed,
        SizeBytes = proof.SizeBytes,
        Version = proof.Version,

        // A loss that takes nothing from the database proves no more than none.
        Loss = proof.Loss == LossKind.None ? Core.Objectives.Loss.None.ToString() : loss.ToString(),
        Host = host.Value,
        RunId = run,
        TookOver = proof.TookOver,
    };

    /// <summary>The proof as the core knows it.</summary>
    public Proof ToProof() => new(At, LostSeconds, ServiceSeconds, Passed, SizeBytes, Version, Enum.TryParse<LossKind>(Loss.Split(':')[0], ignoreCase: true, out var kind) ? kind : LossKind.None, TookOver);
}

/// <summary>A version of the version calendar.</summary>
public sealed class VersionRow
{
    /// <summary>Its place in the calendar.</summary>
    public int Number { get; set; }

    public string Engine { get; set; } = "";

    public string Version { get; set; } = "";

    /// <summary>The last day on which it is supported.</summary>
    public LocalDate SupportedUntil { get; set; }
}

/// <summary>A host that is asked for its databases, and what it last answered.</summary>
public sealed class InventoryRow
{
    public string Host { get; set; } = "";

    /// <summary>Whether somebody waits for its answer.</summary>
    public bool Waits { get; set; }

    /// <summary>When it was last asked; null when it never was.</summary>
    public Instant? At { get; set; }

    /// <summary>What it answered, as JSON.</summary>
    public string? Answer { get; set; }

    /// <summary>What it answered the time before, as JSON, and when.</summary>
    public string? Before { get; set; }

    public Instant? BeforeAt { get; set; }
}

/// <summary>A change as a named script.</summary>
public sealed class ChangeRow
{
    public string Id { get; set; } = "";

    /// <summary>What it does, as JSON.</summary>
    public string Body { get; set; } = "{}";

    public string ChangedBy { get; set; } = "";

    public Instant ChangedAt { get; set; }
}

/// <summary>A drill with a date, and who is told of it beforehand.</summary>
public sealed class DatedDrillRow
{
    public Guid Id { get; set; }

    /// <summary>What it is of: database, group, service or site.</summary>
    public string Of { get; set; } = "";

    public string Target { get; set; } = "";

    /// <summary>What it is of, in words.</summary>
    public string Title { get; set; } = "";

    /// <summary>The database it is of, or the first of those.</summary>
    public string Database { get; set; } = "";

    /// <summary>The replica that becomes the primary; null where each has its own.</summary>
    public string? Replica { get; set; }

    public string Kind { get; set; } = "";

    public string Ending { get; set; } = "";

    public Instant At { get; set; }

    /// <summary>Who is told when it is set, the day before, and when it was not held.</summary>
    public string[] People { get; set; } = [];

    /// <summary>Who is told when it was not held a day later.</summary>
    public string[] Escalate { get; set; } = [];

    public string? Why { get; set; }

    public string AskedBy { get; set; } = "";

    public Instant AskedAt { get; set; }

    public string? CalledOffBy { get; set; }

    /// <summary>The run that held it; null before.</summary>
    public Guid? RunId { get; set; }

    /// <summary>What was told since it was set: 1 the day before, 2 that it was not held, 3 to whom that escalates.</summary>
    public int Told { get; set; }
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

/// <summary>Who decides what starts, and how far that has been decided; one row.</summary>
public sealed class DispatchRow
{
    public int Id { get; set; }

    /// <summary>Counts the processes that have led: one that finds another number does so no longer.</summary>
    public int Lead { get; set; }

    /// <summary>Up to when it was decided what starts.</summary>
    public Instant DecidedTo { get; set; }
}
