namespace Imbrek.StandIn.Engine;

/// <summary>A transaction that somebody named: a marker row, a bad change that cancels rows, or a statement of an administrator's.</summary>
/// <param name="Name">Its name, which becomes a marker row.</param>
/// <param name="Time">When it is committed, milliseconds.</param>
/// <param name="CancelsRows">How many rows it overwrites with "cancelled"; 0 for a plain marker.</param>
/// <param name="Statement">The statement; null for none.</param>
public sealed record NamedChange(string Name, long Time, int CancelsRows, string? Statement = null);
