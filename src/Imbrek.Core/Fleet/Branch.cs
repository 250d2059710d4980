using NodaTime;

namespace Imbrek.Core.Fleet;

/// <summary>A line of history that left its parent when a database was restored to an earlier instant and went on from there.</summary>
/// <param name="Id">Its number; 2 or more (branch 1 always exists and has no parent).</param>
/// <param name="Parent">The branch it left.</param>
/// <param name="ForkPosition">The log position at which it left its parent.</param>
/// <param name="ForkAt">The instant of the parent's history at which it left.</param>
/// <param name="StartsAt">When it became the live one; earlier instants belong to the parent.</param>
/// <param name="LeftHost">The host its database ran on until then, where a change of roles began it; null where it stayed where it was.</param>
public sealed record Branch(int Id, int Parent, long ForkPosition, Instant ForkAt, Instant StartsAt, Id<Host>? LeftHost = null);
