using Imbrek.Core.Fleet;

namespace Imbrek.Core.Recovery;

/// <summary>The answer to a <see cref="PathQuestion"/>: the best path, or why there is none.</summary>
/// <param name="Host">The host looked at; null when none qualifies.</param>
/// <param name="Best">The path that reaches latest and, among those, is fastest; null when there is none.</param>
/// <param name="Alternatives">The next best distinct ones, best first.</param>
/// <param name="Reason">Why there is no path; null when there is one.</param>
public sealed record PathAnswer(
    Id<Host>? Host,
    RestorePath? Best,
    IReadOnlyList<RestorePath> Alternatives,
    string? Reason);
