using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Runs;
using Imbrek.Data;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// A kind of run: how its steps are carried out and taken back, how it goes on where one failed, and what it leaves as proof. A kind knows
/// contracts and no driver; the runner knows no kind.
/// </summary>
internal interface IRunKind
{
    /// <summary>Its names, as runs keep them; the first is what the ledger calls it.</summary>
    IReadOnlyList<string> Names { get; }

    /// <summary>Carries a step out. Asked again after a crash it completes what was begun or finds it done.</summary>
    /// <exception cref="DriverException">A driver refuses, or cannot.</exception>
    Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel);

    /// <summary>Takes a step back; no error when there is nothing to take back.</summary>
    /// <exception cref="DriverException">A driver refuses, or cannot.</exception>
    Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => Task.CompletedTask;

    /// <summary>How the run goes on otherwise where a step failed; an amendment, or why there is none.</summary>
    (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => (null, null);

    /// <summary>What has been measured so far, as JSON; null when nothing has.</summary>
    string? Measured(RunContext run) => null;

    /// <summary>What it came to so far, for the columns that all runs have.</summary>
    Tally TallyOf(RunContext run) => Tally.Nothing;

    /// <summary>What is kept when it ends.</summary>
    Conclusion Conclude(RunContext run, Ending end, Instant now);
}

/// <summary>A run as it stands, for its kind.</summary>
/// <param name="Row">What does not change, and what was kept last.</param>
/// <param name="Run">Its steps.</param>
/// <param name="Call">What driver calls carry.</param>
internal sealed record RunContext(RunRow Row, Run Run, RunCall Call)
{
    /// <summary>What was asked.</summary>
    public T Question<T>() => RunJson.Read<T>(Row.Question!);
}

/// <summary>What a run came to.</summary>
/// <param name="DataBytes">Bytes of data it was about.</param>
/// <param name="StoredBytes">Bytes it stored, read or removed.</param>
/// <param name="Set">The set it made; null when none.</param>
internal sealed record Tally(long DataBytes, long StoredBytes, string? Set)
{
    /// <summary>Nothing that is counted.</summary>
    public static Tally Nothing { get; } = new(0, 0, null);
}

/// <summary>What is kept in one transaction when a run ends.</summary>
/// <param name="State">How it ended.</param>
/// <param name="Note">Why, for people.</param>
/// <param name="Claim">What it claims from now on, because that is still there; null for nothing. It may be less than it claimed on its way.</param>
/// <param name="LedgerBody">The body of its entry in the ledger; null for none.</param>
/// <param name="Proofs">What was proved, of one database or several; the number in the ledger is filled in.</param>
/// <param name="Paces">What was learned of speeds.</param>
/// <param name="FreesClaim">A claim of another run that is free now.</param>
internal sealed record Conclusion(
    RunState State, string Note, string? Claim = null, string? LedgerBody = null, IReadOnlyList<ProofRow>? Proofs = null, IReadOnlyList<PaceRow>? Paces = null, string? FreesClaim = null);
