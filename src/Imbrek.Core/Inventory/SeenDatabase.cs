using Imbrek.Core.Fleet;

namespace Imbrek.Core.Inventory;

/// <summary>A database that a host says it runs.</summary>
/// <param name="Name">What the engine calls it.</param>
/// <param name="Of">The database of the fleet that it is; null when the fleet has none.</param>
/// <param name="In">The database of the fleet that it lies in, where what the fleet calls a database is a whole instance; null when it lies in none.</param>
/// <param name="Engine">The engine family it runs on.</param>
/// <param name="Version">Its major version; null when it was not told.</param>
/// <param name="SizeBytes">Its size; null when the account may not see it.</param>
/// <param name="LogMode">What it does with its log; null when it was not told.</param>
public sealed record SeenDatabase(string Name, Id<Database>? Of, Id<Database>? In, Id<EngineProfile> Engine, string? Version, long? SizeBytes, LogMode? LogMode);
