using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A verdict with its reasons.</summary>
/// <param name="Verdict">The verdict.</param>
/// <param name="Reasons">Why, in sentences; empty for proven.</param>
public sealed record Judgement(Verdict Verdict, IReadOnlyList<string> Reasons)
{
    private const double SizeMayGrowBy = 1.25;

    /// <summary>Judges one loss, or one database when given the figures of every loss its objective names: the worst counts.</summary>
    /// <param name="database">The database.</param>
    /// <param name="objective">Its objective; null judges only whether there is anything to restore from.</param>
    /// <param name="figures">Figures of the losses to judge.</param>
    /// <param name="proof">The newest proof; null when there is none.</param>
    /// <param name="at">Now, or the as-of instant.</param>
    /// <param name="planChanged">When what its plans do was changed last; null when that is not known.</param>
    public static Judgement Of(Database database, Objective? objective, IEnumerable<LossFigures> figures, Proof? proof, Instant at, Instant? planChanged = null)
    {
        var verdict = Verdict.Proven;
        var reasons = new List<(Verdict Weight, string Text)>();
        foreach (var f in figures)
        {
            if (f.ExposureSeconds(at) is not { } exposure)
            {
                Say(Verdict.Unprotected, $"{f.Loss.Clause} there is nothing to restore from");
                continue;
            }

            if (objective is null)
            {
                continue;
            }

            if (exposure > objective.RpoSeconds)
            {
                Say(Verdict.Breached, $"{f.Loss.Clause} {Plain(exposure)} would be lost, {Plain(objective.RpoSeconds)} is allowed");
            }

            if (f.Path is null)
            {
                Say(Verdict.Breached, $"{f.Loss.Clause} there is no restore path: {f.NoPath}");
            }
            else if (f.Path.ServiceSeconds > objective.RtoSeconds)
            {
                Say(Verdict.Breached, $"{f.Loss.Clause} it would take {PlainDuration.Beyond(f.Path.ServiceSeconds, objective.RtoSeconds)}");
            }
            else if (f.CautiousServiceSeconds > objective.RtoSeconds)
            {
                Say(Verdict.AtRisk, $"{f.Loss.Clause} it would take {Plain(f.CautiousServiceSeconds.Value)} by the cautious figures, {Plain(objective.RtoSeconds)} is allowed");
            }

            if (f.Window.SecondsOverRpo > 0 && exposure <= objective.RpoSeconds)
            {
                var worst = f.Window.SecondsUnprotected > 0 ? "there was nothing to restore from" : $"up to {Plain(f.Window.WorstExposureSeconds ?? 0)} would have been lost";
                Say(Verdict.AtRisk, $"{f.Loss.Clause} it was over its RPO for {Plain(f.Window.SecondsOverRpo.Value)} in the window: {worst}");
            }

            if (f.Designed is { } designed)
            {
                Foresee(f, designed);
            }
        }

        if (objective is null)
        {
            Say(Verdict.Unproven, "no objective was agreed");
        }
        else if (WhyInvalid(database, objective, proof, at, planChanged) is { } why)
        {
            Say(Verdict.Unproven, why);
        }

        return new Judgement(verdict, [.. reasons.OrderByDescending(r => r.Weight).Select(r => r.Text)]);

        void Foresee(LossFigures f, DesignedOutlook designed)
        {
            if (designed.WorstExposureSeconds is not { } worst)
            {
                Say(Verdict.AtRisk, $"{f.Loss.Clause} its plan will leave nothing to restore from at times");
            }
            else if (worst > objective!.RpoSeconds)
            {
                Say(Verdict.AtRisk, $"{f.Loss.Clause} its plan could lose {PlainDuration.Beyond(worst, objective.RpoSeconds)}");
            }
            else if (designed.LongestServiceSeconds is not { } longest)
            {
                Say(Verdict.AtRisk, $"{f.Loss.Clause} its plan will leave no restore path at times");
            }
            else if (longest > objective.RtoSeconds)
            {
                Say(Verdict.AtRisk, $"{f.Loss.Clause} the longest restore of its plan takes {PlainDuration.Beyond(longest, objective.RtoSeconds)}");
            }
        }

        void Say(Verdict weight, string text)
        {
            verdict = weight > verdict ? weight : verdict;
            reasons.Add((weight, text));
        }
    }

    /// <summary>Why a proof does not count; null when it does.</summary>
    public static string? WhyInvalid(Database database, Objective objective, Proof? proof, Instant at, Instant? planChanged = null)
    {
        if (proof is null)
        {
            return "it was never restored";
        }

        var age = (at - proof.At).TotalDays;
        if (!proof.Passed)
        {
            return "the last restore did not pass its checks";
        }

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
            return $"the last restore lost {PlainDuration.Beyond(proof.LostSeconds, objective.RpoSeconds)}";
        }

        return proof.ServiceSeconds > objective.RtoSeconds
            ? $"the last restore took {PlainDuration.Beyond(proof.ServiceSeconds, objective.RtoSeconds)}"
            : null;
    }

    private static string Plain(double seconds) => PlainDuration.Of(seconds);
}
