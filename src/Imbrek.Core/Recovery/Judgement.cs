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
    /// <summary>Times are compared at a millisecond: one in which a new branch has begun, and nobody can have seen it yet, is nothing to warn of. Seconds.</summary>
    private const double OneInstant = 0.0015;

    /// <summary>Judges one loss, or one database when given the figures of every loss its objective names: the worst counts.</summary>
    /// <param name="database">The database.</param>
    /// <param name="objective">Its objective; null judges only whether there is anything to restore from.</param>
    /// <param name="figures">Figures of the losses to judge.</param>
    /// <param name="fleet">Its fleet.</param>
    /// <param name="proofs">What was proved: each loss needs a proof of its own, or one of a loss that leaves no more.</param>
    /// <param name="at">Now, or the as-of instant.</param>
    /// <param name="planChanged">When what its plans do was changed last; null when that is not known.</param>
    public static Judgement Of(Database database, FleetModel fleet, Objective? objective, IEnumerable<LossFigures> figures, Proofs proofs, Instant at, Instant? planChanged = null)
    {
        var verdict = Verdict.Proven;
        var reasons = new List<(Verdict Weight, string Text)>();
        var unproven = new List<(string Clause, string Why)>();
        var judged = 0;
        foreach (var f in figures)
        {
            judged++;
            if (objective is not null && proofs.Standing(database, fleet, objective, f.Loss.Kind, at, planChanged).WhyNot is { } not)
            {
                unproven.Add((f.Loss.Clause, not));
            }

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

            if (f.Window.SecondsOverRpo > OneInstant && exposure <= objective.RpoSeconds)
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

        // What is the same of all of them is said once.
        foreach (var same in unproven.GroupBy(u => u.Why, u => u.Clause))
        {
            if (same.Count() == judged)
            {
                Say(Verdict.Unproven, same.Key);
            }
            else
            {
                foreach (var clause in same)
                {
                    Say(Verdict.Unproven, $"{clause} {same.Key}");
                }
            }
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

    private static string Plain(double seconds) => PlainDuration.Of(seconds);
}
