namespace Imbrek.Server.Features.Setup;

/// <summary>Whether and where a demo is shown.</summary>
/// <param name="Folder">Where the simulated world keeps its bytes; null for no demo.</param>
/// <param name="HistoryDays">How many days of history a new world gets.</param>
internal sealed record DemoOptions(string? Folder, int HistoryDays);
