namespace Imbrek.Core.Objectives;

/// <summary>The kinds of loss of section 3.</summary>
public enum LossKind
{
    /// <summary>Nothing is lost: a bad change inside the database.</summary>
    None,

    /// <summary>A host and the stores attached to it.</summary>
    Host,

    /// <summary>An array, every host on it with the stores attached, and every store on it.</summary>
    Array,

    /// <summary>A site with every host, array and store in it.</summary>
    Site,

    /// <summary>A deletion with stolen credentials: every copy neither in an offline store nor locked beyond the instant.</summary>
    Hostile,
}
