namespace Imbrek.PostgreSql.Cluster;

/// <summary>Where an engine is, and as whom it is signed in to. Holds the name of a credential and never its value.</summary>
internal interface ISignIn
{
    /// <summary>Name or address of its machine.</summary>
    string Address { get; }

    /// <summary>Its port.</summary>
    int Port { get; }

    /// <summary>The role Imbrek signs in as.</summary>
    string User { get; }

    /// <summary>The database it signs in to.</summary>
    string SignInTo { get; }

    /// <summary>The name of the credential; null where none is asked for.</summary>
    string? Credential { get; }
}
