namespace Imbrek.StandIn.Engine;

/// <summary>A row written to prove what arrived.</summary>
internal readonly record struct Marker(string Name, long Position, long Time);
