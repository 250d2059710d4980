using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>A backup that is taken again and again of one database.</summary>
/// <param name="Kind">What is taken.</param>
/// <param name="Cadence">When.</param>
/// <param name="Store">Where the first copy goes.</param>
/// <param name="CopyTo">Where further copies go once the first is there.</param>
/// <param name="Keep">How long a copy is kept.</param>
/// <param name="Lock">How long copies in stores that lock are locked; null for no lock.</param>
/// <param name="LockIn">The stores that lock.</param>
public sealed record TaskScript(
    SetKind Kind,
    Cadence Cadence,
    Id<Store> Store,
    IReadOnlyList<Id<Store>> CopyTo,
    Duration Keep,
    Duration? Lock,
    IReadOnlyList<Id<Store>> LockIn);
