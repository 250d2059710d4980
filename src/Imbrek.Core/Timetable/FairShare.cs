namespace Imbrek.Core.Timetable;

/// <summary>
/// Bytes on the move. Each flow uses some resources (a host, a store, a link), each resource shares its bandwidth fairly among the flows
/// on it, and a flow moves at the slowest of its shares, or at its own cap. Time is in milliseconds and only goes forward.
/// </summary>
public sealed class FairShare
{
    private readonly List<Resource> resources = [];
    private readonly Dictionary<string, int> byName = [];
    private readonly List<Flow> flows = [];
    private double settledAt;
    private double now;
    private double next = double.PositiveInfinity;
    private bool stale;

    /// <summary>Told what moved: resource, bytes, from, to (milliseconds); null when nobody asks.</summary>
    public Action<int, double, double, double>? Moved { get; set; }

    /// <summary>Makes a resource, or changes its bandwidth.</summary>
    /// <param name="name">Its name.</param>
    /// <param name="bytesPerSecond">Bandwidth, bytes per second; 0 means that nothing moves.</param>
    /// <returns>Its number.</returns>
    public int SetCapacity(string name, double bytesPerSecond)
    {
        Settle();
        if (byName.TryGetValue(name, out var number))
        {
            resources[number].Capacity = bytesPerSecond;
        }
        else
        {
            byName[name] = number = resources.Count;
            resources.Add(new Resource { Capacity = bytesPerSecond });
        }

        stale = true;
        return number;
    }

    /// <summary>The number of a resource.</summary>
    /// <exception cref="KeyNotFoundException">There is none of that name.</exception>
    public int this[string name] => byName[name];

    /// <summary>How many resources there are.</summary>
    public int Count => resources.Count;

    /// <summary>Bandwidth of a resource, bytes per second.</summary>
    public double CapacityOf(int resource) => resources[resource].Capacity;

    /// <summary>Sets bandwidth aside, or gives it back: what is written little by little goes before what is moved in bulk, and takes what it needs.</summary>
    /// <param name="resource">The resource.</param>
    /// <param name="bytesPerSecond">How much more is set aside from now on, bytes per second; negative gives back.</param>
    public void Reserve(int resource, double bytesPerSecond)
    {
        Settle();
        resources[resource].Reserved = Math.Max(0, resources[resource].Reserved + bytesPerSecond);
        stale = true;
    }

    /// <summary>What of a flow has not moved yet, bytes.</summary>
    public double Left(Flow flow)
    {
        UpdateRates();
        return Math.Max(0, flow.Remaining - (flow.Rate * (now - settledAt) / 1000));
    }

    /// <summary>The rate that one more flow would get now, bytes per second.</summary>
    public double RateFor(ReadOnlySpan<int> uses, double cap)
    {
        foreach (var u in uses)
        {
            cap = Math.Min(cap, resources[u].Free / (resources[u].Users + 1));
        }

        return cap;
    }

    /// <summary>How many flows use a resource.</summary>
    public int UsersOf(int resource) => resources[resource].Users;

    /// <summary>Starts a flow.</summary>
    /// <param name="uses">The resources it uses; one named twice counts once.</param>
    /// <param name="bytes">How much is to be moved.</param>
    /// <param name="cap">Its own fastest rate, bytes per second.</param>
    /// <param name="done">Called when all is moved.</param>
    public Flow Start(IEnumerable<int> uses, double bytes, double cap, Action done)
    {
        Settle();
        var flow = new Flow([.. uses.Distinct()], Math.Max(bytes, 1), cap, done);
        foreach (var r in flow.Uses)
        {
            resources[r].Users++;
        }

        flows.Add(flow);
        stale = true;
        return flow;
    }

    /// <summary>Ends a flow before it is done; its callback is not called.</summary>
    public void Cancel(Flow flow)
    {
        Settle();
        if (flows.Remove(flow))
        {
            Release(flow);
        }
    }

    /// <summary>When the next flow will be done, milliseconds; infinity when none ever will.</summary>
    public double NextDone()
    {
        UpdateRates();
        return next;
    }

    /// <summary>Moves time on; calls back the flows that are done by then, in the order they were started. Must not pass <see cref="NextDone"/>.</summary>
    public void Advance(double to)
    {
        UpdateRates();
        now = to;
        if (to < next - 0.5)
        {
            return;
        }

        Settle();
        List<Flow>? done = null;
        foreach (var f in flows)
        {
            // Less than half a thousandth of a second away is done: time is counted in milliseconds.
            if (f.Rate > 0 && f.Remaining <= f.Rate * 0.0005)
            {
                (done ??= []).Add(f);
            }
        }

        foreach (var f in done ?? [])
        {
            flows.Remove(f);
            Release(f);
        }

        foreach (var f in done ?? [])
        {
            f.Done();
        }
    }

    private void Release(Flow flow)
    {
        foreach (var r in flow.Uses)
        {
            resources[r].Users--;
        }

        stale = true;
    }

    /// <summary>Takes off what has moved since rates last changed.</summary>
    private void Settle()
    {
        if (settledAt == now)
        {
            return;
        }

        UpdateRates();
        var seconds = (now - settledAt) / 1000;
        foreach (var f in flows)
        {
            var moved = f.Rate * seconds;
            f.Remaining -= moved;
            if (Moved is { } tell && moved > 0)
            {
                foreach (var r in f.Uses)
                {
                    tell(r, moved, settledAt, now);
                }
            }
        }

        settledAt = now;
    }

    private void UpdateRates()
    {
        if (!stale)
        {
            return;
        }

        stale = false;
        next = double.PositiveInfinity;
        foreach (var f in flows)
        {
            f.Rate = f.Cap;
            foreach (var r in f.Uses)
            {
                f.Rate = Math.Min(f.Rate, resources[r].Free / resources[r].Users);
            }

            if (f.Rate > 0)
            {
                next = Math.Min(next, settledAt + Math.Max(0, f.Remaining / f.Rate * 1000));
            }
        }
    }

    private sealed class Resource
    {
        public double Capacity { get; set; }

        public double Reserved { get; set; }

        public int Users { get; set; }

        /// <summary>What is left for what is moved in bulk.</summary>
        public double Free => Math.Max(0, Capacity - Reserved);
    }

    /// <summary>Bytes under way.</summary>
    public sealed class Flow
    {
        internal Flow(int[] uses, double bytes, double cap, Action done) => (Uses, Remaining, Cap, Done) = (uses, bytes, cap, done);

        internal int[] Uses { get; }

        internal double Remaining { get; set; }

        internal double Rate { get; set; }

        internal double Cap { get; }

        internal Action Done { get; }
    }
}
