using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;

namespace Imbrek.Core.Tests;

/// <summary>
/// The prediction of fulls written down as plainly as the definitions say: at every event all rates are worked out anew from the fleet's
/// own figures, and queues are lists. Instants are whole milliseconds, as everywhere: a transfer ends at the first one after its last byte, or where something else
/// happens less than half of one before it. For small fleets only; the reference beside the fast path.
/// </summary>
internal static class NaivePrediction
{
    /// <summary>A full to be taken: due, in milliseconds, of so many stored bytes, to a store and then to further ones.</summary>
    internal sealed class Job(int number, long due, Host host, Store store, Store[] copyTo, double storedBytes, double cap)
    {
        public int Number { get; } = number;

        public long Due { get; } = due;

        public Host Host { get; } = host;

        public Store Store { get; } = store;

        public Store[] CopyTo { get; } = copyTo;

        public double StoredBytes { get; } = storedBytes;

        public double Cap { get; } = cap;

        public double Started { get; set; } = double.NaN;

        public double Available { get; set; } = double.NaN;

        public double Ended { get; set; } = double.NaN;
    }

    private sealed class Transfer(string[] uses, double cap, Action done)
    {
        public string[] Uses { get; } = uses;

        public double Cap { get; } = cap;

        public Action Done { get; } = done;

        public double Left { get; set; }
    }

    /// <summary>Runs all jobs to their ends.</summary>
    public static void Run(FleetModel fleet, IReadOnlyList<Job> jobs)
    {
        var capacity = new Dictionary<string, double>();
        foreach (var h in fleet.HostList)
        {
            capacity["host " + h.Id] = h.WriteBytesPerSecond;
        }

        foreach (var s in fleet.StoreList)
        {
            capacity["store " + s.Id] = Math.Max(s.ReadBytesPerSecond, s.WriteBytesPerSecond);
        }

        foreach (var l in fleet.Links)
        {
            capacity[Link(l.One, l.Other)] = l.BytesPerSecond;
        }

        var now = 0.0;
        var transfers = new List<Transfer>();
        var timers = new List<(double At, Action Do)>();
        var queues = fleet.HostList.ToDictionary(h => h.Id, _ => new List<Job>());
        var holding = new List<Job>();
        foreach (var job in jobs)
        {
            timers.Add((job.Due, () =>
            {
                queues[job.Host.Id].Add(job);
                StartWaiting(job.Host);
            }
            ));
        }

        while (timers.Count > 0 || transfers.Count > 0)
        {
            var rates = transfers.ToDictionary(t => t, t => Math.Min(t.Cap, t.Uses.Min(u => capacity[u] / transfers.Count(o => o.Uses.Contains(u)))));
            var timer = timers.Count == 0 ? double.PositiveInfinity : timers.Min(t => t.At);
            var flow = transfers.Count == 0 ? double.PositiveInfinity : Math.Ceiling(transfers.Min(t => now + (t.Left / rates[t] * 1000)));
            var next = Math.Min(timer, flow);
            foreach (var t in transfers)
            {
                t.Left -= rates[t] * (next - now) / 1000;
            }

            now = next;
            foreach (var done in transfers.Where(t => t.Left <= rates[t] * 0.0005).ToArray())
            {
                transfers.Remove(done);
                done.Done();
            }

            foreach (var due in timers.Where(t => t.At <= now).ToArray())
            {
                timers.Remove(due);
                due.Do();
            }
        }

        // A slot given back goes to who waits on the same host first, then to the others.
        void StartWaiting(Host first)
        {
            foreach (var host in fleet.HostList.OrderBy(h => h == first ? 0 : 1))
            {
                var queue = queues[host.Id];
                while (queue.Count > 0
                    && (host.Slots is not { } slots || holding.Count(h => h.Host == host) < slots)
                    && (queue[0].Store.Slots is not { } most || holding.Count(h => h.Store == queue[0].Store) < most))
                {
                    var job = queue[0];
                    queue.RemoveAt(0);
                    holding.Add(job);
                    job.Started = now;
                    timers.Add((now + (RunPace.OverheadSeconds * 1000), () => Write(job)));
                }
            }
        }

        void Write(Job job) => transfers.Add(new Transfer(Way("host " + job.Host.Id, job.Host.Site, "store " + job.Store.Id, job.Store.Site), job.Cap, () =>
        {
            job.Available = job.Ended = now;
            holding.Remove(job);
            StartWaiting(job.Host);
            foreach (var to in job.CopyTo)
            {
                transfers.Add(new Transfer(Way("store " + job.Store.Id, job.Store.Site, "store " + to.Id, to.Site), to.WriteBytesPerSecond, () => job.Ended = Math.Max(job.Ended, now)) { Left = job.StoredBytes });
            }
        })
        { Left = job.StoredBytes });
    }

    private static string Link(Id<Site> one, Id<Site> other) => $"link {string.Join(" to ", new[] { one.Value, other.Value }.Order(StringComparer.Ordinal))}";

    private static string[] Way(string from, Id<Site> fromSite, string to, Id<Site> toSite) => fromSite == toSite ? [from, to] : [from, to, Link(fromSite, toSite)];
}
