namespace Imbrek.Core.Runs;

/// <summary>One step of a run, as planned. What becomes of it is <see cref="StepProgress"/>.</summary>
public sealed record Step
{
    /// <summary>Its number, unique in its run, from 1.</summary>
    public required int Number { get; init; }

    /// <summary>What it does: a word that the kind of run understands.</summary>
    public required string Kind { get; init; }

    /// <summary>What it does, for people.</summary>
    public required string Title { get; init; }

    /// <summary>What it is done to (a database, host, store); null when that is the run's database.</summary>
    public string? Subject { get; init; }

    /// <summary>The steps that must be done, or not needed, before it begins.</summary>
    public IReadOnlyList<int> After { get; init; } = [];

    /// <summary>Done only if people chose so at a hold before it; null when it is done in any case.</summary>
    public Guard? Only { get; init; }

    /// <summary>What people may choose; a step with choices is a <b>hold</b>: nothing but their decision completes it.</summary>
    public IReadOnlyList<string> Choices { get; init; } = [];

    /// <summary>Whether somebody must approve it before it begins.</summary>
    public bool NeedsApproval { get; init; }

    /// <summary>Seconds within which somebody must approve it once it is asked; after that nobody has. Null for no limit.</summary>
    public double? DecideWithinSeconds { get; init; }

    /// <summary>Who does it: the product, or a role of people.</summary>
    public string Owner { get; init; } = Product;

    /// <summary>Seconds it is expected to take; null when that is up to people.</summary>
    public double? ExpectedSeconds { get; init; }

    /// <summary>Where that figure is from.</summary>
    public string? ExpectedFrom { get; init; }

    /// <summary>What takes it back.</summary>
    public Undo Undo { get; init; }

    /// <summary>Whether there is no way back once it has begun: then the run is neither cancelled nor undone any more.</summary>
    public bool NoWayBack { get; init; }

    /// <summary>How often it is tried.</summary>
    public int Attempts { get; init; } = 1;

    /// <summary>Whether a refusal is worth another attempt; what cannot be reached always is.</summary>
    public bool RetryRefusals { get; init; }

    /// <summary>Seconds before the second attempt; doubled for each further one.</summary>
    public double BackOffSeconds { get; init; } = 1;

    /// <summary>Seconds after which an attempt that has not ended counts as failed; null for no limit.</summary>
    public double? TimeLimitSeconds { get; init; }

    /// <summary>The hold at which people decide again when this step cannot be done; null when that fails the run.</summary>
    public int? Reopens { get; init; }

    /// <summary>The failed step that this one stands in for; null when none.</summary>
    public int? InsteadOf { get; init; }

    /// <summary>What it works on, as JSON that its kind understands.</summary>
    public string Work { get; init; } = "{}";

    /// <summary>How long a second person has to say something, unless said otherwise: a day.</summary>
    public const double ApprovalSeconds = 86_400;

    /// <summary>The owner of what no person does.</summary>
    public const string Product = "product";

    /// <summary>What to say to a step that needs approval.</summary>
    public const string Approve = "approve";

    /// <summary>What to say to a step that shall not be done.</summary>
    public const string Refuse = "refuse";

    /// <summary>Whether only people complete it.</summary>
    public bool IsHold => Choices.Count > 0;

    /// <summary>A choice made at a hold.</summary>
    /// <param name="Hold">The number of the hold.</param>
    /// <param name="Choice">What must have been chosen.</param>
    public sealed record Guard(int Hold, string Choice);
}
