namespace Imbrek.Core.Fleet;

/// <summary>A setting of the engines on a host, with its value, both as the engine calls them.</summary>
public sealed record Setting(string Name, string Value);
