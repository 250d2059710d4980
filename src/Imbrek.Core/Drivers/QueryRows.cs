namespace Imbrek.Core.Drivers;

/// <summary>What a query answers.</summary>
/// <param name="Columns">The names of its columns.</param>
/// <param name="Rows">Its rows, each value as text; null for none.</param>
/// <param name="More">Whether there are more than were asked for.</param>
public sealed record QueryRows(IReadOnlyList<string> Columns, IReadOnlyList<IReadOnlyList<string?>> Rows, bool More);
