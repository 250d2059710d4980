using NodaTime;

namespace Imbrek.Demo;

/// <summary>Whether and where a demo is shown.</summary>
/// <param name="Folder">Where the simulated world keeps its bytes; null for no demo.</param>
/// <param name="HistoryDays">How many days of history a new world gets.</param>
/// <param name="Now">The instant at which a new world is handed over; null for the machine's. Tests and pictures name one, so that they come out the same at any hour.</param>
internal sealed record DemoOptions(string? Folder, int HistoryDays, Instant? Now);
