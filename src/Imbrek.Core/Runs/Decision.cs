using NodaTime;

namespace Imbrek.Core.Runs;

/// <summary>What somebody decided about a step. Written by people alone, once for each round, and never changed.</summary>
/// <param name="Step">The step.</param>
/// <param name="Round">The round in which it was asked.</param>
/// <param name="Choice">What was chosen.</param>
/// <param name="Who">Who chose.</param>
/// <param name="At">When.</param>
/// <param name="Why">Why, as far as it was said.</param>
public sealed record Decision(int Step, int Round, string Choice, string Who, Instant At, string? Why = null);
