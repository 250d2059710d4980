using NodaTime;

namespace Imbrek.Server.Features.Runs.JointDrill;

/// <summary>What a drill of many came to.</summary>
/// <param name="LostAt">When the first of its databases stopped, or was taken for lost; null when none was.</param>
/// <param name="Members">Its databases, in the order in which they went.</param>
internal sealed record JointDrillResult(Instant? LostAt, IReadOnlyList<JointDrillResult.Outcome> Members)
{
    /// <summary>How many came back within what was agreed.</summary>
    public int Passed => Members.Count(m => m.Passed);

    /// <summary>What became of a database.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Run">The run that measured it; null when none has begun.</param>
    /// <param name="LostSeconds">What was lost; null when that was not measured.</param>
    /// <param name="ServiceSeconds">How long clients were without it, or would have been; null when that was not measured.</param>
    /// <param name="BackSeconds">From the instant the first of all was lost until this one was back, what was waited for the others included; null when it was not.</param>
    /// <param name="RtoSeconds">What was agreed; null when nothing was.</param>
    /// <param name="Passed">Whether all checks passed and it was within what was agreed, the waiting for others included.</param>
    /// <param name="Note">What there is to say.</param>
    internal sealed record Outcome(string Database, Guid? Run, double? LostSeconds, double? ServiceSeconds, double? BackSeconds, double? RtoSeconds, bool Passed, string? Note);
}
