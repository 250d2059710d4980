namespace Imbrek.PostgreSql.Cluster;

/// <summary>A credential cannot be had; says its name and never its value.</summary>
internal sealed class CredentialException(string message) : Exception(message);
