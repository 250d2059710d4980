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
/// <param name="StoredBytes">Bytes that full is expected to store.</param>
internal sealed record LogForOne(IReadOnlyList<NeededSetting> Needs, LogKept? Kept, double StoredBytes)
{
    /// <summary>Why its log cannot follow, also if it is kept for this alone; null when it can.</summary>
    public static string? WhyNot(RecoverySubject s, IDriverFamily family) =>
        family.ChangesLogMode && LogRounds.LogOf(s.Fleet, s.Database) is not null && LogKept.FullOf(s.Fleet, s.Database) is not null ? null : LogRounds.WhyNoLog(s.Fleet, s.Database);

    /// <summary>What it takes for a database whose log can follow.</summary>
    public static LogForOne Of(RecoverySubject s, DesignedState designed, Instant now)
    {
        if (LogKept.FullOf(s.Fleet, s.Database) is not { } full)
        {
            return new([], null, 0);
        }

        var (seconds, stored) = AdHocPlanning.Expected(full, s.Fleet, designed, s.Database, now);
        return new(LogKept.NeedsOf(s.Database), new(full, seconds), stored ?? s.Database.SizeBytes);
    }

    /// <summary>What paths are sought in: its sets, or what is taken first alone.</summary>
    public RecoverySubject In(RecoverySubject s, Instant now) => Kept?.After(s, StoredBytes, now) ?? s;
}

/// <summary>The full that something begins with where log is kept for it alone.</summary>
/// <param name="Store">Where it is taken into.</param>
/// <param name="Seconds">Seconds it is expected to take; null where nothing tells.</param>
public sealed record FirstFull(string Store, double? Seconds)
{
    /// <summary>For who looks at it first; null where log is kept anyway.</summary>
    internal static FirstFull? Of(LogKept? kept) => kept is null ? null : new(kept.Take.Store, kept.Seconds);
}
