namespace Imbrek.Core.Drivers;

/// <summary>What a name that a database brings with it is of.</summary>
public enum NameKind
{
    /// <summary>A file of its engine.</summary>
    File,

    /// <summary>An account that signs in to its engine.</summary>
    Account,
}

/// <summary>A name that a database holds.</summary>
/// <param name="Kind">What it is of.</param>
/// <param name="Name">The name.</param>
public sealed record HeldName(NameKind Kind, string Name);

/// <summary>A name that is taken where a database is to be.</summary>
/// <param name="Kind">What it is of.</param>
/// <param name="Name">The name.</param>
/// <param name="By">Whose it is, in words.</param>
public sealed record TakenName(NameKind Kind, string Name, string By);

/// <summary>A name that a database brings, and what it is called where the database is to be.</summary>
/// <param name="Kind">What it is of.</param>
/// <param name="From">As the database brings it.</param>
/// <param name="To">As it is called there; the same where nothing clashes.</param>
public sealed record MappedName(NameKind Kind, string From, string To);

/// <summary>The names that a database brings, and those that are taken on a host.</summary>
public sealed record NamesAt(IReadOnlyList<HeldName> Held, IReadOnlyList<TakenName> Taken);
