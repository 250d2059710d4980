using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Findings;

/// <summary>What a rehearsal of a move to another version measured.</summary>
/// <param name="Version">The version.</param>
/// <param name="Seconds">Seconds it is expected to take on the database's own host.</param>
/// <param name="Broke">How much broke or became slow.</param>
public sealed record RehearsedMove(string Version, double Seconds, int Broke);

/// <summary>What the version calendar says of a database.</summary>
public static class VersionFindings
{
    /// <summary>Support that has ended, or ends soon.</summary>
    /// <param name="database">The database.</param>
    /// <param name="calendar">The calendar.</param>
    /// <param name="at">When.</param>
    /// <param name="rehearsed">What a rehearsal of a move says; null where none was held.</param>
    public static IEnumerable<Finding> Of(Database database, VersionCalendar calendar, Instant at, RehearsedMove? rehearsed = null)
    {
        if (calendar.Of(database, at) is not { IsNear: true } standing)
        {
            yield break;
        }

        var (version, day) = (standing.Support.Version, LocalDatePattern.Iso.Format(standing.Support.SupportedUntil));
        var next = rehearsed is { } r ? $"Its move to version {r.Version} was rehearsed: {PlainDuration.Of(r.Seconds)}{(r.Broke == 0 ? "" : $", and {r.Broke} {(r.Broke == 1 ? "thing" : "things")} broke")}. Choose its day on Changes"
            : calendar.NextAfter(standing.Support) is { } n ? $"Move it to version {n.Version}, supported until {LocalDatePattern.Iso.Format(n.SupportedUntil)}; rehearse the move on a copy first, on Changes" : "Write the move to a version that is supported as a change, and rehearse it on a copy first";
        yield return standing.IsPast
            ? new Finding("version-out-of-support", database.Id, Urgency.Soon, $"Support for its version {version} ended on {day}", "What is found wrong with it from now on is mended by nobody, and backups of it are restored to versions that nobody mends either", next, -standing.DaysLeft * 86_400d)
            : new Finding("version-support-ends", database.Id, Urgency.Later, $"Support for its version {version} ends on {day}, in {standing.DaysLeft} days", "A move takes a rehearsal, a window and a way back; all three are easier to have while there is time", next, -standing.DaysLeft * 86_400d);
    }
}
