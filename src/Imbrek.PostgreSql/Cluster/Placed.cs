using Imbrek.Core.Drivers;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>What was put in the place of a cluster.</summary>
/// <param name="Run">The run that did.</param>
/// <param name="Data">The data folder.</param>
/// <param name="Came">What it came to.</param>
internal sealed record Placed(Guid Run, string Data, KeptPromotion Came);
