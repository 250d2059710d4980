using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>A run of a task on its way through <see cref="RunRules"/>.</summary>
/// <param name="series">What it is a run of.</param>
/// <param name="due">When it was due.</param>
/// <param name="trigger">The run it follows; null when it was due by itself.</param>
/// <param name="askedBy">Who asked for it; null when it was due.</param>
public sealed class Occurrence(Series series, Instant due, Occurrence.Followed? trigger, string? askedBy)
{
    /// <summary>The run, and the set, that a run follows.</summary>
    /// <param name="Run">The run.</param>
    /// <param name="Set">The set it made; null when it made none.</param>
    public sealed record Followed(Guid Run, Id<BackupSet>? Set);

    /// <summary>Its identity.</summary>
    public Guid Id { get; } = TaskRun.IdOf(series.Plan.Id, series.Task.Id, series.Database.Id, due, trigger?.Run, askedBy);

    /// <summary>What it is a run of.</summary>
    public Series Series { get; } = series;

    /// <summary>The task.</summary>
    public PlanTask Task => Series.Task;

    /// <summary>The database.</summary>
    public Database Database => Series.Database;

    /// <summary>When it was due; for one that follows another, when that ended.</summary>
    public Instant Due { get; } = due;

    /// <summary>The run it follows; null when it was due by itself.</summary>
    public Followed? Trigger { get; } = trigger;

    /// <summary>Who asked for it; null when it was due.</summary>
    public string? AskedBy { get; } = askedBy;

    /// <summary>When its first attempt began.</summary>
    public Instant? Started { get; set; }

    /// <summary>Attempts begun.</summary>
    public int Attempts { get; set; }

    /// <summary>Bytes of data it was about.</summary>
    public long DataBytes { get; set; }

    /// <summary>Bytes it stored, read or removed.</summary>
    public long StoredBytes { get; set; }

    /// <summary>For a log: the seconds it covers.</summary>
    public double CoversSeconds { get; set; }

    /// <summary>Seconds it should take if nothing else ran.</summary>
    public double ExpectedSeconds { get; set; }

    /// <summary>The set it made; when it is there already as a run begins, only further copies are missing.</summary>
    public Id<BackupSet>? Set { get; set; }

    /// <summary>How it stands out among its like; null when it does not.</summary>
    public string? Oddity { get; set; }

    internal RunRules.Line? Line { get; set; }

    internal bool Waits { get; set; }

    internal bool HasSlot { get; set; }

    /// <summary>How it stands, as runs are kept.</summary>
    public TaskRun ToRun(RunState state, string? note, Instant now) => new()
    {
        Id = Id,
        Plan = Series.Plan.Id,
        Task = Task.Id,
        Kind = Task.Kind,
        Database = Database.Id,
        Due = Due,
        State = state,
        Started = Started,
        Ended = state.IsOver() ? now : null,
        Attempts = Attempts,
        DataBytes = DataBytes,
        StoredBytes = StoredBytes,
        ExpectedSeconds = double.IsFinite(ExpectedSeconds) ? ExpectedSeconds : 0,
        Set = Set,
        Note = note,
        Oddity = Oddity,
        After = Trigger?.Run,
        AskedBy = AskedBy,
    };
}

/// <summary>A run that is not over, as it was kept.</summary>
/// <param name="Plan">The plan.</param>
/// <param name="Task">The task.</param>
/// <param name="Kind">What the task does.</param>
/// <param name="Database">The database.</param>
/// <param name="Due">When it was due, milliseconds.</param>
/// <param name="Attempts">Attempts begun.</param>
/// <param name="OutsideChain">Whether its set stands aside.</param>
/// <param name="Set">The set it has made; null when none.</param>
/// <param name="After">The run it follows.</param>
/// <param name="AfterSet">The set of that.</param>
/// <param name="AskedBy">Who asked for it.</param>
/// <param name="UnderWay">Whether somebody carries it out already.</param>
public sealed record OpenRun(
    string Plan, string Task, string Kind, string Database, long Due, int Attempts, bool OutsideChain, string? Set, Guid? After, string? AfterSet, string? AskedBy, bool UnderWay = false)
{
    /// <summary>Its identity.</summary>
    public Guid Id => TaskRun.IdOf(new(Plan), Task, new(Database), Instant.FromUnixTimeMilliseconds(Due), After, AskedBy);
}

/// <summary>How a run, or an attempt of it, ended.</summary>
public abstract record TaskOutcome
{
    /// <summary>Well.</summary>
    /// <param name="Note">What there is to say.</param>
    public sealed record Goes(string? Note) : TaskOutcome;

    /// <summary>Badly.</summary>
    /// <param name="Why">Why.</param>
    /// <param name="CanRetry">Whether another attempt may help.</param>
    public sealed record Fails(string Why, bool CanRetry) : TaskOutcome;

    /// <summary>There was nothing to do it on.</summary>
    /// <param name="Why">Why.</param>
    public sealed record Nothing(string Why) : TaskOutcome;
}
