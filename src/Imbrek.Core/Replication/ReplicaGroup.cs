using Imbrek.Core.Fleet;

namespace Imbrek.Core.Replication;

/// <summary>Databases that must stay consistent with each other: seeded, held, resumed, switched and promoted together (section 7).</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="Databases">Its databases; a database is in one group at most.</param>
/// <param name="Voters">The hosts that decide whether a replica takes over by itself; empty when none does.</param>
public sealed record ReplicaGroup(Id<ReplicaGroup> Id, string Name, IReadOnlyList<Id<Database>> Databases, IReadOnlyList<Id<Host>> Voters)
{
    /// <summary>Seconds until the voters notice a loss; null for the database's own.</summary>
    public double? NoticeSeconds { get; init; }
}
