using Imbrek.Core.Fleet;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Findings;

/// <summary>What the version calendar says of a database.</summary>
public static class VersionFindings
{
    /// <summary>Support that has ended, or ends soon.</summary>
    public static IEnumerable<Finding> Of(Database database, VersionCalendar calendar, Instant at)
    {
        if (calendar.Of(database, at) is not { IsNear: true } standing)
        {
            yield break;
        }

        var (version, day) = (standing.Support.Version, LocalDatePattern.Iso.Format(standing.Support.SupportedUntil));
        var next = calendar.NextAfter(standing.Support) is { } n ? $"Move it to version {n.Version}, supported until {LocalDatePattern.Iso.Format(n.SupportedUntil)}; restore it aside first and try the move there" : "Plan the move to a version that is supported, and try it on a copy first";
        yield return standing.IsPast
            ? new Finding("version-out-of-support", database.Id, Urgency.Soon, $"Support for its version {version} ended on {day}", "What is found wrong with it from now on is mended by nobody, and backups of it are restored to versions that nobody mends either", next, -standing.DaysLeft * 86_400d)
            : new Finding("version-support-ends", database.Id, Urgency.Later, $"Support for its version {version} ends on {day}, in {standing.DaysLeft} days", "A move takes a rehearsal, a window and a way back; all three are easier to have while there is time", next, -standing.DaysLeft * 86_400d);
    }
}
