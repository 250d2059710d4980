namespace Imbrek.Core.Drills;

/// <summary>What was asked of a drill in which roles change, and what was agreed and expected then.</summary>
/// <param name="Replica">The replica that becomes the primary.</param>
/// <param name="Kind">Switchover, forced or automatic.</param>
/// <param name="Ending">How it ends.</param>
/// <param name="Loss">The loss a forced one stands for.</param>
/// <param name="From">The host the database ran on.</param>
/// <param name="To">The host it runs on then.</param>
/// <param name="Follower">What the old side is called when it follows.</param>
/// <param name="Part">The replica as it stands in the fleet file: what the old side becomes is like it.</param>
/// <param name="PlannedLostSeconds">What was expected to be lost.</param>
/// <param name="PlannedServiceSeconds">How long it was expected to take until clients are back.</param>
/// <param name="RpoSeconds">What was agreed then; null when nothing was.</param>
/// <param name="RtoSeconds">What was agreed then.</param>
/// <param name="InSpite">What it was begun in spite of, and why; null when nothing stood against it.</param>
public sealed record DrillQuestion(
    string Replica, DrillKind Kind, DrillEnding Ending, string Loss, string From, string To, string Follower, string Part, double PlannedLostSeconds, double PlannedServiceSeconds, double? RpoSeconds, double? RtoSeconds, string? InSpite = null)
{
    /// <summary>Where roles change in a phase of it: from which host to which, and by which replica.</summary>
    /// <param name="phase">0 for the way there, 1 for the way home.</param>
    public (string From, string To, string Replica) In(int phase) => phase == 0 ? (From, To, Replica) : (To, From, Follower);

    /// <summary>Whether the source is taken for lost in a phase of it.</summary>
    public bool TakesForLost(int phase) => phase == 0 && Kind == DrillKind.Forced;
}
