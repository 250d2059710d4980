using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Tests;

/// <summary>
/// Section 2 of the definitions written down as plainly as it reads, with no thought of speed: what the fast evaluator is compared with.
/// </summary>
internal static class NaiveEvaluator
{
    private readonly record struct State(int Branch, long Position, Instant Time);

    public static IReadOnlyList<ClosedInterval> Recoverable(FleetModel fleet, Database database, IReadOnlyList<BackupSet> sets, Loss loss, Instant at)
    {
        var byId = sets.ToDictionary(s => s.Id);
        var available = sets.Where(s => Available(s, [])).ToArray();
        var found = new List<ClosedInterval>();
        var states = new HashSet<State>();
        var todo = new Queue<State>();
        foreach (var s in available.Where(s => s.Kind != SetKind.Log))
        {
            found.Add(new(s.CoversTo, s.CoversTo));
            if (AcceptsLog(s))
            {
                Reach(new(s.Branch, s.ToPosition, s.CoversTo));
            }
        }

        while (todo.TryDequeue(out var state))
        {
            foreach (var child in database.Branches.Where(b => b.Parent == state.Branch && b.ForkPosition == state.Position))
            {
                found.Add(new(child.StartsAt, child.StartsAt));
            }

            foreach (var log in available.Where(s => s.Kind == SetKind.Log && Applies(s, state)))
            {
                var start = Instant.Max(state.Time, database.StartOf(log.Branch));
                if (start <= log.CoversTo)
                {
                    found.Add(new(start, log.CoversTo));
                }

                Reach(new(log.Branch, Math.Max(state.Position, log.ToPosition), log.CoversTo));
                foreach (var child in database.Branches)
                {
                    if (child.Parent == log.Branch && state.Position <= child.ForkPosition && child.ForkPosition < log.ToPosition && child.ForkAt <= log.CoversTo)
                    {
                        Reach(new(child.Parent, child.ForkPosition, Instant.Max(state.Time, child.ForkAt)));
                    }
                }
            }
        }

        return ClosedInterval.Merge(found.Where(i => i.From <= at).Select(i => new ClosedInterval(i.From, Instant.Min(i.To, at))));

        void Reach(State s)
        {
            if (states.Add(s))
            {
                todo.Enqueue(s);
            }
        }

        bool Usable(BackupCopy c)
        {
            var store = fleet.Stores[c.Store];
            return c.AvailableAt <= at && (c.RemovedAt is not { } removed || removed > at) && c.State != CopyState.Damaged
                && loss.Spares(store, fleet) && (loss.Kind != LossKind.Hostile || store.Offline || c.LockedUntil > at);
        }

        bool Available(BackupSet s, HashSet<Id<BackupSet>> below) =>
            below.Add(s.Id) && s.Copies.Any(Usable)
            && (s.UsableOn.Count == 0 || s.UsableOn.Any(h => loss.Spares(fleet.Hosts[h])))
            && (s.Kind is not (SetKind.Differential or SetKind.Incremental) || (s.Parent is { } p && byId.TryGetValue(p, out var parent) && Available(parent, below)));

        bool AcceptsLog(BackupSet s) =>
            s.Kind != SetKind.Export && s.RollForward
            && (s.Kind is not (SetKind.Differential or SetKind.Incremental) || AcceptsLog(byId[s.Parent!.Value]));

        bool Applies(BackupSet log, State s)
        {
            if (!(log.FromPosition <= s.Position && s.Position <= log.ToPosition && log.CoversTo > s.Time))
            {
                return false;
            }

            for (var branch = log.Branch; branch != s.Branch;)
            {
                if (database.Branches.FirstOrDefault(b => b.Id == branch) is not { } b || s.Position > b.ForkPosition)
                {
                    return false;
                }

                branch = b.Parent;
            }

            return true;
        }
    }

    /// <summary>The window figures by evaluating anew at every instant where anything could change.</summary>
    public static (double? Worst, double Unprotected, double? Over) Window(FleetModel fleet, Database database, IReadOnlyList<BackupSet> sets, Loss loss, Instant from, Instant to)
    {
        var events = sets.SelectMany(s => s.Copies).SelectMany(c => new[] { c.AvailableAt, c.RemovedAt ?? from, c.LockedUntil ?? from })
            .Concat(database.Branches.Select(b => b.StartsAt)).Append(from).Append(to).Where(t => t >= from && t <= to).Distinct().Order().ToArray();
        double? worst = null;
        double unprotected = 0, over = 0;
        var rpo = fleet.ObjectiveOf(database)?.RpoSeconds;
        for (var i = 0; i < events.Length; i++)
        {
            var end = i + 1 < events.Length ? events[i + 1] : events[i];
            var cover = Recoverable(fleet, database, sets, loss, events[i]);
            if (cover.Count == 0)
            {
                unprotected += (end - events[i]).TotalSeconds;
                over += (end - events[i]).TotalSeconds;
                continue;
            }

            worst = Math.Max(worst ?? 0, (end - cover[^1].To).TotalSeconds);
            if (rpo is { } limit)
            {
                over += Math.Max(0, (end - Instant.Max(events[i], cover[^1].To + Duration.FromSeconds(limit))).TotalSeconds);
            }
        }

        return (worst, unprotected, rpo is null ? null : over);
    }
}
