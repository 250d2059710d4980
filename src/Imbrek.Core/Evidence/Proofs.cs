using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Evidence;

/// <summary>
/// The proofs of one database that can still count (section 11): the newest for each loss, those by restore and those by taking over kept apart. A loss is proven when any of them that stands for it is valid;
/// one stands for the loss it supposed and for each that leaves at least as much, but that a replica took over shows nothing of a bad change.
/// </summary>
public sealed class Proofs
{
    private readonly Proof[] newest;

    private Proofs(IEnumerable<Proof> proofs) =>
        newest = [.. proofs.GroupBy(p => (p.Loss, p.TookOver)).Select(g => g.MaxBy(p => p.At)!).OrderByDescending(p => p.At)];

    /// <summary>None at all.</summary>
    public static Proofs None { get; } = new([]);

    /// <summary>Those that can still count among some.</summary>
    public static Proofs Of(params IEnumerable<Proof> proofs) => new(proofs);

    /// <summary>The newest of all; null when there is none.</summary>
    public Proof? Newest => newest.Length > 0 ? newest[0] : null;

    /// <summary>Whether a replica took over and all checks passed.</summary>
    public bool TookOver => Array.Exists(newest, p => p.TookOver && p.Passed);

    /// <summary>These and one more.</summary>
    public Proofs With(Proof proof) => new(newest.Append(proof));

    /// <summary>Those that were there at an instant, as far as they have not been replaced since.</summary>
    public Proofs At(Instant at) => newest.Length == 0 || newest[0].At <= at ? this : new(newest.Where(p => p.At <= at));

    /// <summary>How a database stands proven against a loss.</summary>
    /// <param name="database">The database.</param>
    /// <param name="fleet">Its fleet.</param>
    /// <param name="objective">Its objective.</param>
    /// <param name="loss">The kind of loss.</param>
    /// <param name="at">Now, or the as-of instant.</param>
    /// <param name="planChanged">When what its plans do was changed last; null when that is not known.</param>
    public ProofStanding Standing(Database database, FleetModel fleet, Objective objective, LossKind loss, Instant at, Instant? planChanged = null)
    {
        (Proof Proof, string Why)? said = null;
        Proof? counts = null;
        foreach (var p in newest)
        {
            if (p.Loss != loss && (!Covers(p.Loss, loss, database, fleet) || (p.TookOver && loss == LossKind.None)))
            {
                continue;
            }

            // Of those that do not count, the one that supposed this very loss is the one to speak of.
            if (WhyInvalid(p, database, objective, at, planChanged) is { } why)
            {
                said = said is null || (said.Value.Proof.Loss != loss && p.Loss == loss) ? (p, why) : said;
            }
            else if (counts is null || Ends(p) > Ends(counts))
            {
                counts = p;
            }
        }

        return counts is not null ? new(counts, null, Ends(counts))
            : said is var (proof, whyNot) ? new(proof, whyNot, at)
            : new(null, newest.Length == 0 ? "it was never restored" : "nothing has shown it: no restore and no drill supposed it", at);

        Instant Ends(Proof p) => p.At + Duration.FromDays(objective.ProofDays);
    }

    /// <summary>Whether all that one loss of a database leaves, another leaves as well: what was shown under the first holds under the second.</summary>
    public static bool Covers(LossKind shown, LossKind asked, Database database, FleetModel fleet)
    {
        var host = fleet.Hosts[database.Host];
        return asked == shown || asked switch
        {
            LossKind.None => true,
            LossKind.Host => shown == LossKind.Site || (shown == LossKind.Array && host.Array is not null),

            // Without an array nothing is lost with it.
            LossKind.Array => host.Array is not { } array || (shown == LossKind.Site && fleet.Arrays[array].Site == host.Site),
            _ => false,
        };
    }

    private static string? WhyInvalid(Proof proof, Database database, Objective objective, Instant at, Instant? planChanged)
    {
        const double SizeMayGrowBy = 1.25;
        var what = proof.TookOver ? "change of roles" : "restore";
        if (!proof.Passed)
        {
            return $"the last {what} did not pass its checks";
        }

        var age = (at - proof.At).TotalDays;
        if (age > objective.ProofDays)
        {
            return $"the last proof is {age:0} days old, {objective.ProofDays:0} count";
        }

        if (database.SizeBytes > proof.SizeBytes * SizeMayGrowBy || database.SizeBytes * SizeMayGrowBy < proof.SizeBytes)
        {
            return "its size has changed by more than a quarter since the last proof";
        }

        if (database.Version != proof.Version)
        {
            return $"it runs version {database.Version} now, the last proof was with {proof.Version}";
        }

        if (planChanged > proof.At && planChanged <= at)
        {
            return "its plan was changed since the last proof";
        }

        if (proof.LostSeconds > objective.RpoSeconds)
        {
            return $"the last {what} lost {PlainDuration.Beyond(proof.LostSeconds, objective.RpoSeconds)}";
        }

        return proof.ServiceSeconds > objective.RtoSeconds ? $"the last {what} took {PlainDuration.Beyond(proof.ServiceSeconds, objective.RtoSeconds)}" : null;
    }
}

/// <summary>How a database stands proven against a loss.</summary>
/// <param name="Proof">The proof that counts longest; where none counts the one that comes nearest, and null when there is none.</param>
/// <param name="WhyNot">Why none counts; null when one does.</param>
/// <param name="DueAt">By when it must be proved again: when the proof that counts runs out, or at once.</param>
public sealed record ProofStanding(Proof? Proof, string? WhyNot, Instant DueAt);
