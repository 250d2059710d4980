using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A restore test to the newest instant (section 11): which loss it supposes, and the way back it goes.</summary>
/// <param name="Loss">The loss supposed: what is lost with it is not used.</param>
/// <param name="Path">The way back; null when there is none under any loss.</param>
/// <param name="WhyNot">Why there is none; null when there is one.</param>
public sealed record RestoreTest(Loss Loss, RestorePath? Path, string? WhyNot)
{
    /// <summary>
    /// The test that shows most: of the losses the objective names the one that must be proved first, of those the one that stands for the most others. One under which the objective can be met goes before one
    /// that cannot pass.
    /// </summary>
    /// <param name="subject">The database.</param>
    /// <param name="proofs">What was proved.</param>
    /// <param name="at">When it is held.</param>
    /// <param name="learned">What was learned of speeds; null for the profile.</param>
    /// <param name="planChanged">When what its plans do was changed last; null when that is not known.</param>
    public static RestoreTest Next(RecoverySubject subject, Proofs proofs, Instant at, Func<Id<Store>, Id<Host>, LearnedPace?>? learned = null, Instant? planChanged = null)
    {
        var (d, fleet, objective) = (subject.Database, subject.Fleet, subject.Objective);
        IEnumerable<LossKind> kinds = objective is null
            ? [LossKind.None]
            : objective.Against.OrderBy(k => proofs.Standing(d, fleet, objective, k, at, planChanged).DueAt).ThenByDescending(k => objective.Against.Count(other => Proofs.Covers(k, other, d, fleet)));
        RestoreTest? second = null;
        string? why = null;
        foreach (var loss in kinds.Select(k => Loss.OfKind(k).For(d, fleet)))
        {
            var test = Under(subject, loss, at, learned: learned);
            if (test.Path is not { } path)
            {
                why ??= test.WhyNot;
                continue;
            }

            if (objective is null || ((at - path.Reaches).TotalSeconds <= objective.RpoSeconds && path.ServiceSeconds <= objective.RtoSeconds))
            {
                return test;
            }

            second ??= test;
        }

        return second ?? new(Loss.None, null, why);
    }

    /// <summary>The test under a loss: on the first recovery host that lacks no key, unless another is named.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss supposed.</param>
    /// <param name="at">When it is held.</param>
    /// <param name="host">The host; null for the first that can.</param>
    /// <param name="learned">What was learned of speeds; null for the profile.</param>
    public static RestoreTest Under(RecoverySubject subject, Loss loss, Instant at, Id<Host>? host = null, Func<Id<Store>, Id<Host>, LearnedPace?>? learned = null)
    {
        var answer = PathFinder.Find(subject, new PathQuestion { Target = at, At = at, Loss = loss, Choice = new(host ?? HostQualification.FirstWithKeys(subject, loss)), Learned = learned });
        return new(loss, answer.Best, answer.Best is null ? answer.Reason ?? "there is nothing to restore from" : null);
    }
}
