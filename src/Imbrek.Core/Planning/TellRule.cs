using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>Who is told of what a plan's runs do.</summary>
/// <param name="People">People or groups; nobody is told when empty.</param>
/// <param name="Failure">Of runs that failed for good.</param>
/// <param name="Lateness">Of runs that did not end within their window.</param>
/// <param name="Silence">Of databases for which nothing came for this long; null for never.</param>
/// <param name="Recovery">Of the first run that went well after one that failed.</param>
public sealed record TellRule(IReadOnlyList<string> People, bool Failure, bool Lateness, Duration? Silence, bool Recovery)
{
    /// <summary>Nobody is told.</summary>
    public static TellRule Nobody { get; } = new([], true, true, null, true);

    /// <inheritdoc/>
    public bool Equals(TellRule? other) => other is not null && People.SequenceEqual(other.People)
        && (Failure, Lateness, Silence, Recovery) == (other.Failure, other.Lateness, other.Silence, other.Recovery);

    /// <inheritdoc/>
    public override int GetHashCode() => HashCode.Combine(People.Count, Failure, Lateness, Silence, Recovery);
}
