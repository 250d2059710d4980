using Imbrek.Core.Fleet;

namespace Imbrek.Core.Planning;

/// <summary>Whether one copy stays, and why.</summary>
/// <param name="Set">The place of its set in the catalogue.</param>
/// <param name="Store">Where the copy lies.</param>
/// <param name="Stays">Whether it stays.</param>
/// <param name="Reason">Why it stays or goes.</param>
/// <param name="StoredBytes">Bytes it takes.</param>
public sealed record RetentionDecision(int Set, Id<Store> Store, bool Stays, string Reason, long StoredBytes);
