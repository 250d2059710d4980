namespace Imbrek.Core.Drivers;

/// <summary>What a running engine says of itself, as far as the role that asks may see.</summary>
/// <param name="Version">Its major version.</param>
/// <param name="SizeBytes">Bytes of all its databases.</param>
/// <param name="LogBytesPerSecond">Bytes of log it wrote a second while it was looked at.</param>
/// <param name="Position">The log position it stood at.</param>
/// <param name="Facts">What else was seen, in groups.</param>
/// <param name="Lacks">What must be mended before it can be protected: one line each, with the remedy.</param>
/// <param name="Unseen">What the role may not see.</param>
public sealed record Discovered(
    string Version, long SizeBytes, double LogBytesPerSecond, long Position, IReadOnlyList<Discovered.Fact> Facts, IReadOnlyList<string> Lacks, IReadOnlyList<string> Unseen)
{
    /// <summary>One thing seen.</summary>
    /// <param name="Group">What it belongs to: databases, settings, roles, slots.</param>
    /// <param name="Name">What it is.</param>
    /// <param name="Value">How it is.</param>
    public sealed record Fact(string Group, string Name, string Value);
}
