namespace Imbrek.Core.Drivers;

/// <summary>What one check of a restored instance found.</summary>
/// <param name="Name">What was checked.</param>
/// <param name="Passed">Whether it is as it should be.</param>
/// <param name="Detail">What was seen.</param>
public sealed record CheckResult(string Name, bool Passed, string Detail);
