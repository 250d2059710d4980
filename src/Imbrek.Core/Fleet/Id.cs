namespace Imbrek.Core.Fleet;

/// <summary>The identifier of a <typeparamref name="T"/>; identifiers of different things cannot be mixed up.</summary>
/// <param name="Value">The text of the identifier, as written in the open files. Never empty in a validated fleet.</param>
/// <typeparam name="T">What is identified.</typeparam>
public readonly record struct Id<T>(string Value)
{
    /// <summary>The bare text of the identifier.</summary>
    public override string ToString() => Value;
}
