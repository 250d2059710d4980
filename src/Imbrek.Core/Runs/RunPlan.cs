namespace Imbrek.Core.Runs;

/// <summary>The steps of a run, a directed graph without circles.</summary>
public sealed class RunPlan
{
    private readonly Dictionary<int, Step> byNumber;
    private readonly Dictionary<int, int[]> dependents;

    /// <summary>Makes a plan.</summary>
    /// <param name="steps">Its steps; each after those it waits for.</param>
    /// <exception cref="ArgumentException">
    /// A number comes twice, a step waits for, or refers to, one that does not stand before it, or one after which people decide again has an undo of its own.
    /// </exception>
    public RunPlan(IReadOnlyList<Step> steps)
    {
        Steps = steps;
        byNumber = new(steps.Count);
        foreach (var step in steps)
        {
            foreach (var before in step.After.Concat(step.Only is { } g ? [g.Hold] : []).Concat(step.Reopens is { } r ? [r] : []).Concat(step.InsteadOf is { } i ? [i] : []))
            {
                if (!byNumber.ContainsKey(before))
                {
                    throw new ArgumentException($"step {step.Number} refers to step {before}, which does not stand before it", nameof(steps));
                }
            }

            if (step.Only is { } guard && !byNumber[guard.Hold].Choices.Contains(guard.Choice))
            {
                throw new ArgumentException($"step {step.Number} is done when {guard.Hold} is decided as '{guard.Choice}', which cannot be chosen there", nameof(steps));
            }

            if (step is { Reopens: not null, Undo: Undo.Own })
            {
                throw new ArgumentException($"step {step.Number} has an undo of its own, so people cannot simply decide again when it fails", nameof(steps));
            }

            if (!byNumber.TryAdd(step.Number, step))
            {
                throw new ArgumentException($"there are two steps {step.Number}", nameof(steps));
            }
        }

        dependents = steps.SelectMany(s => s.After, (s, before) => (before, s.Number)).GroupBy(p => p.before).ToDictionary(g => g.Key, g => g.Select(p => p.Number).ToArray());
    }

    /// <summary>The steps, each after those it waits for.</summary>
    public IReadOnlyList<Step> Steps { get; }

    /// <summary>Seconds of the longest chain of what is done in any case: what people may choose is left out, and what they do counts as nothing.</summary>
    public double ExpectedSeconds => ExpectedSpans(s => s.Only is null).Values.Select(s => s.To).DefaultIfEmpty().Max();

    /// <summary>When each step is expected to begin and to end, seconds after the run begins, if nobody who does them is short of time.</summary>
    /// <param name="counts">Which steps are done; the others take no time.</param>
    public IReadOnlyDictionary<int, (double From, double To)> ExpectedSpans(Func<Step, bool> counts)
    {
        var spans = new Dictionary<int, (double From, double To)>(Steps.Count);
        foreach (var s in Steps)
        {
            var from = s.After.Select(a => spans[a].To).DefaultIfEmpty().Max();
            spans[s.Number] = (from, from + (counts(s) ? s.ExpectedSeconds ?? 0 : 0));
        }

        return spans;
    }

    /// <summary>A step by its number.</summary>
    public Step this[int number] => byNumber[number];

    /// <summary>The steps that wait for one, directly.</summary>
    public IReadOnlyList<int> Dependents(int number) => dependents.TryGetValue(number, out var d) ? d : [];

    /// <summary>Whether a step stands in for a failed one.</summary>
    public bool IsReplaced(int number) => Steps.Any(s => s.InsteadOf == number);
}
