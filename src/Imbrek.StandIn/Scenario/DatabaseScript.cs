using Imbrek.Core.Fleet;
using Imbrek.StandIn.Engine;

namespace Imbrek.StandIn.Scenario;

/// <summary>How one database of the world lives.</summary>
/// <param name="Id">The database.</param>
/// <param name="Pages">Pages of its scaled-down image.</param>
/// <param name="TransactionsPerMinute">Mean over a day.</param>
/// <param name="LogBytesPerSecond">Mean over a day, in the scenario's full size.</param>
/// <param name="Changes">Named changes known beforehand.</param>
/// <param name="RehearsedDaysAgo">How many days before "now" a restore of it was rehearsed; empty for never.</param>
public sealed record DatabaseScript(
    Id<Database> Id,
    int Pages,
    double TransactionsPerMinute,
    double LogBytesPerSecond,
    IReadOnlyList<NamedChange> Changes,
    IReadOnlyList<double> RehearsedDaysAgo)
{
    /// <summary>How far its data compresses: stored bytes over what the profile of a compression says.</summary>
    public double Packs { get; init; } = 1;
}
