namespace Imbrek.Core.Fleet;

/// <summary>The connection between two sites; symmetric, direct only, at most one a pair.</summary>
/// <param name="One">One end.</param>
/// <param name="Other">The other end.</param>
/// <param name="BytesPerSecond">Bandwidth in bytes per second, the same both ways.</param>
/// <param name="RoundTripMs">Round-trip time in milliseconds; null when not known.</param>
public sealed record Link(Id<Site> One, Id<Site> Other, double BytesPerSecond, double? RoundTripMs);
