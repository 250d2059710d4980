using System.Security.Cryptography;
using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>A run of a task on one database: one for each time it was due, and one for each time somebody asked.</summary>
public sealed record TaskRun
{
    /// <summary>Its identifier, made from what it is of and when it was due, so that the same occurrence cannot be two runs.</summary>
    public required Guid Id { get; init; }

    /// <summary>The plan.</summary>
    public required Id<Plan> Plan { get; init; }

    /// <summary>The task.</summary>
    public required string Task { get; init; }

    /// <summary>What the task does.</summary>
    public required TaskKind Kind { get; init; }

    /// <summary>The database.</summary>
    public required Id<Database> Database { get; init; }

    /// <summary>When it was due; for a run that follows another, when that ended.</summary>
    public required Instant Due { get; init; }

    /// <summary>Where it stands.</summary>
    public required RunState State { get; init; }

    /// <summary>When it started.</summary>
    public Instant? Started { get; init; }

    /// <summary>When it ended.</summary>
    public Instant? Ended { get; init; }

    /// <summary>Attempts made.</summary>
    public int Attempts { get; init; }

    /// <summary>Bytes of data it was about.</summary>
    public long DataBytes { get; init; }

    /// <summary>Bytes it stored, read or removed.</summary>
    public long StoredBytes { get; init; }

    /// <summary>Seconds it was expected to take if nothing else ran.</summary>
    public double ExpectedSeconds { get; init; }

    /// <summary>The set it made.</summary>
    public Id<BackupSet>? Set { get; init; }

    /// <summary>What there is to say: why it failed or was left out, what was removed.</summary>
    public string? Note { get; init; }

    /// <summary>How its size or duration stands out among its like; null when it does not.</summary>
    public string? Oddity { get; init; }

    /// <summary>The run it followed; null when it was due by itself.</summary>
    public Guid? After { get; init; }

    /// <summary>Who asked for it; null when it was due.</summary>
    public string? AskedBy { get; init; }

    /// <summary>The identifier of the run of an occurrence.</summary>
    public static Guid IdOf(Id<Plan> plan, string task, Id<Database> database, Instant due, Guid? after, string? askedBy)
    {
        var text = $"{plan}|{task}|{database}|{due.ToUnixTimeMilliseconds()}|{after}|{askedBy}";
        return new Guid(SHA256.HashData(Encoding.UTF8.GetBytes(text)).AsSpan(0, 16));
    }
}
