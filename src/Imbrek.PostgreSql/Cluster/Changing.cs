namespace Imbrek.PostgreSql.Cluster;

/// <summary>How a change of a cluster stands.</summary>
/// <param name="Run">The run that carries it out.</param>
/// <param name="Fence">The highest fence heard of it.</param>
/// <param name="Parts">How its parts stand.</param>
internal sealed record Changing(Guid Run, long Fence, KeptParts Parts);
