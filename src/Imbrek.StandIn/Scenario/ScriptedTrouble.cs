using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>Something that goes wrong at an instant of history.</summary>
/// <param name="At">When.</param>
/// <param name="Database">To which database.</param>
/// <param name="Kind">What.</param>
public sealed record ScriptedTrouble(Instant At, Id<Database> Database, ScriptedTrouble.What Kind)
{
    /// <summary>What can go wrong by script.</summary>
    public enum What
    {
        /// <summary>A bit of the newest full's first copy flips on disk; nobody is told.</summary>
        DamageNewestFull,

        /// <summary>The log not yet backed up is thrown away.</summary>
        DropLog,

        /// <summary>The sign-in for its backups expires: every run fails until somebody mends it.</summary>
        SignInExpires,
    }
}
