using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>What a restore path is asked for (section 4).</summary>
public sealed record PathQuestion
{
    /// <summary>T: the instant wanted.</summary>
    public required Instant Target { get; init; }

    /// <summary>A: what is there as of this instant.</summary>
    public required Instant At { get; init; }

    /// <summary>S: the loss supposed; a bare kind is the one the database lies on.</summary>
    public Loss Loss { get; init; } = Loss.None;

    /// <summary>What is decided already.</summary>
    public PathChoice Choice { get; init; } = new();

    /// <summary>The branch that must answer; null for any.</summary>
    public int? Branch { get; init; }

    /// <summary>What finished runs taught about restoring from a store to a host; null for the profile alone.</summary>
    public Func<Id<Store>, Id<Host>, LearnedPace?>? Learned { get; init; }

    /// <summary>Use the cautious figure of what was learned instead of the median.</summary>
    public bool Cautious { get; init; }

    /// <summary>Whether sets may stay where they lie and be opened there, by families that can: only log is moved, and the host needs no room.</summary>
    public bool Mounted { get; init; }

    /// <summary>Whether it is left unopened: only states count that log can be applied to.</summary>
    public bool Unopened { get; init; }

    /// <summary>Copies to leave aside, such as one found damaged on the way.</summary>
    public Func<Id<Catalogue.BackupSet>, Id<Store>, bool>? Except { get; init; }
}
