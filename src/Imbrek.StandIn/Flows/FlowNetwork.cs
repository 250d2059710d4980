namespace Imbrek.StandIn.Flows;

/// <summary>
/// Bytes on the move. Each flow uses some resources (a host, a store, a link), each resource shares its bandwidth fairly among
/// the flows on it, and a flow moves at the slowest of its shares, or at its own cap.
/// </summary>
internal sealed class FlowNetwork
{
    private readonly Dictionary<string, Resource> resources = [];
    private readonly List<Flow> flows = [];
    private double now;
    private bool ratesStale;

    /// <summary>Bandwidth of a resource, bytes per second; 0 means that nothing moves.</summary>
    public void SetCapacity(string resource, double bytesPerSecond)
    {
        if (resources.TryGetValue(resource, out var known))
        {
            known.Capacity = bytesPerSecond;
        }
        else
        {
            resources[resource] = new Resource { Capacity = bytesPerSecond };
        }

        ratesStale = true;
    }

    /// <summary>Starts a flow.</summary>
    /// <param name="uses">The resources it uses.</param>
    /// <param name="bytes">How much is to be moved.</param>
    /// <param name="cap">Its own fastest rate, bytes per second.</param>
    /// <param name="done">Called when all is moved.</param>
    public Flow Start(IReadOnlyList<string> uses, double bytes, double cap, Action done)
    {
        var flow = new Flow([.. uses.Distinct().Select(u => resources[u])], Math.Max(bytes, 1), cap, done);
        foreach (var r in flow.Uses)
        {
            r.Users++;
        }

        flows.Add(flow);
        ratesStale = true;
        return flow;
    }

    /// <summary>Ends a flow before it is done; its callback is not called.</summary>
    public void Cancel(Flow flow)
    {
        if (flows.Remove(flow))
        {
            Release(flow);
        }
    }

    /// <summary>When the next flow will be done, milliseconds; infinity when none ever will.</summary>
    public double NextDone()
    {
        UpdateRates();
        var next = double.PositiveInfinity;
        foreach (var f in flows)
        {
            if (f.Rate > 0)
            {
                next = Math.Min(next, now + (f.Remaining / f.Rate * 1000));
            }
        }

        return next;
    }

    /// <summary>Moves time on; calls back the flows that are done by then. Must not pass <see cref="NextDone"/>.</summary>
    public void Advance(double to)
    {
        UpdateRates();
        var seconds = (to - now) / 1000;
        List<Flow>? done = null;
        foreach (var f in flows)
        {
            f.Remaining -= f.Rate * seconds;

            // Less than a thousandth of a second away is done: time is counted in milliseconds.
            if (f.Remaining <= f.Rate * 0.0005 && f.Rate > 0)
            {
                (done ??= []).Add(f);
            }
        }

        now = to;
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
            r.Users--;
        }

        ratesStale = true;
    }

    private void UpdateRates()
    {
        if (!ratesStale)
        {
            return;
        }

        foreach (var f in flows)
        {
            f.Rate = f.Cap;
            foreach (var r in f.Uses)
            {
                f.Rate = Math.Min(f.Rate, r.Capacity / r.Users);
            }
        }

        ratesStale = false;
    }

    internal sealed class Resource
    {
        public double Capacity { get; set; }

        public int Users { get; set; }
    }

    internal sealed class Flow(FlowNetwork.Resource[] uses, double bytes, double cap, Action done)
    {
        public Resource[] Uses { get; } = uses;

        public double Remaining { get; set; } = bytes;

        public double Rate { get; set; }

        public double Cap { get; } = cap;

        public Action Done { get; } = done;
    }
}
