using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>What a retention rule would remove of one database, today and on the days after, and how far back one could then go.</summary>
/// <param name="Today">The decision for every copy that is there.</param>
/// <param name="Days">For today and each day after: what goes on that day.</param>
/// <param name="Before">What can be recovered now.</param>
/// <param name="After">What could be recovered once today's removals are done.</param>
public sealed record RetentionPreview(
    IReadOnlyList<RetentionDecision> Today, IReadOnlyList<RetentionPreview.Day> Days, IReadOnlyList<ClosedInterval> Before, IReadOnlyList<ClosedInterval> After)
{
    /// <summary>What goes on one day.</summary>
    /// <param name="At">The instant of the clean-up.</param>
    /// <param name="Copies">How many copies go.</param>
    /// <param name="FreedBytes">Bytes freed.</param>
    /// <param name="BackTo">The earliest instant that can then be recovered; null when there is none.</param>
    public sealed record Day(Instant At, int Copies, long FreedBytes, Instant? BackTo);

    /// <summary>Applies a rule to a catalogue day after day.</summary>
    /// <param name="subject">The database; sets that will be made may be in its catalogue, they count from when they are there.</param>
    /// <param name="ruleFor">The rule for a kind in a place; null where none holds.</param>
    /// <param name="now">Today.</param>
    /// <param name="days">How many days to look ahead.</param>
    /// <param name="zone">The zone whose days count.</param>
    /// <param name="cancel">Whoever asked does not wait any more.</param>
    public static RetentionPreview Of(RecoverySubject subject, Func<SetKind, Id<Store>, RetentionRule?> ruleFor, Instant now, int days, DateTimeZone zone, CancellationToken cancel = default)
    {
        var before = Evaluator.RecoverableAt(subject, Loss.None, now);
        IReadOnlyList<RetentionDecision>? today = null;
        IReadOnlyList<ClosedInterval> after = before;
        var list = new List<Day>();
        for (var day = 0; day <= days; day++)
        {
            cancel.ThrowIfCancellationRequested();
            var at = now + Duration.FromDays(day);
            var decided = Retention.Decide(subject.Lineage, ruleFor, at, zone);
            var go = decided.Where(d => !d.Stays).ToArray();
            subject = Apply(subject, go, at);
            var left = Evaluator.RecoverableAt(subject, Loss.None, at);
            if (today is null)
            {
                (today, after) = (decided, left);
            }

            list.Add(new Day(at, go.Length, (long)go.Sum(g => (double)g.StoredBytes), left.Count == 0 ? null : left[0].From));
        }

        return new RetentionPreview(today!, list, before, after);
    }

    private static RecoverySubject Apply(RecoverySubject subject, RetentionDecision[] go, Instant at)
    {
        if (go.Length == 0)
        {
            return subject;
        }

        var stores = go.ToLookup(g => g.Set, g => g.Store);
        var changed = stores.Select(g => subject.Catalogue[g.Key]).ToArray();
        var removed = stores.Select((g, i) => changed[i] with
        {
            Copies = [.. changed[i].Copies.Select(copy => g.Contains(copy.Store) && copy.RemovedAt is null ? copy with { RemovedAt = at } : copy)],
        });
        return RecoverySubject.Of(subject.Fleet, subject.Database, subject.Catalogue.With([.. removed]));
    }
}
