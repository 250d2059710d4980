using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Recovery;

/// <summary>
/// Which set can follow which: the graph of states of section 2, for one database, whatever the loss and the instant.
/// A node is the state after a base, after a log applied whole, or after a log stopped at a fork. The state after a log applied
/// whole is (its branch, its end position, its end instant) whatever it was applied to, so a set is one node. Every edge leads
/// from an earlier node of <see cref="Order"/> to a later one, because applying log never goes back in (time, position, depth).
/// </summary>
public sealed class Lineage
{
    private readonly int[] sourceEnds;
    private readonly int[] sources;
    private readonly List<ForkStop> forkStops;
    private readonly bool[] acceptsLog;

    private Lineage(DatabaseCatalogue catalogue, int[] sourceEnds, int[] sources, List<ForkStop> forkStops, bool[] acceptsLog, int[]? order, IReadOnlyList<BranchStart> starts, Dictionary<int, long> startOf)
    {
        Catalogue = catalogue;
        this.sourceEnds = sourceEnds;
        this.sources = sources;
        this.forkStops = forkStops;
        this.acceptsLog = acceptsLog;
        Order = order;
        Starts = starts;
        this.startOf = startOf;
    }

    private readonly Dictionary<int, long> startOf;

    /// <summary>The sets the graph is of; node i is set i while i is below its count.</summary>
    public DatabaseCatalogue Catalogue { get; }

    /// <summary>How many nodes there are: sets first, then stops at forks.</summary>
    internal int Count => Catalogue.Count + forkStops.Count;

    /// <summary>Nodes in an order in which every source comes before what it leads to; null for the plain order 0, 1, 2….</summary>
    internal int[]? Order { get; }

    /// <summary>For each branch that left a parent, the nodes whose state is also its state at its start.</summary>
    internal IReadOnlyList<BranchStart> Starts { get; }

    /// <summary>The states a log (or a log stopped at a fork) can be applied to; for a base, none.</summary>
    internal ReadOnlySpan<int> SourcesOf(int node)
    {
        if (node >= Catalogue.Count)
        {
            return System.Runtime.InteropServices.CollectionsMarshal.AsSpan(forkStops[node - Catalogue.Count].Sources);
        }

        var start = node == 0 ? 0 : sourceEnds[node - 1];
        return sources.AsSpan(start, sourceEnds[node] - start);
    }

    /// <summary>The set that makes a node: itself, or the log that is stopped at a fork.</summary>
    internal int SetOf(int node) => node < Catalogue.Count ? node : forkStops[node - Catalogue.Count].Log;

    /// <summary>The instant of the state at a node.</summary>
    internal long TimeOf(int node) => node < Catalogue.Count ? Catalogue.CoversTo[node] : forkStops[node - Catalogue.Count].Time;

    /// <summary>Whether a node is a log stopped at a fork.</summary>
    internal bool IsForkStop(int node) => node >= Catalogue.Count;

    /// <summary>The instant of the fork at which a node stops its log.</summary>
    internal long ForkAt(int node) => forkStops[node - Catalogue.Count].ForkAt;

    /// <summary>Whether log can be applied to the state at a node.</summary>
    internal bool AcceptsLog(int node) => node >= Catalogue.Count || acceptsLog[node];

    /// <summary>The first instant that a set's branch answers for (the beginning of time for branch 1).</summary>
    internal long StartOfBranch(int set) =>
        startOf.Count == 0 ? long.MinValue : startOf.GetValueOrDefault(Catalogue.Branches[set], long.MinValue);

    /// <summary>Which nodes some chain of usable sets leads to (section 2): a base with all it builds on, a log that some reached state accepts.</summary>
    /// <param name="usable">Whether a set itself can be read; asked once for each.</param>
    internal bool[] Reached(Func<int, bool> usable)
    {
        var readable = Catalogue.FromParents<bool>((set, parent) => usable(set) && (Catalogue.Parents[set] == DatabaseCatalogue.NoParent || parent));
        var reached = new bool[Count];
        for (var k = 0; k < Count; k++)
        {
            var node = Order is null ? k : Order[k];
            var set = SetOf(node);
            reached[node] = readable[set] && (Catalogue.Kinds[set] != SetKind.Log || AnyOf(SourcesOf(node), reached));
        }

        return reached;

        static bool AnyOf(ReadOnlySpan<int> nodes, bool[] flags)
        {
            foreach (var node in nodes)
            {
                if (flags[node])
                {
                    return true;
                }
            }

            return false;
        }
    }

    /// <summary>The latest state a log can be applied to; of equally late ones a base, which is nearer to a restore.</summary>
    /// <param name="node">The log.</param>
    /// <param name="within">The states that count.</param>
    /// <returns>The node; -1 when there is none.</returns>
    internal int LatestSource(int node, bool[] within)
    {
        var best = -1;
        foreach (var source in SourcesOf(node))
        {
            if (within[source] && (best < 0 || TimeOf(source) > TimeOf(best) || (TimeOf(source) == TimeOf(best) && Catalogue.Kinds[SetOf(source)] != SetKind.Log)))
            {
                best = source;
            }
        }

        return best;
    }

    /// <summary>The same graph of the same sets, with another lag of the replicas.</summary>
    public Lineage WithLag(IReadOnlyList<Replication.LagHistory> lag) => new(Catalogue.WithLag(lag), sourceEnds, sources, forkStops, acceptsLog, Order, Starts, startOf);

    /// <summary>Builds the graph.</summary>
    /// <param name="database">The database, for its branches.</param>
    /// <param name="catalogue">Its sets.</param>
    public static Lineage Of(Database database, DatabaseCatalogue catalogue) => new Builder(database, catalogue).Build();

    /// <summary>A log stopped at a fork: state (parent, fork position, <paramref name="Time"/>).</summary>
    internal sealed record ForkStop(int Log, int Child, long Time, long ForkAt, List<int> Sources);

    /// <summary>A branch whose start becomes recoverable when one of <paramref name="Nodes"/> is reached.</summary>
    internal sealed record BranchStart(long StartsAt, List<int> Nodes);

    private sealed class Builder(Database database, DatabaseCatalogue c)
    {
        private readonly Dictionary<int, Branch> branches = database.Branches.ToDictionary(b => b.Id);
        private readonly Dictionary<int, PositionIndex> index = [];
        private readonly Dictionary<int, List<int>> forkStates = [];
        private readonly List<ForkStop> stops = [];
        private readonly Dictionary<(int Log, int Child, long Time), int> stopNodes = [];
        private readonly PriorityQueue<int, (long, long, int, int)> queue = new();

        public Lineage Build()
        {
            var n = c.Count;

            // "An incremental or differential accepts log only if its base does."
            var accepts = c.FromParents<bool>((set, parent) => c.AcceptsLogByItself(set) && (c.Parents[set] < 0 || parent));
            for (var i = 0; i < n; i++)
            {
                accepts[i] |= c.Kinds[i] == SetKind.Log;
            }

            foreach (var group in Enumerable.Range(0, n).Where(i => accepts[i]).GroupBy(i => c.Branches[i]))
            {
                index[group.Key] = new PositionIndex(c, [.. group]);
            }

            var ends = new int[n];
            var edges = new List<int>(n);
            List<int>? order = null;
            if (database.Branches.Count == 0)
            {
                for (var i = 0; i < n; i++)
                {
                    AddSources(i, edges);
                    ends[i] = edges.Count;
                }
            }
            else
            {
                order = BuildWithForks(n, accepts, edges, ends);
            }

            return new Lineage(
                c,
                ends,
                [.. edges],
                stops,
                accepts,
                order?.ToArray(),
                [.. database.Branches.Select(b => StartNodes(b, accepts))],
                database.Branches.ToDictionary(b => b.Id, b => b.StartsAt.ToUnixTimeMilliseconds()));
        }

        /// <summary>Walks the nodes in order of (time, position, depth), making the stops at forks as their sources are met.</summary>
        private List<int> BuildWithForks(int n, bool[] accepts, List<int> edges, int[] ends)
        {
            var order = new List<int>(n);
            var perSet = new List<int>[n];
            var attempts = (
                from child in database.Branches
                let at = child.ForkAt.ToUnixTimeMilliseconds()
                from log in Enumerable.Range(0, n)
                where c.Kinds[log] == SetKind.Log && c.Branches[log] == child.Parent
                    && c.FromPositions[log] <= child.ForkPosition && child.ForkPosition < c.ToPositions[log] && at <= c.CoversTo[log]
                select (log, child, at)).ToArray();
            for (var i = 0; i < n; i++)
            {
                queue.Enqueue(i, (c.CoversTo[i], c.ToPositions[i], Depth(c.Branches[i]), i));
            }

            while (queue.TryDequeue(out var node, out _))
            {
                order.Add(node);
                int branch;
                long position, time;
                if (node < n)
                {
                    (branch, position, time) = (c.Branches[node], c.ToPositions[node], c.CoversTo[node]);
                    perSet[node] = [];
                    AddSources(node, perSet[node]);
                    if (!accepts[node])
                    {
                        continue;
                    }
                }
                else
                {
                    var stop = stops[node - n];
                    var child = branches[stop.Child];
                    (branch, position, time) = (child.Parent, child.ForkPosition, stop.Time);
                    (forkStates.TryGetValue(branch, out var list) ? list : forkStates[branch] = []).Add(node);
                }

                foreach (var (log, child, at) in attempts)
                {
                    var already = branch == child.Parent && position == child.ForkPosition;
                    if (already || position > child.ForkPosition || !Applies(log, branch, position, time))
                    {
                        continue;
                    }

                    var key = (log, child.Id, Math.Max(time, at));
                    if (!stopNodes.TryGetValue(key, out var made))
                    {
                        made = n + stops.Count;
                        stops.Add(new ForkStop(log, child.Id, key.Item3, at, []));
                        stopNodes[key] = made;
                        queue.Enqueue(made, (key.Item3, child.ForkPosition, Depth(child.Parent), made));
                    }

                    stops[made - n].Sources.Add(node);
                }
            }

            for (var i = 0; i < n; i++)
            {
                edges.AddRange(perSet[i]);
                ends[i] = edges.Count;
            }

            return order;
        }

        private BranchStart StartNodes(Branch child, bool[] accepts)
        {
            var nodes = Enumerable.Range(0, c.Count)
                .Where(i => accepts[i] && c.Branches[i] == child.Parent && c.ToPositions[i] == child.ForkPosition).ToList();
            for (var i = 0; i < stops.Count; i++)
            {
                var other = branches[stops[i].Child];
                if (other.Parent == child.Parent && other.ForkPosition == child.ForkPosition)
                {
                    nodes.Add(c.Count + i);
                }
            }

            return new BranchStart(child.StartsAt.ToUnixTimeMilliseconds(), nodes);
        }

        private int Depth(int branch)
        {
            var depth = 0;
            while (branches.TryGetValue(branch, out var b))
            {
                depth++;
                branch = b.Parent;
            }

            return depth;
        }

        /// <summary>Section 2: whether a log applies to a state.</summary>
        private bool Applies(int log, int branch, long position, long time) =>
            c.FromPositions[log] <= position && position <= c.ToPositions[log] && c.CoversTo[log] > time
            && LimitOn(c.Branches[log], branch) is { } limit && position <= limit;

        /// <summary>The last position of <paramref name="ancestor"/> that <paramref name="branch"/> shares; null when it is no ancestor.</summary>
        private long? LimitOn(int branch, int ancestor)
        {
            var limit = long.MaxValue;
            for (var at = branch; ; at = branches[at].Parent)
            {
                if (at == ancestor)
                {
                    return limit;
                }

                if (!branches.TryGetValue(at, out var b))
                {
                    return null;
                }

                limit = Math.Min(limit, b.ForkPosition);
            }
        }

        private void AddSources(int log, List<int> into)
        {
            if (c.Kinds[log] != SetKind.Log)
            {
                return;
            }

            var limit = c.ToPositions[log];
            for (var branch = c.Branches[log]; ;)
            {
                if (index.TryGetValue(branch, out var states))
                {
                    states.Collect(log, limit, branch == c.Branches[log], into);
                }

                if (forkStates.TryGetValue(branch, out var list))
                {
                    foreach (var node in list)
                    {
                        var stop = stops[node - c.Count];
                        var position = branches[stop.Child].ForkPosition;
                        if (c.FromPositions[log] <= position && position <= limit && c.CoversTo[log] > stop.Time)
                        {
                            into.Add(node);
                        }
                    }
                }

                if (!branches.TryGetValue(branch, out var b))
                {
                    return;
                }

                limit = Math.Min(limit, b.ForkPosition);
                branch = b.Parent;
            }
        }
    }

    /// <summary>The states of one branch by position, to find those a log applies to.</summary>
    private sealed class PositionIndex
    {
        private readonly DatabaseCatalogue c;
        private readonly int[] byPosition;

        /// <summary>
        /// For each place, how far the run of idle logs (which end where they start) at the same position goes. Of such a run
        /// only those that overlap the consumer in time can matter: any other is passed over, since what it applies to the
        /// consumer applies to as well, and loses and costs no more.
        /// </summary>
        private readonly int[]? idleRunEnd;

        public PositionIndex(DatabaseCatalogue c, int[] states)
        {
            this.c = c;
            byPosition = states;
            Array.Sort(states.Select(i => (c.ToPositions[i], c.IsIdle(i), c.CoversTo[i], i)).ToArray(), byPosition);
            if (Array.Exists(byPosition, c.IsIdle))
            {
                idleRunEnd = new int[byPosition.Length];
                for (var at = byPosition.Length - 1; at >= 0; at--)
                {
                    var joins = at + 1 < byPosition.Length && c.IsIdle(byPosition[at]) && c.IsIdle(byPosition[at + 1])
                        && c.ToPositions[byPosition[at]] == c.ToPositions[byPosition[at + 1]];
                    idleRunEnd[at] = joins ? idleRunEnd[at + 1] : at + 1;
                }
            }
        }

        public void Collect(int log, long limit, bool sameBranch, List<int> into)
        {
            var from = c.FromPositions[log];
            var before = c.CoversTo[log];
            int lo = 0, hi = byPosition.Length;
            while (lo < hi)
            {
                var mid = (lo + hi) >>> 1;
                if (c.ToPositions[byPosition[mid]] < from)
                {
                    lo = mid + 1;
                }
                else
                {
                    hi = mid;
                }
            }

            for (var at = lo; at < byPosition.Length && c.ToPositions[byPosition[at]] <= limit; at++)
            {
                var state = byPosition[at];
                if (sameBranch && idleRunEnd is not null && c.IsIdle(state))
                {
                    at = SkipIdle(at, c.CoversFrom[log]);
                    if (at == byPosition.Length || c.ToPositions[byPosition[at]] > limit)
                    {
                        return;
                    }

                    state = byPosition[at];
                    if (c.IsIdle(state) && c.CoversTo[state] <= c.CoversFrom[log])
                    {
                        continue;
                    }
                }

                if (c.CoversTo[state] < before)
                {
                    into.Add(state);
                }
                else if (idleRunEnd is not null && c.IsIdle(state))
                {
                    at = idleRunEnd[at] - 1;
                }
            }
        }

        /// <summary>The first place of an idle run whose time is after <paramref name="coversFrom"/>, or the place after the run's last when there is none.</summary>
        private int SkipIdle(int at, long coversFrom)
        {
            int lo = at, hi = idleRunEnd![at];
            while (lo < hi)
            {
                var mid = (lo + hi) >>> 1;
                if (c.CoversTo[byPosition[mid]] <= coversFrom)
                {
                    lo = mid + 1;
                }
                else
                {
                    hi = mid;
                }
            }

            return lo;
        }
    }
}
