namespace Imbrek.StandIn.Engine;

/// <summary>One committed transaction: the unit of the log.</summary>
/// <param name="Position">Log position after it.</param>
/// <param name="Time">When it was committed, milliseconds of the Unix epoch.</param>
/// <param name="Writes">The rows it wrote.</param>
/// <param name="Marker">The marker row it wrote; null for none.</param>
internal sealed record Transaction(long Position, long Time, RowWrite[] Writes, string? Marker);

/// <summary>One row written.</summary>
internal readonly record struct RowWrite(int Row, uint Value);
