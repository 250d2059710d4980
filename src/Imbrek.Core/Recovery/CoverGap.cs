namespace Imbrek.Core.Recovery;

/// <summary>A stretch between recoverable instants, or after the last, and why nothing in it can be reached.</summary>
/// <param name="Span">The stretch; its ends are the recoverable instants next to it, or the as-of instant.</param>
/// <param name="AtEnd">Whether it is the stretch after the last recoverable instant.</param>
/// <param name="Reasons">What is missing, damaged, removed or lost, most telling first; never empty.</param>
/// <param name="BeforeFirst">Whether it is the stretch before the first recoverable instant there is: no hole between two, but where cover begins.</param>
public sealed record CoverGap(ClosedInterval Span, bool AtEnd, IReadOnlyList<string> Reasons, bool BeforeFirst = false);
