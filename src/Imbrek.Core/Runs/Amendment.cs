namespace Imbrek.Core.Runs;

/// <summary>How a plan goes on where a step failed: other steps in its place. What was done and still serves stays done.</summary>
/// <param name="Replaces">The step that failed.</param>
/// <param name="TakenBack">Steps done, without an undo of their own, whose work no longer serves.</param>
/// <param name="Add">The steps to go on with, numbered on from the last; the first of them say what they stand in for.</param>
public sealed record Amendment(int Replaces, IReadOnlyList<int> TakenBack, IReadOnlyList<Step> Add);
