namespace Imbrek.Core.Recovery;

/// <summary>One thing looked at before a restore is begun.</summary>
/// <param name="Name">What was looked at.</param>
/// <param name="Outcome">Whether it stands in the way.</param>
/// <param name="Detail">What was seen.</param>
public sealed record Precheck(string Name, PrecheckOutcome Outcome, string Detail);
