using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Server.Features.Database;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Moves;

/// <summary>What it takes for the log of a database to follow what is restored of it, for who moves it and for who makes a copy elsewhere.</summary>
/// <param name="Needs">Settings of its host that are changed meanwhile.</param>
/// <param name="Kept">The full that it begins with, where log is kept for this alone; null where it is kept anyway.</param>
/// <param name="From">The database with the sets that paths may begin with: its own, or that full alone.</param>
internal sealed record LogToFollow(IReadOnlyList<NeededSetting> Needs, LogKept? Kept, RecoverySubject From)
{
    /// <summary>Why its log cannot follow, also if it is kept for this alone; null when it can.</summary>
    public static string? WhyNot(RecoverySubject s, IDriverFamily family) =>
        family.ChangesLogMode && LogRounds.LogOf(s.Fleet, s.Database) is not null && LogKept.FullOf(s.Fleet, s.Database) is not null ? null : LogRounds.WhyNoLog(s.Fleet, s.Database);

    /// <summary>What it takes for a database whose log can follow.</summary>
    public static LogToFollow Of(RecoverySubject s, DesignedState designed, Instant now)
    {
        if (LogKept.FullOf(s.Fleet, s.Database) is not { } full)
        {
            return new([], null, s);
        }

        var (seconds, stored) = AdHocPlanning.Expected(full, s.Fleet, designed, s.Database, now);
        var kept = new LogKept(full, seconds);
        return new(LogKept.NeedsOf(s.Database), kept, kept.After(s, stored ?? s.Database.SizeBytes, now));
    }
}
