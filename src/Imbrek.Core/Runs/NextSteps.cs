using NodaTime;

namespace Imbrek.Core.Runs;

/// <summary>What is to be done with a run now; made by <see cref="Run.Next"/>.</summary>
/// <param name="Start">Steps that may begin now; holds among them.</param>
/// <param name="Ask">Steps about which people are to decide.</param>
/// <param name="Stop">Steps under way that are to be broken off.</param>
/// <param name="Undo">Steps to take back now.</param>
/// <param name="Wake">When something may be tried again; null when nothing waits for its time.</param>
/// <param name="End">How the run ended; null when it is not over.</param>
public sealed record NextSteps(
    IReadOnlyList<int> Start, IReadOnlyList<int> Ask, IReadOnlyList<int> Stop, IReadOnlyList<int> Undo, Instant? Wake, Ending? End);

/// <summary>How a run ended.</summary>
/// <param name="State">Done, failed or cancelled.</param>
/// <param name="Failed">The step that failed it; null when none did.</param>
/// <param name="LeftBehind">Steps that could not be taken back.</param>
public sealed record Ending(RunState State, int? Failed, IReadOnlyList<int> LeftBehind)
{
    /// <summary>What a note says of what could not be taken back, to stand at its end; empty where all was.</summary>
    /// <param name="plan">The plan of the run.</param>
    public string NotTakenBack(RunPlan plan) => LeftBehind.Count == 0 ? "" : $"; could not be taken back: {string.Join(", ", LeftBehind.Select(n => plan[n].Title))}";
}
