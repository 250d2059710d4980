namespace Imbrek.Core.Drills;

/// <summary>
/// Spreads what must be proved over days (section 11, which next). Each proof is held on one host, on or before its due day; a day, a site on it and a host on it take so many at most. As many are kept
/// as any calendar could keep, and of the calendars that keep so many this is one in which the sum of the days is least.
/// </summary>
/// <remarks>
/// It is a flow: proof → host and day → site and day → day. Which sets of places on days can be filled at all is a matroid (what can be linked to the proofs), so that filling the days one after another, each
/// as far as it goes, gives the least sum; filling a day may move what was placed before to another of its days, never to a day that is not yet looked at.
/// </remarks>
public sealed class ProofCalendar
{
    private readonly Problem problem;
    private readonly int[] dayOf;

    private ProofCalendar(Problem problem, int[] dayOf, IReadOnlyList<Bound> bounds) => (this.problem, this.dayOf, Bounds) = (problem, dayOf, bounds);

    /// <summary>What is to be spread.</summary>
    /// <param name="Days">How many days there are.</param>
    /// <param name="Proofs">The proofs, those that matter most first: of equals that are due on one day on one host the first are kept.</param>
    /// <param name="SiteOfHost">The site of each host.</param>
    /// <param name="InAll">How many a day takes; null for no bound.</param>
    /// <param name="InSite">How many a site takes on a day; null for no bound.</param>
    /// <param name="OnHost">How many a host takes on a day; null for no bound. On a day of a blackout 0.</param>
    public sealed record Problem(int Days, IReadOnlyList<Proof> Proofs, IReadOnlyList<int> SiteOfHost, Func<int, int?> InAll, Func<int, int, int?> InSite, Func<int, int, int?> OnHost);

    /// <summary>A proof to be held.</summary>
    /// <param name="Host">On which host.</param>
    /// <param name="DueDay">The last day it may be held on, from 0; one beyond the days there are is due on the last.</param>
    public readonly record struct Proof(int Host, int DueDay);

    /// <summary>What keeps proofs from being held in time.</summary>
    /// <param name="Host">A host; null when it is not one.</param>
    /// <param name="Site">A site; null when it is not one. Neither: the tests of a day in all.</param>
    /// <param name="Days">On how many days it is full, or takes none, and would be needed.</param>
    /// <param name="Most">The most it takes on one of those days.</param>
    public readonly record struct Bound(int? Host, int? Site, int Days, int Most);

    /// <summary>The day of a proof; null when no calendar keeps it together with the others that are kept.</summary>
    public int? DayOf(int proof) => dayOf[proof] < 0 ? null : dayOf[proof];

    /// <summary>How many are kept.</summary>
    public int Kept => dayOf.Count(d => d >= 0);

    /// <summary>What keeps the others from being kept, the widest first; empty when all are.</summary>
    public IReadOnlyList<Bound> Bounds { get; }

    /// <summary>The least a bound would have to take (as much more on every day on which it takes any) for everything to be kept, all others as they are; null when more of it alone does not do it.</summary>
    /// <param name="bound">One of <see cref="Bounds"/>.</param>
    public int? WouldNeed(Bound bound)
    {
        var late = problem.Proofs.Count - Kept;
        bool Enough(int more)
        {
            int? Raised(int? taken, bool its) => its && taken is > 0 and { } n ? n + more : taken;
            var raised = problem with
            {
                InAll = d => Raised(problem.InAll(d), bound is { Host: null, Site: null }),
                InSite = (s, d) => Raised(problem.InSite(s, d), bound.Site == s),
                OnHost = (h, d) => Raised(problem.OnHost(h, d), bound.Host == h),
            };
            return new Flow(raised).Solve() == problem.Proofs.Count;
        }

        if (!Enough(late))
        {
            return null;
        }

        // As many more on each day as are late at least; from there in growing strides, for it is seldom much more.
        var few = ((late + problem.Days - 1) / problem.Days) - 1;
        var enough = late;
        for (var stride = 1; few + stride < enough; stride *= 2)
        {
            if (Enough(few + stride))
            {
                enough = few + stride;
                break;
            }

            few += stride;
        }

        while (enough - few > 1)
        {
            var middle = few + ((enough - few) / 2);
            (few, enough) = Enough(middle) ? (few, middle) : (middle, enough);
        }

        return bound.Most + enough;
    }

    /// <summary>Spreads them.</summary>
    /// <param name="problem">What is to be spread.</param>
    public static ProofCalendar Of(Problem problem)
    {
        var flow = new Flow(problem);
        flow.Solve();
        return new ProofCalendar(problem, flow.DaysOfProofs(), flow.Bounds());
    }

    /// <summary>The flow. Of each host its proofs run down a chain of days, from the day they are due to the day they are held.</summary>
    private sealed class Flow
    {
        private const int NoBound = int.MaxValue;

        private readonly Problem problem;
        private readonly int days;
        private readonly int hosts;
        private readonly int sites;
        private readonly int[] onHost;
        private readonly int[] inSite;
        private readonly int[] inAll;

        /// <summary>What is placed: on a host and day, in a site and day, on a day.</summary>
        private readonly int[] heldOnHost;
        private readonly int[] heldInSite;
        private readonly int[] heldInAll;

        /// <summary>What of a host runs from a day to the day before.</summary>
        private readonly int[] chain;

        /// <summary>What of a host is due on a day and not placed.</summary>
        private readonly int[] open;
        private readonly int[] openOfHost;
        private readonly int[][] hostsOfSite;
        private int left;

        /// <summary>Of a search: where each node was come to from, and in which search that was.</summary>
        private readonly int[] cameFrom;
        private readonly int[] seenIn;
        private readonly int[] queue;
        private int search;

        public Flow(Problem problem)
        {
            this.problem = problem;
            (days, hosts) = (problem.Days, problem.SiteOfHost.Count);
            sites = hosts == 0 ? 0 : problem.SiteOfHost.Max() + 1;
            onHost = new int[hosts * days];
            inSite = new int[sites * days];
            inAll = new int[days];
            for (var d = 0; d < days; d++)
            {
                inAll[d] = problem.InAll(d) ?? NoBound;
                for (var s = 0; s < sites; s++)
                {
                    inSite[(s * days) + d] = problem.InSite(s, d) ?? NoBound;
                }

                for (var h = 0; h < hosts; h++)
                {
                    onHost[(h * days) + d] = problem.OnHost(h, d) ?? NoBound;
                }
            }

            (heldOnHost, heldInSite, heldInAll) = (new int[onHost.Length], new int[inSite.Length], new int[days]);
            (chain, open, openOfHost) = (new int[onHost.Length], new int[onHost.Length], new int[hosts]);
            hostsOfSite = [.. Enumerable.Range(0, sites).Select(s => Enumerable.Range(0, hosts).Where(h => problem.SiteOfHost[h] == s).ToArray())];
            foreach (var p in problem.Proofs)
            {
                open[(p.Host * days) + DayOf(p)]++;
                openOfHost[p.Host]++;
                left++;
            }

            var nodes = onHost.Length + inSite.Length + days;
            (cameFrom, seenIn, queue) = (new int[nodes], new int[nodes], new int[nodes]);
        }

        private int DayOf(Proof p) => Math.Min(p.DueDay, days - 1);

        private int SiteDay(int site, int day) => onHost.Length + (site * days) + day;

        private int Day(int day) => onHost.Length + inSite.Length + day;

        /// <summary>Fills the days one after another; answers how many are placed.</summary>
        public int Solve()
        {
            var due = new PriorityQueue<int, (int Due, int Host)>();
            for (var d = 0; d < days && left > 0; d++)
            {
                Fill(d, due);
                while (left > 0 && heldInAll[d] < inAll[d] && Reach(d) is >= 0 and var end)
                {
                    Augment(end);
                }
            }

            return problem.Proofs.Count - left;
        }

        /// <summary>Places on a day what fits as it is, the earliest due first.</summary>
        private void Fill(int d, PriorityQueue<int, (int Due, int Host)> due)
        {
            due.Clear();
            for (var h = 0; h < hosts; h++)
            {
                Offer(h, d);
            }

            while (heldInAll[d] < inAll[d] && due.TryDequeue(out var host, out var first))
            {
                var (at, site) = ((host * days) + d, (problem.SiteOfHost[host] * days) + d);
                if (heldOnHost[at] >= onHost[at] || heldInSite[site] >= inSite[site])
                {
                    continue;
                }

                open[(host * days) + first.Due]--;
                openOfHost[host]--;
                left--;
                for (var k = d + 1; k <= first.Due; k++)
                {
                    chain[(host * days) + k]++;
                }

                heldOnHost[at]++;
                heldInSite[site]++;
                heldInAll[d]++;
                Offer(host, first.Due);
            }

            void Offer(int host, int from)
            {
                for (var k = from; openOfHost[host] > 0 && k < days; k++)
                {
                    if (open[(host * days) + k] > 0)
                    {
                        due.Enqueue(host, (k, host));
                        return;
                    }
                }
            }
        }

        /// <summary>Looks for a way from something that is not placed to a place that is free on a day, moving what is in the way; -1 when there is none. With a day of -1, to any.</summary>
        private int Reach(int wanted)
        {
            search++;
            var (head, tail) = (0, 0);
            for (var h = 0; h < hosts; h++)
            {
                for (var (k, rest) = (days - 1, openOfHost[h]); rest > 0; k--)
                {
                    if (open[(h * days) + k] > 0)
                    {
                        rest -= open[(h * days) + k];
                        Visit((h * days) + k, -1);
                    }
                }
            }

            while (head < tail)
            {
                var node = queue[head++];
                if (node < onHost.Length)
                {
                    var (h, k) = (node / days, node % days);
                    if (k > 0)
                    {
                        Visit(node - 1, node);
                    }

                    if (k + 1 < days && chain[node + 1] > 0)
                    {
                        Visit(node + 1, node);
                    }

                    if (heldOnHost[node] < onHost[node])
                    {
                        Visit(SiteDay(problem.SiteOfHost[h], k), node);
                    }
                }
                else if (node < onHost.Length + inSite.Length)
                {
                    var (s, k) = ((node - onHost.Length) / days, (node - onHost.Length) % days);
                    if (heldInSite[node - onHost.Length] < inSite[node - onHost.Length])
                    {
                        Visit(Day(k), node);
                    }

                    foreach (var h in hostsOfSite[s])
                    {
                        if (heldOnHost[(h * days) + k] > 0)
                        {
                            Visit((h * days) + k, node);
                        }
                    }
                }
                else
                {
                    var k = node - onHost.Length - inSite.Length;
                    if (k == wanted)
                    {
                        return node;
                    }

                    for (var s = 0; s < sites; s++)
                    {
                        if (heldInSite[(s * days) + k] > 0)
                        {
                            Visit(SiteDay(s, k), node);
                        }
                    }
                }
            }

            return -1;

            void Visit(int node, int from)
            {
                if (seenIn[node] != search)
                {
                    (seenIn[node], cameFrom[node]) = (search, from);
                    queue[tail++] = node;
                }
            }
        }

        /// <summary>Moves one along the way that was found.</summary>
        private void Augment(int end)
        {
            heldInAll[end - onHost.Length - inSite.Length]++;
            var node = end;
            for (var from = cameFrom[node]; from >= 0; (node, from) = (from, cameFrom[from]))
            {
                if (node < onHost.Length && from < onHost.Length)
                {
                    // Down the chain, or back up where something else had come down.
                    _ = node < from ? chain[from]++ : chain[node]--;
                }
                else if (from < onHost.Length)
                {
                    heldOnHost[from]++;
                }
                else if (node < onHost.Length)
                {
                    heldOnHost[node]--;
                }
                else if (from < node)
                {
                    heldInSite[from - onHost.Length]++;
                }
                else
                {
                    heldInSite[node - onHost.Length]--;
                }
            }

            open[node]--;
            openOfHost[node / days]--;
            left--;
        }

        /// <summary>The days of the proofs: of each host the earliest due are held first; what is not kept is the last of those due on its day.</summary>
        public int[] DaysOfProofs()
        {
            var found = new int[problem.Proofs.Count];
            Array.Fill(found, -1);
            foreach (var own in Enumerable.Range(0, found.Length).GroupBy(i => problem.Proofs[i].Host))
            {
                var slots = Enumerable.Range(0, days).SelectMany(d => Enumerable.Repeat(d, heldOnHost[(own.Key * days) + d])).GetEnumerator();
                foreach (var sameDay in own.GroupBy(i => DayOf(problem.Proofs[i])).OrderBy(g => g.Key))
                {
                    foreach (var i in sameDay.SkipLast(open[(own.Key * days) + sameDay.Key]))
                    {
                        slots.MoveNext();
                        found[i] = slots.Current;
                    }
                }
            }

            return found;
        }

        /// <summary>What is full wherever what is not placed could still go.</summary>
        public IReadOnlyList<Bound> Bounds()
        {
            if (left == 0)
            {
                return [];
            }

            Reach(-1);
            var bounds = new List<Bound>();
            Add(null, null, d => Seen(Day(d)), d => inAll[d]);
            for (var s = 0; s < sites; s++)
            {
                var site = s;
                Add(null, s, d => Seen(SiteDay(site, d)) && !Seen(Day(d)), d => inSite[(site * days) + d]);
            }

            for (var h = 0; h < hosts; h++)
            {
                var host = h;
                Add(h, null, d => Seen((host * days) + d) && !Seen(SiteDay(problem.SiteOfHost[host], d)), d => onHost[(host * days) + d]);
            }

            return [.. bounds.OrderByDescending(b => b is { Host: null, Site: null }).ThenByDescending(b => b.Site is not null).ThenByDescending(b => b.Days)];

            bool Seen(int node) => seenIn[node] == search;

            void Add(int? host, int? site, Func<int, bool> full, Func<int, int> takes)
            {
                var (count, most) = (0, 0);
                for (var d = 0; d < days; d++)
                {
                    if (full(d))
                    {
                        (count, most) = (count + 1, Math.Max(most, takes(d)));
                    }
                }

                if (count > 0)
                {
                    bounds.Add(new(host, site, count, most));
                }
            }
        }
    }
}
