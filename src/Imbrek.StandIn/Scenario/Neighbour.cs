using Imbrek.Core.Fleet;

namespace Imbrek.StandIn.Scenario;

/// <summary>A database of the world that nobody put into its fleet.</summary>
/// <param name="Host">Where it runs.</param>
/// <param name="Name">What its engine calls it.</param>
/// <param name="Engine">The engine family it runs on.</param>
/// <param name="Version">Its major version.</param>
/// <param name="SizeBytes">Its size.</param>
/// <param name="MayBeSeen">Whether the account that asks sees it.</param>
public sealed record Neighbour(Id<Host> Host, string Name, Id<EngineProfile> Engine, string Version, long SizeBytes, bool MayBeSeen = true);
