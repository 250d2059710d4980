using Imbrek.Core.Catalogue;
using NodaTime;

namespace Imbrek.Core.Runs;

/// <summary>What came of a step.</summary>
/// <param name="Note">What there is to say.</param>
/// <param name="Measured">What was measured, as JSON of the kind.</param>
/// <param name="Sets">Sets that are like this now; kept together with the step.</param>
/// <param name="Failed">Whether it did what it could and yet the step has failed, as <paramref name="Note"/> says.</param>
/// <param name="LookAgainAfter">For a probe that has not found what it looks for: when it looks again; null when it is done.</param>
public sealed record StepResult(string? Note = null, string? Measured = null, Duration? LookAgainAfter = null, IReadOnlyList<BackupSet>? Sets = null, bool Failed = false);
