using Imbrek.Core.Fleet;

namespace Imbrek.Core.Recovery;

/// <summary>The answer to a <see cref="PathQuestion"/>: the best way, or why there is none.</summary>
/// <typeparam name="T">The ways looked at: those by sets alone, or all.</typeparam>
/// <param name="Host">The host of the best way, or the one looked at in vain; null when none qualifies, be it named or not.</param>
/// <param name="Best">The way that reaches latest and, among those, is fastest; null when there is none.</param>
/// <param name="Alternatives">The next best distinct ones, best first.</param>
/// <param name="Reason">Why there is no way; null when there is one.</param>
public sealed record PathAnswer<T>(
    Id<Host>? Host,
    T? Best,
    IReadOnlyList<T> Alternatives,
    string? Reason)
    where T : WayBack;
