using Imbrek.Core.Catalogue;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>
/// The one evaluator (sections 2 and 5): recoverable set, exposure and window figures for a database, whatever the loss and the
/// instant. Designed, observed and proven figures differ only in the catalogue handed in.
/// </summary>
public static class Evaluator
{
    /// <summary>Recoverable set and exposure at an instant, and figures over a window when one is named.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss; a bare kind is the one the database lies on.</param>
    /// <param name="at">The as-of instant A, compared at 1 ms.</param>
    /// <param name="from">W0; null for no window.</param>
    /// <exception cref="ArgumentException"><paramref name="from"/> is after <paramref name="at"/>.</exception>
    public static Evaluation Evaluate(RecoverySubject subject, Loss loss, Instant at, Instant? from = null)
    {
        var resolved = loss.For(subject.Database, subject.Fleet);
        return new Evaluation(
            subject.Database.Id,
            at,
            resolved,
            RecoverableAt(subject, resolved, at),
            from is { } w0 ? Over(subject, resolved, w0, at) : null);
    }

    /// <summary>Window figures alone: one ordered pass.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss; a bare kind is the one the database lies on.</param>
    /// <param name="from">W0.</param>
    /// <param name="to">W1.</param>
    /// <param name="latestAtEnd">Told max R(W1, S), which the pass knows anyway; null when nothing can be restored.</param>
    /// <exception cref="ArgumentException"><paramref name="from"/> is after <paramref name="to"/>.</exception>
    public static WindowFigures Over(RecoverySubject subject, Loss loss, Instant from, Instant to, Action<Instant?>? latestAtEnd = null)
    {
        if (from > to)
        {
            throw new ArgumentException($"the window starts ({from}) after its end ({to})", nameof(from));
        }

        // In milliseconds with fractions, because an RPO may have them.
        var rpo = subject.Objective?.RpoSeconds * 1000.0;
        long worst = -1, worstAt = 0, unprotected = 0;
        var over = 0.0;
        var last = Reach.Nothing;
        ReachOverWindow.Sweep(
            subject,
            loss.For(subject.Database, subject.Fleet),
            from.ToUnixTimeMilliseconds(),
            to.ToUnixTimeMilliseconds(),
            (start, end, reach) =>
            {
                last = reach;
                if (reach.IsNothing)
                {
                    unprotected += end - start;
                    return;
                }

                // What stands is left behind until the end; what moves with the window is as far behind from the beginning on.
                var (latest, at) = reach.Moves ? (reach.LatestAt(start), start) : (reach.LatestAt(end), end);
                if (at - latest > worst)
                {
                    (worst, worstAt) = (at - latest, at);
                }

                if (rpo is { } limit)
                {
                    var from = !reach.Moves ? Math.Max(start, latest + limit) : at - latest > limit ? start : end;
                    over += Math.Max(0, end - from);
                }
            });
        latestAtEnd?.Invoke(last.LatestAt(to));
        return new WindowFigures(
            from,
            to,
            worst < 0 ? null : worst / 1000.0,
            worst < 0 ? null : Instant.FromUnixTimeMilliseconds(worstAt),
            rpo is null ? null : (over + unprotected) / 1000.0,
            unprotected / 1000.0);
    }

    /// <summary>The exposure curve of a window as steps: a step wherever the latest recoverable instant jumps, stops or begins to move.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss; a bare kind is the one the database lies on.</param>
    /// <param name="from">The first as-of instant.</param>
    /// <param name="to">The last as-of instant.</param>
    public static IReadOnlyList<ExposureStep> Curve(RecoverySubject subject, Loss loss, Instant from, Instant to)
    {
        var steps = new List<ExposureStep>();
        ReachOverWindow.Sweep(
            subject,
            loss.For(subject.Database, subject.Fleet),
            from.ToUnixTimeMilliseconds(),
            to.ToUnixTimeMilliseconds(),
            (start, _, reach) =>
            {
                if (steps.Count == 0 || steps[^1].Reach != reach)
                {
                    steps.Add(new ExposureStep(Instant.FromUnixTimeMilliseconds(start), reach));
                }
            });
        return steps;
    }

    /// <summary>R(A, S) as closed intervals.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss; a bare kind is the one the database lies on.</param>
    /// <param name="at">The as-of instant A.</param>
    public static IReadOnlyList<ClosedInterval> RecoverableAt(RecoverySubject subject, Loss loss, Instant at)
    {
        var resolved = loss.For(subject.Database, subject.Fleet);
        var a = at.ToUnixTimeMilliseconds();
        var availability = new Availability(subject, resolved);
        var found = Intervals(subject.Lineage, set => availability.UsableAt(set, a), a);
        foreach (var replica in subject.Replicas)
        {
            if (replica.IntervalAt(resolved, at) is var (first, last))
            {
                found.Add(new ClosedInterval(Instant.FromUnixTimeMilliseconds(first), Instant.FromUnixTimeMilliseconds(last)));
            }
        }

        return ClosedInterval.Merge(found);
    }

    /// <summary>The instants that the sets for which <paramref name="usable"/> holds lead to, not merged.</summary>
    internal static List<ClosedInterval> Intervals(Lineage lineage, Func<int, bool> usable, long a)
    {
        var c = lineage.Catalogue;
        var reached = lineage.Reached(usable);
        var found = new List<ClosedInterval>();
        long from = 0, to = Unset;
        for (var k = 0; k < lineage.Count; k++)
        {
            var node = lineage.Order is null ? k : lineage.Order[k];
            if (!reached[node] || lineage.IsForkStop(node))
            {
                continue;
            }

            var start = c.CoversTo[node];
            if (c.Kinds[node] == SetKind.Log)
            {
                // Any instant from the earliest state it can be applied to.
                foreach (var source in lineage.SourcesOf(node))
                {
                    start = reached[source] ? Math.Min(start, lineage.TimeOf(source)) : start;
                }

                start = Math.Max(start, lineage.StartOfBranch(node));
            }

            if (start <= c.CoversTo[node])
            {
                Add(start, c.CoversTo[node]);
            }
        }

        foreach (var start in lineage.Starts)
        {
            if (start.Nodes.Exists(n => reached[n]))
            {
                Add(start.StartsAt, start.StartsAt);
            }
        }

        Flush();
        return found;

        // Joins on the way what is already in order, which is nearly everything.
        void Add(long first, long last)
        {
            if (first > a)
            {
                return;
            }

            last = Math.Min(last, a);
            if (to != Unset && first >= from && first <= to)
            {
                to = Math.Max(to, last);
                return;
            }

            Flush();
            (from, to) = (first, last);
        }

        void Flush()
        {
            if (to != Unset)
            {
                found.Add(new ClosedInterval(Instant.FromUnixTimeMilliseconds(from), Instant.FromUnixTimeMilliseconds(to)));
            }
        }
    }

    private const long Unset = long.MinValue;
}
