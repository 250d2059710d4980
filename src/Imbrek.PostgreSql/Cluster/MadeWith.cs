namespace Imbrek.PostgreSql.Cluster;

/// <summary>What a cluster is made with, and keeps for as long as it lives.</summary>
/// <param name="Role">The role that is there from the beginning.</param>
/// <param name="Encoding">How text is encoded where a database does not say otherwise.</param>
/// <param name="Collate">How text is ordered.</param>
/// <param name="CType">How letters are classed.</param>
internal sealed record MadeWith(string Role, string Encoding, string Collate, string CType);
