using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>
/// What stays and what goes. A rule says for each kind and place what is wanted; then everything that a wanted copy needs to be restored
/// stays too: its parents, and for a log the latest state it can be applied to with all logs between, from the same place when that place
/// alone can restore it, from wherever it lies otherwise. So a kept set is restorable as before, with all stores and with its own alone;
/// a copy that is kept and damaged keeps those that are whole; applying the decision twice changes nothing more; and a longer rule never keeps less.
/// </summary>
public static class Retention
{
    /// <summary>Decides for every copy that is there.</summary>
    /// <param name="lineage">The sets of one database.</param>
    /// <param name="ruleFor">The rule for a kind in a place; null where no rule holds, and all stays.</param>
    /// <param name="now">The instant of the decision.</param>
    /// <param name="zone">The zone whose days, weeks, months and years count.</param>
    /// <param name="inUse">Sets that something uses, such as a clone; null for none.</param>
    public static IReadOnlyList<RetentionDecision> Decide(
        Lineage lineage, Func<SetKind, Id<Store>, RetentionRule?> ruleFor, Instant now, DateTimeZone zone, Func<Id<BackupSet>, bool>? inUse = null) =>
        new Decider(lineage, now.ToUnixTimeMilliseconds(), zone).Decide(ruleFor, inUse);

    /// <summary>The rule of a plan for a kind in a place: that of its task of this kind that keeps sets there.</summary>
    public static Func<SetKind, Id<Store>, RetentionRule?> RulesOf(Plan plan) =>
        (kind, store) => plan.Tasks.FirstOrDefault(t => t.Kind.Makes() == kind && t.Stores.Contains(store))?.KeepIn(store)
            ?? plan.Tasks.FirstOrDefault(t => t.Kind == TaskKind.CopyElsewhere && t.Stores.Contains(store))?.KeepIn(store);

    /// <summary>What goes by a plan: the copies that need not stay.</summary>
    /// <param name="plan">The plan whose tasks say how long what is kept where.</param>
    /// <param name="database">The database.</param>
    /// <param name="catalogue">Its sets.</param>
    /// <param name="now">The instant of the decision.</param>
    /// <param name="inUse">Whether something lies on a set, or reads it.</param>
    public static IReadOnlyList<Drivers.SetCopy> ToRemove(Plan plan, Fleet.Database database, DatabaseCatalogue catalogue, Instant now, Func<Id<BackupSet>, bool>? inUse = null)
    {
        var lineage = Lineage.Of(database, catalogue);
        var zone = plan.Tasks.Select(t => t.Recurrence?.Zone).FirstOrDefault(z => z is not null) ?? DateTimeZone.Utc;
        return [.. Decide(lineage, RulesOf(plan), now, zone, inUse).Where(r => !r.Stays).Select(r => new Drivers.SetCopy(lineage.Catalogue.IdOf(r.Set), r.Store))];
    }

    private sealed class Decider
    {
        private readonly Lineage lineage;
        private readonly DatabaseCatalogue c;
        private readonly long now;
        private readonly DateTimeZone zone;
        private readonly int stores;

        /// <summary>The copy of a set in a store that is there and whole; -1 for none. Row a set, column a store.</summary>
        private readonly int[] whole;
        private readonly bool[] live;
        private readonly string?[] kept;
        private readonly bool[]?[] reachable;

        public Decider(Lineage lineage, long now, DateTimeZone zone)
        {
            (this.lineage, c, this.now, this.zone) = (lineage, lineage.Catalogue, now, zone);
            stores = c.Stores.Count;
            whole = new int[c.Count * stores];
            Array.Fill(whole, -1);
            live = new bool[c.AvailableAt.Length];
            kept = new string?[c.AvailableAt.Length];
            reachable = new bool[]?[stores + 1];
            for (var set = 0; set < c.Count; set++)
            {
                for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
                {
                    live[copy] = c.AvailableAt[copy] <= now && (c.RemovedAt is null || c.RemovedAt[copy] > now);
                    if (live[copy] && c.CopyStates[copy] != CopyState.Damaged)
                    {
                        whole[(set * stores) + c.CopyStores[copy]] = copy;
                    }
                }
            }
        }

        public IReadOnlyList<RetentionDecision> Decide(Func<SetKind, Id<Store>, RetentionRule?> ruleFor, Func<Id<BackupSet>, bool>? inUse)
        {
            for (var store = 0; store < stores; store++)
            {
                foreach (var kind in Enum.GetValues<SetKind>())
                {
                    Want(kind, store, ruleFor(kind, c.Stores[store]));
                }
            }

            for (var set = 0; set < c.Count; set++)
            {
                var used = inUse?.Invoke(c.IdOf(set)) == true;
                for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
                {
                    if (live[copy] && c.LockedUntil is { } locks && locks[copy] > now)
                    {
                        kept[copy] ??= $"locked until {Formats.Instants.Write(Instant.FromUnixTimeMilliseconds(locks[copy]))}";
                    }

                    if (live[copy] && used)
                    {
                        kept[copy] ??= "in use";
                    }
                }
            }

            for (var k = lineage.Count - 1; k >= 0; k--)
            {
                KeepWhatIsNeededBy(lineage.Order is null ? k : lineage.Order[k]);
            }

            return
            [
                .. from set in Enumerable.Range(0, c.Count)
                   from copy in Enumerable.Range(c.CopyStart(set), c.CopyEnds[set] - c.CopyStart(set))
                   where live[copy]
                   select new RetentionDecision(set, c.Stores[c.CopyStores[copy]], kept[copy] is not null, kept[copy] ?? "no rule keeps it and no kept set needs it", c.StoredBytes[copy]),
            ];
        }

        private void Want(SetKind kind, int store, RetentionRule? rule)
        {
            var copies = new List<(int Set, int Copy)>();
            for (var set = 0; set < c.Count; set++)
            {
                if (c.Kinds[set] != kind)
                {
                    continue;
                }

                for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
                {
                    if (live[copy] && c.CopyStores[copy] == store)
                    {
                        copies.Add((set, copy));
                    }
                }
            }

            if (rule is null)
            {
                copies.ForEach(x => kept[x.Copy] = "no rule for this kind in this place");
                return;
            }

            if (rule.KeepFor is { } age)
            {
                var since = now - (long)age.TotalMilliseconds;
                var days = Plain(age);
                foreach (var (_, copy) in copies.Where(x => c.AvailableAt[x.Copy] > since))
                {
                    kept[copy] ??= $"younger than {days}";
                }
            }

            foreach (var (_, copy) in copies.TakeLast(rule.Newest))
            {
                kept[copy] ??= $"one of the newest {rule.Newest}";
            }

            Periods(copies, rule.Daily, rule.LastOfPeriod, "day", d => d);
            Periods(copies, rule.Weekly, rule.LastOfPeriod, "week", d => d.PlusDays(1 - (int)d.DayOfWeek));
            Periods(copies, rule.Monthly, rule.LastOfPeriod, "month", d => new LocalDate(d.Year, d.Month, 1));
            Periods(copies, rule.Yearly, rule.LastOfPeriod, "year", d => new LocalDate(d.Year, 1, 1));
            if (rule.Continuous is { } back)
            {
                Continuous(store, now - (long)back.TotalMilliseconds, Plain(back));
            }
        }

        private void Periods(List<(int Set, int Copy)> copies, int count, bool last, string name, Func<LocalDate, LocalDate> periodOf)
        {
            if (count == 0)
            {
                return;
            }

            var periods = copies.GroupBy(x => periodOf(Instant.FromUnixTimeMilliseconds(c.CoversTo[x.Set]).InZone(zone).Date)).OrderByDescending(g => g.Key).Take(count);
            foreach (var period in periods)
            {
                kept[(last ? period.Last() : period.First()).Copy] ??= $"counts for its {name}, {count} are kept";
            }
        }

        /// <summary>Keeps, in one place, the last base before an instant and every base and log since.</summary>
        private void Continuous(int store, long since, string back)
        {
            var within = Reachable(store);
            var from = long.MinValue;
            for (var set = 0; set < c.Count; set++)
            {
                if (IsBase(set) && within[set] && c.CoversTo[set] <= since)
                {
                    from = Math.Max(from, c.CoversTo[set]);
                }
            }

            for (var set = 0; set < c.Count; set++)
            {
                var copy = whole[(set * stores) + store];
                if (copy >= 0 && c.CoversTo[set] >= from && (IsBase(set) || (c.Kinds[set] == SetKind.Log && c.CoversTo[set] > from)))
                {
                    kept[copy] ??= $"needed to go back {back}";
                }
            }
        }

        /// <summary>A state that stands on nothing and that log can follow.</summary>
        private bool IsBase(int set) => c.Kinds[set] is SetKind.Full or SetKind.Snapshot && lineage.AcceptsLog(set);

        private void KeepWhatIsNeededBy(int node)
        {
            var set = lineage.SetOf(node);
            var log = c.Kinds[set] == SetKind.Log;
            KeepWholeOnesForDamagedOnes(set);
            for (var store = 0; store < stores; store++)
            {
                var copy = whole[(set * stores) + store];
                if (copy < 0 || kept[copy] is null)
                {
                    continue;
                }

                if (!log)
                {
                    if (c.Parents[set] >= 0)
                    {
                        Need(c.Parents[set], store, set);
                    }

                    continue;
                }

                var best = lineage.LatestSource(node, Reachable(store));
                best = best >= 0 ? best : lineage.LatestSource(node, Reachable(null));
                if (best >= 0)
                {
                    Need(lineage.SetOf(best), store, set);
                }
            }
        }

        /// <summary>What is to be kept and is damaged is kept as it is whole elsewhere.</summary>
        private void KeepWholeOnesForDamagedOnes(int set)
        {
            for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
            {
                if (!live[copy] || kept[copy] is null || c.CopyStates[copy] != CopyState.Damaged)
                {
                    continue;
                }

                for (var other = 0; other < stores; other++)
                {
                    if (whole[(set * stores) + other] is >= 0 and var there)
                    {
                        kept[there] ??= $"the copy in {c.Stores[c.CopyStores[copy]]} is damaged";
                    }
                }
            }
        }

        private void Need(int set, int store, int dependent)
        {
            var here = whole[(set * stores) + store];
            if (here >= 0)
            {
                kept[here] ??= $"{c.IdOf(dependent)} needs it";
                return;
            }

            for (var other = 0; other < stores; other++)
            {
                if (whole[(set * stores) + other] is >= 0 and var copy)
                {
                    kept[copy] ??= $"{c.IdOf(dependent)} needs it, which lies in {c.Stores[store]}";
                }
            }
        }

        /// <summary>The nodes that the whole copies of one store, or of all, lead to.</summary>
        private bool[] Reachable(int? store)
        {
            if (reachable[store ?? stores] is { } known)
            {
                return known;
            }

            return reachable[store ?? stores] = lineage.Reached(Has);

            bool Has(int set) => store is { } one ? whole[(set * stores) + one] >= 0 : whole.AsSpan(set * stores, stores).ContainsAnyExcept(-1);
        }

        private static string Plain(Duration duration) => PlainDuration.Of(duration.TotalSeconds);
    }
}
