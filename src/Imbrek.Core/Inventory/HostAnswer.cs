namespace Imbrek.Core.Inventory;

/// <summary>What a host answered when it was asked for its databases.</summary>
/// <param name="Databases">Those that the account that asked may see.</param>
/// <param name="Unseen">What it could not see, a line each, with the reason: rights, engines without a driver, a host out of reach. Where there is any, the list is partial.</param>
public sealed record HostAnswer(IReadOnlyList<SeenDatabase> Databases, IReadOnlyList<string> Unseen)
{
    /// <summary>Whether there may be more than was seen.</summary>
    public bool IsPartial => Unseen.Count > 0;

    /// <summary>The answers of several families of engines on one host, as one.</summary>
    public static HostAnswer Of(IEnumerable<HostAnswer> answers)
    {
        var all = answers.ToArray();
        return new([.. all.SelectMany(a => a.Databases)], [.. all.SelectMany(a => a.Unseen).Distinct()]);
    }
}
