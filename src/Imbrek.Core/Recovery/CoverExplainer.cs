using System.Globalization;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Objectives;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Recovery;

/// <summary>The why of section 2's recoverable line: for each gap and for its end, which set or copy is missing, damaged, removed or lost.</summary>
public static class CoverExplainer
{
    private const int MaxSetsNamed = 4;
    private const string NoSet = "no set covers this stretch";
    private static readonly InstantPattern Shown = InstantPattern.CreateWithInvariantCulture("uuuu-MM-dd HH:mm:ss'Z'");

    /// <summary>Gaps within a window, in order of time, the stretch after the last recoverable instant included.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss.</param>
    /// <param name="at">The as-of instant.</param>
    /// <param name="from">The earliest instant looked at.</param>
    public static IReadOnlyList<CoverGap> Gaps(RecoverySubject subject, Loss loss, Instant at, Instant from)
    {
        var resolved = loss.For(subject.Database, subject.Fleet);
        var cover = Evaluator.RecoverableAt(subject, resolved, at);
        var gaps = new List<CoverGap>();
        var last = from;
        foreach (var interval in cover.Where(i => i.To >= from))
        {
            if (interval.From > last)
            {
                var reasons = Explain(subject, resolved, at, last, interval.From);
                var first = interval == cover[0];
                gaps.Add(new CoverGap(new(last, interval.From), false, first && reasons is [NoSet] ? [$"its first set covers from {Shown.Format(interval.From)}"] : reasons, first));
            }

            last = Instant.Max(last, interval.To);
        }

        if (last < at)
        {
            gaps.Add(new CoverGap(new(last, at), true, Explain(subject, resolved, at, last, at)));
        }

        return gaps;
    }

    /// <summary>Why a set, with what it builds on, cannot be read at an instant under a loss: one clause a copy; null when it can.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="availability">Its copies under the loss.</param>
    /// <param name="loss">The loss, resolved.</param>
    /// <param name="set">The place of the set.</param>
    /// <param name="at">The as-of instant.</param>
    internal static string? WhyUnusable(RecoverySubject subject, Availability availability, Loss loss, int set, Instant at)
    {
        var c = subject.Catalogue;
        var a = at.ToUnixTimeMilliseconds();
        var fault = set;
        while (availability.UsableAt(fault, a))
        {
            if (c.Parents[fault] < 0)
            {
                return c.WhyWithoutParent(fault);
            }

            fault = c.Parents[fault];
        }

        var clauses = new List<string>();
        foreach (var copy in c[fault].Copies)
        {
            var store = subject.Fleet.Stores[copy.Store];
            clauses.Add(
                copy.State == CopyState.Damaged ? $"copy in {store.Id} is damaged"
                : copy.RemovedAt is { } removed && removed <= at ? $"copy in {store.Id} was removed {Shown.Format(removed)}"
                : copy.AvailableAt > at ? $"copy in {store.Id} is there only from {Shown.Format(copy.AvailableAt)}"
                : !loss.Spares(store, subject.Fleet) ? $"copy in {store.Id} is lost with {loss}"
                : loss.Kind == LossKind.Hostile && !store.Offline ? $"copy in {store.Id} can be deleted with stolen credentials"
                : $"copy in {store.Id} cannot be used: no host it is usable on is left");
        }

        var why = clauses.Count == 0 ? "it has no copy" : string.Join(", ", clauses);
        return fault == set ? why : $"it builds on {c.IdOf(fault)}: {why}";
    }

    private static List<string> Explain(RecoverySubject subject, Loss loss, Instant at, Instant from, Instant to)
    {
        var c = subject.Catalogue;
        var reasons = new List<string>();
        var (lo, hi, a) = (from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds(), at.ToUnixTimeMilliseconds());
        var availability = new Availability(subject, loss);
        var named = 0;
        var unusable = 0;
        string? coming = null;
        for (var i = 0; i < c.Count; i++)
        {
            var log = c.Kinds[i] == SetKind.Log;
            var bearsOnGap = log ? c.CoversTo[i] > lo && c.CoversFrom[i] < hi : c.CoversTo[i] > lo && c.CoversTo[i] < hi;
            if (!bearsOnGap || WhyUnusable(subject, availability, loss, i, at) is not { } why)
            {
                continue;
            }

            var reason = $"{c.Kinds[i].ToString().ToLowerInvariant()} {c.IdOf(i)}: {why}";
            if (NotYetThere(c, i, a))
            {
                // The newest sets are always on their way: that is the reason only when there is no other.
                coming ??= reason;
                continue;
            }

            unusable++;
            if (named++ < MaxSetsNamed)
            {
                reasons.Add(reason);
            }
        }

        if (unusable > MaxSetsNamed)
        {
            reasons.Add($"and {(unusable - MaxSetsNamed).ToString(CultureInfo.InvariantCulture)} more sets");
        }

        if (unusable == 0)
        {
            reasons.Add(MissingLog(c, lo, hi, a) ?? coming ?? (hi >= a ? "nothing has been backed up since" : NoSet));
        }

        return reasons;
    }

    private static bool NotYetThere(DatabaseCatalogue c, int set, long at)
    {
        for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
        {
            if (c.AvailableAt[copy] <= at)
            {
                return false;
            }
        }

        return c.CopyEnds[set] > c.CopyStart(set);
    }

    /// <summary>When every set that bears on the gap is readable, what is missing is log that is in no set; null when none follows the gap.</summary>
    private static string? MissingLog(DatabaseCatalogue c, long lo, long hi, long at)
    {
        var next = -1;
        for (var i = 0; i < c.Count; i++)
        {
            if (c.Kinds[i] == SetKind.Log && c.CoversTo[i] > lo && c.CoversFrom[i] >= lo && (next < 0 || c.FromPositions[i] < c.FromPositions[next]) && !NotYetThere(c, i, at))
            {
                next = i;
            }
        }

        var position = long.MinValue;
        for (var i = 0; i < c.Count; i++)
        {
            if (c.CoversTo[i] <= lo && (next < 0 || c.ToPositions[i] <= c.FromPositions[next]))
            {
                position = Math.Max(position, c.ToPositions[i]);
            }
        }

        if (next >= 0 && position != long.MinValue && c.FromPositions[next] > position)
        {
            return string.Create(
                CultureInfo.InvariantCulture,
                $"the log from position {position} to {c.FromPositions[next]} is in no set; {c.IdOf(next)} cannot follow");
        }

        return next >= 0 && c.CoversFrom[next] < hi ? $"log {c.IdOf(next)} has nothing to be applied to" : null;
    }
}
