using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>The latest instant to which several databases can all be brought (ways, section 1): the latest, not after a target, that lies in R(A, S) of each of them.</summary>
/// <param name="Latest">That instant; null when there is none.</param>
/// <param name="Each">The databases, as they were given.</param>
/// <param name="HoldsBack">Those without which it would be later, or there would be one, each alone; as they were given.</param>
public sealed record CommonInstant(Instant? Latest, IReadOnlyList<CommonInstant.Own> Each, IReadOnlyList<Id<Database>> HoldsBack)
{
    /// <summary>What one of them could be brought to by itself.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Latest">Its own latest instant, not after the target; null when there is none.</param>
    /// <param name="GivesUpSeconds">How much it gives up for the others, seconds; null when there is no common instant.</param>
    public sealed record Own(Id<Database> Database, Instant? Latest, double? GivesUpSeconds);

    /// <summary>Finds it for databases of a fleet.</summary>
    /// <param name="subjects">The databases, each once.</param>
    /// <param name="loss">The loss S; a bare kind is that of each database.</param>
    /// <param name="at">The as-of instant A.</param>
    /// <param name="target">The latest that is wanted.</param>
    public static CommonInstant Of(IReadOnlyList<RecoverySubject> subjects, Loss loss, Instant at, Instant target) =>
        Of([.. subjects.AsParallel().AsOrdered().Select(s => (s.Database.Id, Evaluator.RecoverableAt(s, loss, at)))], target);

    /// <summary>Finds it where it is known what each can be brought to.</summary>
    /// <param name="sets">What each can be brought to, as closed intervals in order that do not touch.</param>
    /// <param name="target">The latest that is wanted.</param>
    internal static CommonInstant Of(IReadOnlyList<(Id<Database> Database, IReadOnlyList<ClosedInterval> Reach)> sets, Instant target)
    {
        // From the target downwards: where an interval ends, its database can be brought to from there on; the greatest instant that some of them have in common is always such an end.
        var next = new int[sets.Count];
        var ends = new PriorityQueue<int, Instant>(Comparer<Instant>.Create((a, b) => b.CompareTo(a)));
        var starts = new PriorityQueue<int, Instant>(Comparer<Instant>.Create((a, b) => b.CompareTo(a)));
        var own = new Instant?[sets.Count];
        var without = new Instant?[sets.Count];
        Instant? latest = null;
        var (inside, sum, all) = (0, 0L, sets.Count * (sets.Count - 1L) / 2);
        for (var i = 0; i < sets.Count; i++)
        {
            next[i] = LastFrom(sets[i].Reach, target);
            own[i] = EndOf(i);
            Offer(i);
        }

        while (latest is null && ends.TryPeek(out _, out var at))
        {
            while (starts.TryPeek(out var left, out var from) && from > at)
            {
                starts.Dequeue();
                (inside, sum) = (inside - 1, sum - left);
            }

            while (ends.TryPeek(out var i, out var end) && end == at)
            {
                ends.Dequeue();
                (inside, sum) = (inside + 1, sum + i);
                starts.Enqueue(i, sets[i].Reach[next[i]].From);
                next[i]--;
                Offer(i);
            }

            if (inside == sets.Count)
            {
                latest = at;
            }
            else if (inside == sets.Count - 1)
            {
                without[(int)(all - sum)] ??= at;
            }
        }

        return new(
            latest,
            [.. sets.Select((s, i) => new Own(s.Database, own[i], latest is { } common && own[i] is { } its ? (its - common).TotalSeconds : null))],
            sets.Count == 1 ? [] : [.. sets.Where((_, i) => without[i] is not null).Select(s => s.Database)]);

        Instant? EndOf(int i) => next[i] < 0 ? null : Instant.Min(target, sets[i].Reach[next[i]].To);

        void Offer(int i)
        {
            if (EndOf(i) is { } end)
            {
                ends.Enqueue(i, end);
            }
        }
    }

    /// <summary>The last interval that begins no later than an instant; −1 when none does.</summary>
    private static int LastFrom(IReadOnlyList<ClosedInterval> intervals, Instant at)
    {
        var (low, high) = (0, intervals.Count);
        while (low < high)
        {
            var middle = (low + high) / 2;
            (low, high) = intervals[middle].From <= at ? (middle + 1, high) : (low, middle);
        }

        return low - 1;
    }
}
