using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>
/// A whole site is lost at one instant (section 11): every database on it comes back by its best way, by sets or by a replica, and they share hosts, stores, links and people. Bytes share fairly; a host
/// restores as many at once as it has slots, two where it states none; so many people check at once. Where there is not enough for all, those of the order go first; what is restored waits for the instance data that it needs, where that comes back (ways, section 9).
/// </summary>
/// <param name="Loss">The site.</param>
/// <param name="At">When it is lost.</param>
/// <param name="Order">Which go first.</param>
/// <param name="Returns">The databases, in that order.</param>
public sealed record SiteLoss(Loss Loss, Instant At, SiteLoss.GoesFirst Order, IReadOnlyList<SiteLoss.Return> Returns)
{
    /// <summary>How many restores run at once on a host that states no slots.</summary>
    public const int UnstatedSlots = 2;

    /// <summary>Which databases go first where there is not enough for all.</summary>
    public enum GoesFirst
    {
        /// <summary>The smaller RTO; without an objective last.</summary>
        SmallerRto,

        /// <summary>The less time there is to spare: RTO less what it takes alone.</summary>
        LessToSpare,

        /// <summary>The sooner it is back alone.</summary>
        Sooner,
    }

    /// <summary>How one database comes back.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Way">By which way; null when there is none.</param>
    /// <param name="WhyNot">Why there is none; null when there is.</param>
    /// <param name="StartsSeconds">When its way begins, seconds after the loss.</param>
    /// <param name="ReadySeconds">When it is open to those who check it.</param>
    /// <param name="ServiceSeconds">When clients work again.</param>
    /// <param name="AloneSeconds">When they would if nothing else had to come back.</param>
    /// <param name="RtoSeconds">What was agreed; null without an objective.</param>
    public sealed record Return(Id<Database> Database, WayBack? Way, string? WhyNot, double? StartsSeconds, double? ReadySeconds, double? ServiceSeconds, double? AloneSeconds, double? RtoSeconds)
    {
        /// <summary>Whether it is back in time; null where nothing was agreed.</summary>
        public bool? WithinRto => RtoSeconds is { } rto ? ServiceSeconds <= rto : null;

        /// <summary>Whether it would be back in time if the others did not have to come back too.</summary>
        public bool LateForTheOthers => WithinRto == false && AloneSeconds <= RtoSeconds;
    }

    /// <summary>What another order would change.</summary>
    /// <param name="Order">The order.</param>
    /// <param name="InTime">Who would be in time then and is not now.</param>
    /// <param name="Late">Who would be late then and is not now.</param>
    public sealed record Change(GoesFirst Order, IReadOnlyList<Id<Database>> InTime, IReadOnlyList<Id<Database>> Late);

    /// <summary>When all that can come back are back, seconds after the loss.</summary>
    public double Seconds => Returns.Max(r => r.ServiceSeconds) ?? 0;

    /// <summary>Plans it.</summary>
    /// <param name="subjects">The databases on the site; others are left out.</param>
    /// <param name="fleet">The fleet.</param>
    /// <param name="site">The site.</param>
    /// <param name="at">When it is lost.</param>
    /// <param name="people">How many check at once; null for as many as it takes.</param>
    /// <param name="order">Which go first.</param>
    public static SiteLoss Of(IEnumerable<RecoverySubject> subjects, FleetModel fleet, Id<Site> site, Instant at, int? people = null, GoesFirst order = GoesFirst.SmallerRto)
    {
        var loss = Loss.Of(site);
        var lost = LostWith(subjects, fleet, site, at);
        return Plan(fleet, lost, loss, at, people, order);
    }

    /// <summary>Plans it, and what the other orders would change.</summary>
    /// <inheritdoc cref="Of"/>
    public static (SiteLoss Plan, IReadOnlyList<Change> Changes) Compared(IEnumerable<RecoverySubject> subjects, FleetModel fleet, Id<Site> site, Instant at, int? people = null, GoesFirst order = GoesFirst.SmallerRto)
    {
        var loss = Loss.Of(site);
        var lost = LostWith(subjects, fleet, site, at);
        var plan = Plan(fleet, lost, loss, at, people, order);
        var late = LateIn(plan);
        return (plan, [.. Enum.GetValues<GoesFirst>().Where(o => o != order).Select(o =>
        {
            var then = LateIn(Plan(fleet, lost, loss, at, people, o));
            return new Change(o, [.. plan.Returns.Select(r => r.Database).Where(d => late.Contains(d) && !then.Contains(d))], [.. plan.Returns.Select(r => r.Database).Where(d => then.Contains(d) && !late.Contains(d))]);
        })]);

        static HashSet<Id<Database>> LateIn(SiteLoss plan) => [.. plan.Returns.Where(r => r.WithinRto == false).Select(r => r.Database)];
    }

    private static Lost[] LostWith(IEnumerable<RecoverySubject> subjects, FleetModel fleet, Id<Site> site, Instant at) =>
        [.. subjects.Where(s => fleet.Hosts[s.Database.Host].Site == site).AsParallel().AsOrdered().Select(s => Lost.Of(s, at, Loss.Of(site)))];

    private static SiteLoss Plan(FleetModel fleet, Lost[] lost, Loss loss, Instant at, int? people, GoesFirst order)
    {
        if (people <= 0)
        {
            throw new ArgumentOutOfRangeException(nameof(people), "somebody must check what comes back");
        }

        // Instance data goes when the first goes that needs it, and before that.
        var key = lost.Where(l => l.Way is not null).ToDictionary(l => l.Subject.Database.Id, Key);
        if (fleet.KnowsInstanceData)
        {
            // The machine last: what needs it may have been moved up by what needs that.
            foreach (var d in lost.Where(l => l.Way is not null && l.Subject.Database.IsInstanceData).Select(l => l.Subject.Database).OrderByDescending(d => d.Turn))
            {
                key[d.Id] = fleet.Needing(d).Where(n => key.ContainsKey(n.Id)).Select(n => key[n.Id]).Append(key[d.Id]).Min();
            }
        }

        Lost[] ordered = [.. lost.Where(l => l.Way is not null).OrderBy(l => key[l.Subject.Database.Id]).ThenBy(l => l.Subject.Database.Turn), .. lost.Where(l => l.Way is null)];
        var returning = new Returning(fleet, ordered, people);
        returning.Run();
        return new SiteLoss(loss, at, order, [.. ordered.Select(returning.Of)]);

        double Key(Lost l) => order switch
        {
            GoesFirst.SmallerRto => l.Rto ?? double.PositiveInfinity,
            GoesFirst.LessToSpare => (l.Rto ?? double.PositiveInfinity) - l.Way!.ServiceSeconds,
            _ => l.Way!.ServiceSeconds,
        };
    }

    /// <summary>A database that is lost, and its best way back.</summary>
    private sealed record Lost(RecoverySubject Subject, WayBack? Way, string? WhyNot)
    {
        public double? Rto => Subject.Objective?.RtoSeconds;

        public static Lost Of(RecoverySubject subject, Instant at, Loss loss)
        {
            var answer = WayFinder.Find(subject, new PathQuestion { Target = at, At = at, Loss = loss });
            return new Lost(subject, answer.Best, answer.Reason);
        }
    }

    /// <summary>The return of all, one event after another. Times are milliseconds after the loss.</summary>
    private sealed class Returning
    {
        private readonly FleetModel fleet;
        private readonly Lost[] lost;
        private readonly FairShare network = new();
        private readonly PriorityQueue<Action, (double At, int Order)> events = new();
        private readonly Dictionary<Id<Host>, int> busy = [];
        private readonly Dictionary<Id<Host>, PriorityQueue<int, int>> waiting = [];
        private readonly PriorityQueue<int, int> toCheck = new();
        private readonly double[] started;
        private readonly double[] ready;
        private readonly double[] back;

        /// <summary>How many that each needs are not back yet, who waits for each, and who waits for nothing else.</summary>
        private readonly int[] missing;
        private readonly List<int>?[] neededBy;
        private readonly bool[] decided;
        private int peopleFree;
        private double now;

        public Returning(FleetModel fleet, Lost[] lost, int? people)
        {
            (this.fleet, this.lost, peopleFree) = (fleet, lost, people ?? int.MaxValue);
            (started, ready, back) = (new double[lost.Length], new double[lost.Length], new double[lost.Length]);
            Routes.SetCapacities(network, fleet);
            (missing, neededBy, decided) = (new int[lost.Length], new List<int>?[lost.Length], new bool[lost.Length]);
            if (fleet.KnowsInstanceData)
            {
                var places = lost.Select((l, i) => (l.Subject.Database.Id, i)).ToDictionary(p => p.Id, p => p.i);
                for (var i = 0; i < lost.Length; i++)
                {
                    foreach (var needed in fleet.Before(lost[i].Subject.Database))
                    {
                        if (places.TryGetValue(needed.Id, out var place) && lost[place].Way is not null)
                        {
                            missing[i]++;
                            (neededBy[place] ??= []).Add(i);
                        }
                    }
                }
            }
        }

        public Return Of(Lost l, int place) => l.Way is null
            ? new Return(l.Subject.Database.Id, null, l.WhyNot, null, null, null, null, l.Rto)
            : new Return(l.Subject.Database.Id, l.Way, null, started[place] / 1000, ready[place] / 1000, back[place] / 1000, l.Way.ServiceSeconds, l.Rto);

        public void Run()
        {
            for (var i = 0; i < lost.Length && lost[i].Way is not null; i++)
            {
                Begin(i);
            }

            while (true)
            {
                var next = network.NextDone();
                if (events.TryPeek(out _, out var first) && first.At <= next)
                {
                    network.Advance(now = first.At);
                    events.Dequeue()();
                }
                else if (double.IsFinite(next))
                {
                    network.Advance(now = next);
                }
                else
                {
                    return;
                }
            }
        }

        private void After(double seconds, int place, Action what) => events.Enqueue(what, (now + (seconds * 1000), place));

        private void Begin(int i)
        {
            var d = lost[i].Subject.Database;
            switch (lost[i].Way)
            {
                case TakeOver { ByItself: true } unasked:
                    // Nobody decides, nobody checks: all that is not the way itself is noticing before and sending clients over after.
                    After(unasked.ServiceSeconds - unasked.Seconds - d.RedirectSeconds, i, () =>
                    {
                        started[i] = now;
                        After(unasked.Seconds, i, () =>
                        {
                            ready[i] = now;
                            After(d.RedirectSeconds, i, () => Back(i));
                        });
                    });
                    break;
                case TakeOver takeOver:
                    After(d.DetectSeconds + d.DecideSeconds, i, () =>
                    {
                        started[i] = now;
                        After(takeOver.Seconds, i, () => Check(i));
                    });
                    break;
                case RestorePath:
                    After(d.DetectSeconds + d.DecideSeconds, i, () =>
                    {
                        decided[i] = true;
                        if (missing[i] == 0)
                        {
                            InLine(i);
                        }
                    });
                    break;
            }
        }

        /// <summary>As many restores as there is room for begin on a host.</summary>
        private void Next(Id<Host> host)
        {
            var slots = fleet.Hosts[host].Slots ?? UnstatedSlots;
            while (busy.GetValueOrDefault(host) < slots && waiting[host].TryDequeue(out var i, out _))
            {
                busy[host] = busy.GetValueOrDefault(host) + 1;
                started[i] = now;
                var (place, path) = (i, (RestorePath)lost[i].Way!);
                After(path.ProvisionSeconds, i, () => Restore(place, path, 0));
            }
        }

        /// <summary>Restores what comes from one store in a row. It takes as long as by the path when it is alone: reading and writing each as fast as that, and slower where either has to share.</summary>
        private void Restore(int i, RestorePath path, int from)
        {
            if (from == path.Steps.Count)
            {
                After(path.OpenSeconds, i, () =>
                {
                    busy[path.Host]--;
                    After(0, int.MaxValue, () => Next(path.Host));
                    Check(i);
                });
                return;
            }

            var (to, seconds, stored, written) = (from, 0.0, 0.0, 0.0);
            var catalogue = lost[i].Subject.Catalogue;
            for (; to < path.Steps.Count && path.Steps[to].Store == path.Steps[from].Store; to++)
            {
                var step = path.Steps[to];
                seconds += step.Seconds;
                stored += step.StoredBytes;

                // Log is replayed, at the engine's pace and not the disk's.
                written += step.Kind == SetKind.Log ? 0 : catalogue.DataBytes[catalogue.IndexOf(step.Set)];
            }

            var store = fleet.Stores[path.Steps[from].Store];
            var host = fleet.Hosts[path.Host];
            var sides = 0;
            Flow(stored, host.Site == store.Site ? [network[Routes.Of(store.Id)]] : [network[Routes.Of(store.Id)], network[Routes.Of(store.Site, host.Site)]]);
            Flow(written, [network[Routes.Of(host.Id)]]);
            if (sides == 0)
            {
                After(seconds, i, () => Restore(i, path, to));
            }

            void Flow(double bytes, int[] uses)
            {
                if (bytes <= 0 || seconds <= 0)
                {
                    return;
                }

                sides++;
                network.Start(uses, bytes, bytes / seconds, () =>
                {
                    if (--sides == 0)
                    {
                        Restore(i, path, to);
                    }
                });
            }
        }

        private void Check(int i)
        {
            ready[i] = now;
            toCheck.Enqueue(i, i);
            After(0, int.MaxValue, CheckNext);
        }

        private void CheckNext()
        {
            while (peopleFree > 0 && toCheck.TryDequeue(out var next, out _))
            {
                var (i, d) = (next, lost[next].Subject.Database);
                peopleFree--;
                After(d.CheckSeconds, i, () =>
                {
                    peopleFree++;
                    After(0, int.MaxValue, CheckNext);
                    After(d.RedirectSeconds, i, () => Back(i));
                });
            }
        }

        /// <summary>It works again, and those that needed nothing but it are restored.</summary>
        private void Back(int i)
        {
            back[i] = now;
            foreach (var other in neededBy[i] ?? [])
            {
                if (--missing[other] == 0 && decided[other])
                {
                    InLine(other);
                }
            }
        }

        /// <summary>A restore waits for its turn on its host.</summary>
        private void InLine(int i)
        {
            var host = lost[i].Way!.Host;
            if (!waiting.TryGetValue(host, out var queue))
            {
                waiting[host] = queue = new();
            }

            queue.Enqueue(i, i);

            // What is decided at the same instant is ordered before the first begins.
            After(0, int.MaxValue, () => Next(host));
        }
    }
}
