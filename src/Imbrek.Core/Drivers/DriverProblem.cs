namespace Imbrek.Core.Drivers;

/// <summary>What can go wrong in a driver; decides what a run does next.</summary>
public enum DriverProblem
{
    /// <summary>The copy was read and its bytes are wrong: mark it, take another.</summary>
    CopyDamaged,

    /// <summary>The copy cannot be read now (gone, store down, link cut): take another.</summary>
    CopyUnreachable,

    /// <summary>The host or store has no room left: clean up and end.</summary>
    NoRoom,

    /// <summary>The engine refuses what is asked.</summary>
    Refused,

    /// <summary>The engine, host or store does not answer: try again.</summary>
    Unreachable,

    /// <summary>The call carries an old fence: another process has the run.</summary>
    Stale,
}
