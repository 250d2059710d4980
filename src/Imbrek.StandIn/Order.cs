using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>The run, and the set, that a run follows.</summary>
internal sealed record Trigger(Guid Run, Id<BackupSet>? Set);

/// <summary>A run on its way.</summary>
internal sealed class Order(Series series, Instant due, Trigger? trigger, string? askedBy)
{
    public Guid Id { get; } = TaskRun.IdOf(series.Plan.Id, series.Task.Id, series.Database.Id, due, trigger?.Run, askedBy);

    public Series Series { get; } = series;

    public PlanTask Task => Series.Task;

    public Database Database => Series.Database;

    public Instant Due { get; } = due;

    public Trigger? Trigger { get; } = trigger;

    public string? AskedBy { get; } = askedBy;

    /// <summary>What is known of the task's runs on this database.</summary>
    public PlanRunner.Line? Line { get; set; }

    public Instant? Started { get; set; }

    public int Attempts { get; set; }

    public long DataBytes { get; set; }

    public long StoredBytes { get; set; }

    /// <summary>For a log: the seconds it covers.</summary>
    public double CoversSeconds { get; set; }

    public double ExpectedSeconds { get; set; }

    /// <summary>The set it made; when it is there already as a run begins, only further copies are missing.</summary>
    public Id<BackupSet>? Set { get; set; }

    public string? Oddity { get; set; }

    public bool Waits { get; set; }

    public bool HasSlot { get; set; }

    /// <summary>Bytes of it on the move.</summary>
    public List<FairShare.Flow> Flows { get; } = [];

    /// <summary>Changes with every attempt, so that what an earlier one still had to say is not heard.</summary>
    public int Serial { get; set; }
}

/// <summary>How an attempt ended.</summary>
internal abstract record TaskOutcome
{
    /// <summary>Well.</summary>
    public sealed record Goes(string? Note) : TaskOutcome;

    /// <summary>Badly.</summary>
    public sealed record Fails(string Why, bool CanRetry) : TaskOutcome;

    /// <summary>There was nothing to do it on.</summary>
    public sealed record Nothing(string Why) : TaskOutcome;
}
