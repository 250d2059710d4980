using Imbrek.Core.Drivers;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Drill;

/// <summary>What a drill measured so far (section 11).</summary>
/// <param name="Changes">Its changes of roles: there, and home.</param>
/// <param name="Seen">What was seen on both sides, second by second.</param>
/// <param name="BothWritable">Times at which both sides took writes within one second.</param>
/// <param name="Passed">Whether every check passed and it was within what was agreed; null before there is anything to judge.</param>
/// <param name="Failed">What did not pass, each in a sentence.</param>
internal sealed record DrillResult(IReadOnlyList<DrillResult.RoleChange> Changes, IReadOnlyList<DrillSpan> Seen, int BothWritable, bool? Passed, IReadOnlyList<string> Failed)
{
    /// <summary>A change of roles.</summary>
    /// <param name="From">The host that took writes before.</param>
    /// <param name="To">The host that takes them after.</param>
    /// <param name="StoppedAt">When writes stopped, or the source was taken for lost.</param>
    /// <param name="BackAt">When a client's write through the usual address first succeeded after that; null before.</param>
    /// <param name="LostSeconds">What was lost, seconds; null before it was looked for.</param>
    /// <param name="Markers">Markers committed until writes stopped.</param>
    /// <param name="MarkersMissing">Those that are not on the new primary; null before they were looked for.</param>
    /// <param name="ServiceSeconds">From the stop until clients were back; null before.</param>
    /// <param name="PeopleSeconds">Of that, what people were waited for.</param>
    /// <param name="PlannedServiceSeconds">What was planned, people not counted.</param>
    /// <param name="PlannedLostSeconds">What was expected to be lost.</param>
    /// <param name="Checks">What was checked.</param>
    internal sealed record RoleChange(
        string From, string To, Instant StoppedAt, Instant? BackAt, double? LostSeconds, int Markers, int? MarkersMissing, double? ServiceSeconds, double PeopleSeconds, double? PlannedServiceSeconds, double PlannedLostSeconds, IReadOnlyList<CheckResult> Checks);
}
