using NodaTime;

namespace Imbrek.Core.Runs;

/// <summary>What has become of a step.</summary>
public sealed record StepProgress
{
    /// <summary>Where it stands.</summary>
    public StepState State { get; init; }

    /// <summary>Whether it failed for good, also when it was taken back since.</summary>
    public bool Broke { get; init; }

    /// <summary>How often it was begun.</summary>
    public int Attempts { get; init; }

    /// <summary>How often a process took it up that another had left.</summary>
    public int TakenUp { get; init; }

    /// <summary>When it first began.</summary>
    public Instant? StartedAt { get; init; }

    /// <summary>When it was done, or given up.</summary>
    public Instant? EndedAt { get; init; }

    /// <summary>It is not tried, or not undone, again before.</summary>
    public Instant? NotBefore { get; init; }

    /// <summary>How far it is, 0 to 1, as its driver says.</summary>
    public double Share { get; init; }

    /// <summary>What there is to say.</summary>
    public string? Note { get; init; }

    /// <summary>How often people were asked again: a decision belongs to the round it was asked in.</summary>
    public int Round { get; init; }

    /// <summary>When an approval was first asked for; null before.</summary>
    public Instant? AskedAt { get; init; }

    /// <summary>What was chosen; null before.</summary>
    public string? Choice { get; init; }

    /// <summary>Who chose.</summary>
    public string? DecidedBy { get; init; }

    /// <summary>How often taking it back failed.</summary>
    public int UndoAttempts { get; init; }

    /// <summary>What whoever did it measured, as JSON; null before, or when there is nothing.</summary>
    public string? Measured { get; init; }
}
