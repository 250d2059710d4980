using Imbrek.Core.Moves;

namespace Imbrek.Server.Features.Moves;

/// <summary>The full that something begins with where log is kept for it alone.</summary>
/// <param name="Store">Where it is taken into.</param>
/// <param name="Seconds">Seconds it is expected to take; null where nothing tells.</param>
public sealed record FirstFull(string Store, double? Seconds)
{
    /// <summary>For who looks at it first; null where log is kept anyway.</summary>
    internal static FirstFull? Of(LogKept? kept) => kept is null ? null : new(kept.Take.Store, kept.Seconds);
}
