using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;

namespace Imbrek.Core.Replication;

/// <summary>What a promotion measured, in the words of all steps, and what only it has.</summary>
/// <param name="Seconds">How long it took, seconds.</param>
/// <param name="Bytes">Bytes it moved.</param>
/// <param name="Reached">The instant of the last change that is on the new branch.</param>
/// <param name="Position">Its position.</param>
/// <param name="Branch">The new branch.</param>
/// <param name="Parent">The branch it begins on.</param>
/// <param name="StartsAt">When it was opened.</param>
/// <param name="Host">The host the database runs on from there on.</param>
/// <param name="LostSeconds">What was committed and is not on the new branch, seconds.</param>
/// <param name="LostTransactions">The same, transactions; null when nobody can tell.</param>
/// <param name="Left">Replicas that do not follow, each with why.</param>
/// <param name="Version">The version that runs now, where it is another than before.</param>
public sealed record Promoted(double Seconds, long Bytes, string? Reached, long? Position, int Branch, int Parent, string StartsAt, string Host, double LostSeconds, long? LostTransactions, IReadOnlyList<string> Left, string? Version = null)
{
    /// <summary>What a driver measured.</summary>
    public static Promoted Of(Promotion p) => new(
        p.Seconds, 0, Instants.Write(p.Branch.ForkAt), p.Branch.ForkPosition, p.Branch.Id, p.Branch.Parent, Instants.Write(p.Branch.StartsAt), p.Host.Value, p.LostSeconds, p.LostTransactions, [.. p.Left.Select(l => $"{l.Replica}: {l.Why}")], p.Version);

    /// <summary>The branch as the fleet has it.</summary>
    public Branch ToBranch() => new(Branch, Parent, Position ?? 0, Instants.Parse(Reached!), Instants.Parse(StartsAt));
}
