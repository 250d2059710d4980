using Imbrek.Core.Catalogue;

namespace Imbrek.Core.Drivers;

/// <summary>A set as whoever took, copied, read or removed it says it is now, and what that took.</summary>
/// <param name="Set">The set with its copies; null when there was nothing to do.</param>
/// <param name="Seconds">Seconds it took; 0 when it was found done.</param>
/// <param name="Bytes">Bytes moved, read or removed.</param>
/// <param name="Nothing">Why there was nothing to do; null when there was.</param>
/// <param name="Note">What else there is to say of it.</param>
public sealed record Taken(BackupSet? Set, double Seconds, long Bytes, string? Nothing = null, string? Note = null);
