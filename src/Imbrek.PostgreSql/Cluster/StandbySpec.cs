using NodaTime;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>A standby of a cluster: it receives the cluster's log and replays it. Its roles are those of its primary.</summary>
/// <param name="Replica">What the fleet calls it.</param>
/// <param name="Address">Name or address of its machine.</param>
/// <param name="Port">Its port.</param>
/// <param name="User">The role Imbrek signs in as.</param>
/// <param name="SignInTo">The database it signs in to.</param>
/// <param name="Credential">The name of the credential; null where it asks for none.</param>
/// <param name="PromotedAt">When it was promoted by us; null while it is a standby.</param>
/// <param name="Host">The host of the fleet on which this server made its engine, and starts it; null for one that others made.</param>
internal sealed record StandbySpec(string Replica, string Address, int Port, string User, string SignInTo, string? Credential, Instant? PromotedAt = null, string? Host = null) : ISignIn
{
    /// <summary>The slot by which a standby of this server's making receives.</summary>
    public static string SlotOf(string replica) => ClusterSpec.SlotOf("imbrek_to", replica);
}
