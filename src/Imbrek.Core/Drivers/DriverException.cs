namespace Imbrek.Core.Drivers;

/// <summary>An engine or a store refused; says what happened in the words a DBA needs.</summary>
public sealed class DriverException : Exception
{
    /// <summary>Makes the exception.</summary>
    /// <param name="problem">What kind of problem.</param>
    /// <param name="message">What happened.</param>
    /// <param name="copy">The copy concerned, when one is.</param>
    /// <param name="againMayHelp">Whether another attempt may help, where the problem alone does not say.</param>
    public DriverException(DriverProblem problem, string message, SetCopy? copy = null, bool againMayHelp = false)
        : base(message)
    {
        Problem = problem;
        Copy = copy;
        AgainMayHelp = againMayHelp || problem == DriverProblem.Unreachable;
    }

    /// <summary>What kind of problem.</summary>
    public DriverProblem Problem { get; }

    /// <summary>Whether another attempt may help.</summary>
    public bool AgainMayHelp { get; }

    /// <summary>The copy concerned; null when none is.</summary>
    public SetCopy? Copy { get; }
}
