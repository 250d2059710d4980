namespace Imbrek.Core.Drivers;

/// <summary>An engine or a store refused; says what happened in the words a DBA needs.</summary>
public sealed class DriverException : Exception
{
    /// <summary>Makes the exception.</summary>
    /// <param name="problem">What kind of problem.</param>
    /// <param name="message">What happened.</param>
    /// <param name="copy">The copy concerned, when one is.</param>
    public DriverException(DriverProblem problem, string message, SetCopy? copy = null)
        : base(message)
    {
        Problem = problem;
        Copy = copy;
    }

    /// <summary>What kind of problem.</summary>
    public DriverProblem Problem { get; }

    /// <summary>The copy concerned; null when none is.</summary>
    public SetCopy? Copy { get; }
}
