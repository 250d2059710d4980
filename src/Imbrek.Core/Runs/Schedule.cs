namespace Imbrek.Core.Runs;

/// <summary>
/// When the steps of a plan would begin and end, what decides the end, and how much later each could end without moving it (section 11, the runbook). A step begins when those it waits for have ended and
/// somebody of its owner is free: a role of n people does at most n at once, taken in the order of the least slack, then of the plan. What people do in a time nobody can tell counts as 0 seconds.
/// </summary>
public sealed class Schedule
{
    private const int Unlimited = int.MaxValue;

    /// <summary>Seconds may differ by rounding; less than this is no slack.</summary>
    private const double Rounding = 1e-6;

    private readonly Dictionary<int, int> index;
    private readonly double[] starts;
    private readonly double[] ends;
    private readonly double[] slack;

    private Schedule(RunPlan plan, Dictionary<int, int> index, double[] starts, double[] ends, double[] slack, IReadOnlyList<int> critical) =>
        (Plan, this.index, this.starts, this.ends, this.slack, CriticalPath) = (plan, index, starts, ends, slack, critical);

    /// <summary>The plan.</summary>
    public RunPlan Plan { get; }

    /// <summary>The numbers of the steps that decide the end, in order: each begins when the one before it has ended, because it waits for it or for who was busy with it.</summary>
    public IReadOnlyList<int> CriticalPath { get; }

    /// <summary>Seconds from the start of the first step to the end of the last.</summary>
    public double Seconds => ends.Length == 0 ? 0 : ends.Max();

    /// <summary>When a step begins, seconds after the first.</summary>
    public double StartOf(int number) => starts[index[number]];

    /// <summary>When a step ends, seconds after the first begins.</summary>
    public double EndOf(int number) => ends[index[number]];

    /// <summary>How much later a step could end without moving the end, seconds; those of one owner keep their order.</summary>
    public double SlackOf(int number) => slack[index[number]];

    /// <summary>Works it out.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="people">How many there are of each owner; one that is not named is never short, as the product never is.</param>
    /// <exception cref="ArgumentOutOfRangeException">An owner has nobody.</exception>
    public static Schedule Of(RunPlan plan, IReadOnlyDictionary<string, int>? people = null)
    {
        var steps = plan.Steps;
        var count = steps.Count;
        var index = new Dictionary<int, int>(count);
        var lasts = new double[count];
        var before = new int[count][];
        for (var i = 0; i < count; i++)
        {
            index.Add(steps[i].Number, i);
            lasts[i] = steps[i].ExpectedSeconds ?? 0;
            before[i] = BeforeOf(steps[i], index);
        }

        var after = Reversed(before);
        var tails = Tails(lasts, after);
        var starts = new double[count];
        var ends = new double[count];

        // What whoever does a step had been busy with before; -1 for nothing.
        var freed = new int[count];
        Array.Fill(freed, -1);

        // Each after those it waits for, and after what its owner did before.
        int[] order = [.. Enumerable.Range(0, count)];
        if (people is { Count: > 0 })
        {
            Place(steps, people, lasts, before, after, tails, starts, ends, freed, order);
        }
        else
        {
            for (var i = 0; i < count; i++)
            {
                foreach (var b in before[i])
                {
                    starts[i] = Math.Max(starts[i], ends[b]);
                }

                ends[i] = starts[i] + lasts[i];
            }
        }

        var end = count == 0 ? 0 : ends.Max();
        var slack = SlackOf(lasts, after, freed, starts, end, order);
        return new Schedule(plan, index, starts, ends, slack, [.. Chain(before, freed, starts, ends, end).Select(i => steps[i].Number)]);
    }

    private static int[] BeforeOf(Step step, Dictionary<int, int> index)
    {
        var places = new int[step.After.Count + (step.Only is null ? 0 : 1)];
        for (var i = 0; i < step.After.Count; i++)
        {
            places[i] = index[step.After[i]];
        }

        if (step.Only is { } guard)
        {
            places[^1] = index[guard.Hold];
        }

        return places;
    }

    private static int[][] Reversed(int[][] before)
    {
        var counts = new int[before.Length];
        foreach (var b in before.SelectMany(x => x))
        {
            counts[b]++;
        }

        var after = new int[before.Length][];
        for (var i = 0; i < before.Length; i++)
        {
            after[i] = new int[counts[i]];
        }

        for (var i = before.Length - 1; i >= 0; i--)
        {
            foreach (var b in before[i])
            {
                after[b][--counts[b]] = i;
            }
        }

        return after;
    }

    /// <summary>Of each step the seconds from its start to the end of all that waits for it, with as many people as one likes.</summary>
    private static double[] Tails(double[] lasts, int[][] after)
    {
        var tails = new double[lasts.Length];
        for (var i = lasts.Length - 1; i >= 0; i--)
        {
            var longest = 0.0;
            foreach (var a in after[i])
            {
                longest = Math.Max(longest, tails[a]);
            }

            tails[i] = lasts[i] + longest;
        }

        return tails;
    }

    /// <summary>Places the steps in time, one event after another.</summary>
    private static void Place(
        IReadOnlyList<Step> steps, IReadOnlyDictionary<string, int> people, double[] lasts, int[][] before, int[][] after, double[] tails, double[] starts, double[] ends, int[] freed, int[] order)
    {
        var earliest = new double[steps.Count];
        for (var i = 0; i < steps.Count; i++)
        {
            foreach (var b in before[i])
            {
                earliest[i] = Math.Max(earliest[i], earliest[b] + lasts[b]);
            }
        }

        var end = Enumerable.Range(0, steps.Count).Max(i => earliest[i] + lasts[i]);
        var owners = new Dictionary<string, Owner>();
        var missing = new int[steps.Count];
        var ready = new PriorityQueue<int, (double At, int Order)>();
        var ending = new PriorityQueue<int, (double At, int Order)>();
        for (var i = 0; i < steps.Count; i++)
        {
            missing[i] = before[i].Length;
            if (missing[i] == 0)
            {
                ready.Enqueue(i, (0, i));
            }
        }

        var (touched, placed) = (new List<Owner>(), 0);
        while (ready.Count + ending.Count > 0)
        {
            var now = Math.Min(ready.TryPeek(out _, out var r) ? r.At : double.PositiveInfinity, ending.TryPeek(out _, out var e) ? e.At : double.PositiveInfinity);

            // All that ends now has ended before anything is chosen to begin now.
            while (ending.TryPeek(out var done, out var at) && at.At <= now)
            {
                ending.Dequeue();
                var owner = owners[steps[done].Owner];
                owner.Leave(done);
                touched.Add(owner);
                foreach (var a in after[done])
                {
                    if (--missing[a] == 0)
                    {
                        ready.Enqueue(a, (now, a));
                    }
                }
            }

            while (ready.TryPeek(out var open, out var at) && at.At <= now)
            {
                ready.Dequeue();
                var name = steps[open].Owner;
                if (!owners.TryGetValue(name, out var owner))
                {
                    owners[name] = owner = new Owner(people.TryGetValue(name, out var n) ? n : Unlimited);
                }

                // Slack by the graph alone: where the latest start that keeps the end is behind the earliest.
                owner.Waiting.Enqueue(open, (end - tails[open] - earliest[open], open));
                touched.Add(owner);
            }

            foreach (var owner in touched)
            {
                while (owner.Free > 0 && owner.Waiting.TryDequeue(out var next, out _))
                {
                    starts[next] = now;
                    ends[next] = now + lasts[next];
                    freed[next] = owner.Take();
                    order[placed++] = next;
                    ending.Enqueue(next, (ends[next], next));
                }
            }

            touched.Clear();
        }
    }

    /// <summary>How much later each could end: by what waits for it, and by who takes up something else after it.</summary>
    private static double[] SlackOf(double[] lasts, int[][] after, int[] freed, double[] starts, double end, int[] order)
    {
        var latest = new double[lasts.Length];
        Array.Fill(latest, end);
        for (var n = order.Length - 1; n >= 0; n--)
        {
            var i = order[n];
            foreach (var a in after[i])
            {
                latest[i] = Math.Min(latest[i], latest[a] - lasts[a]);
            }

            if (freed[i] >= 0)
            {
                latest[freed[i]] = Math.Min(latest[freed[i]], latest[i] - lasts[i]);
            }
        }

        var slack = new double[lasts.Length];
        for (var i = 0; i < lasts.Length; i++)
        {
            var left = latest[i] - starts[i] - lasts[i];
            slack[i] = left < Rounding ? 0 : left;
        }

        return slack;
    }

    private static List<int> Chain(int[][] before, int[] freed, double[] starts, double[] ends, double end)
    {
        var chain = new List<int>();
        for (var i = Array.FindIndex(ends, e => e == end); i >= 0;)
        {
            chain.Add(i);
            var start = starts[i];
            var decides = before[i].Where(b => ends[b] == start).DefaultIfEmpty(-1).First();
            i = decides >= 0 ? decides : freed[i];
        }

        chain.Reverse();
        return chain;
    }

    /// <summary>The people of one owner.</summary>
    private sealed class Owner
    {
        /// <summary>What those who are free now were busy with; who has been free the longest comes first.</summary>
        private readonly Queue<int> left = new();
        private readonly int people;
        private int busy;
        private int everBusy;

        public Owner(int people) => this.people = people > 0 ? people : throw new ArgumentOutOfRangeException(nameof(people), "an owner of steps has nobody");

        public PriorityQueue<int, (double Slack, int Order)> Waiting { get; } = new();

        public int Free => people - busy;

        public void Leave(int step)
        {
            busy--;
            left.Enqueue(step);
        }

        /// <summary>Somebody takes up a step; the answer is what they did before, -1 for nothing.</summary>
        public int Take()
        {
            busy++;
            if (everBusy < people)
            {
                everBusy++;
                return -1;
            }

            return left.Dequeue();
        }
    }
}
