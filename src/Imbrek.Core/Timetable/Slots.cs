using Imbrek.Core.Fleet;

namespace Imbrek.Core.Timetable;

/// <summary>How many backups may run at once on each host and to each store; who finds none free waits, first come first served on each host.</summary>
public sealed class Slots(FleetModel fleet)
{
    private FleetModel fleet = fleet;

    private readonly Dictionary<Id<Host>, int> onHost = [];
    private readonly Dictionary<Id<Store>, int> toStore = [];
    private readonly Dictionary<Id<Host>, Queue<(Id<Store> Store, Action Start)>> waiting = [];

    /// <summary>Starts a run when a slot is free, or once one is.</summary>
    public void Ask(Id<Host> host, Id<Store> store, Action start)
    {
        if (!waiting.TryGetValue(host, out var queue))
        {
            waiting[host] = queue = new();
        }

        queue.Enqueue((store, start));
        StartWaiting(host);
    }

    /// <summary>The same, with the numbers of a fleet from now on.</summary>
    public Slots Of(FleetModel changed)
    {
        fleet = changed;
        return this;
    }

    /// <summary>Takes a slot for what has one already, whether there is room or not.</summary>
    public void Take(Id<Host> host, Id<Store> store)
    {
        waiting.TryAdd(host, new());
        onHost[host] = onHost.GetValueOrDefault(host) + 1;
        toStore[store] = toStore.GetValueOrDefault(store) + 1;
    }

    /// <summary>Gives back what a run took; who waited may start.</summary>
    public void Release(Id<Host> host, Id<Store> store)
    {
        onHost[host]--;
        toStore[store]--;
        StartWaiting(host);
        if (fleet.Stores[store].Slots is not null)
        {
            foreach (var other in waiting.Where(w => w.Value.Count > 0).Select(w => w.Key).ToArray())
            {
                StartWaiting(other);
            }
        }
    }

    /// <summary>Whether a host could take one more.</summary>
    public bool HasRoom(Id<Host> host) => fleet.Hosts[host].Slots is not { } slots || onHost.GetValueOrDefault(host) < slots;

    private bool HasRoom(Id<Store> store) => fleet.Stores[store].Slots is not { } slots || toStore.GetValueOrDefault(store) < slots;

    private void StartWaiting(Id<Host> host)
    {
        var queue = waiting[host];
        while (HasRoom(host) && queue.TryPeek(out var first) && HasRoom(first.Store))
        {
            queue.Dequeue();
            onHost[host] = onHost.GetValueOrDefault(host) + 1;
            toStore[first.Store] = toStore.GetValueOrDefault(first.Store) + 1;
            first.Start();
        }
    }
}
