using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Storage;

namespace Imbrek.StandIn;

/// <summary>The copies of sets in the stores of the world: as bytes, as what they take of each store, and on their way to a host.</summary>
internal sealed class Copies : IDisposable
{
    private readonly World world;
    private readonly Dictionary<Id<Store>, PackStore> packs;
    private readonly Dictionary<Id<Store>, long> stored = [];

    public Copies(World world)
    {
        this.world = world;
        packs = world.Fleet.StoreList.ToDictionary(s => s.Id, s => new PackStore(Path.Combine(world.Folder, "stores", s.Id.Value)));
    }

    /// <summary>Bytes in all stores.</summary>
    public long Bytes => packs.Values.Sum(p => p.Length);

    /// <summary>The bytes of a store.</summary>
    public PackStore Pack(Id<Store> store) => packs[store];

    /// <summary>Writes what is pending to disk.</summary>
    public void Flush()
    {
        foreach (var pack in packs.Values)
        {
            pack.Flush();
        }
    }

    /// <summary>Whether a store refuses to take more: by a fault, or because it holds all it can.</summary>
    public bool IsFull(Id<Store> store) => world.Faults.IsFull(store) || stored.GetValueOrDefault(store) > (world.Fleet.Stores[store].CapacityBytes ?? long.MaxValue);

    /// <summary>A set takes its room, or gives it back.</summary>
    public void Count(BackupSet? set, int sign)
    {
        foreach (var copy in set?.Copies ?? [])
        {
            if (copy.RemovedAt is null)
            {
                stored[copy.Store] = stored.GetValueOrDefault(copy.Store) + (sign * copy.StoredBytes);
            }
        }
    }

    /// <summary>The bytes of a copy.</summary>
    /// <exception cref="InvalidDataException">They are not those that were written.</exception>
    /// <exception cref="FileNotFoundException">They are no longer there.</exception>
    public byte[] Read(Id<Database> database, SetCopy copy) => packs[copy.Store].Read(World.Key(database, copy.Set));

    /// <summary>Completes when bytes have moved from a store to an instance's host, and says when that was; fails when the link between them is cut meanwhile.</summary>
    /// <exception cref="DriverException">It cannot be read there now.</exception>
    public Task<long> FetchAsync(SetCopy copy, InstanceSpec instance, double bytes, double cap, CancellationToken cancel)
    {
        var (from, to) = (world.Fleet.Stores[copy.Store], world.Fleet.Hosts[instance.Host]);
        var link = from.Site == to.Site ? null : Routes.Of(from.Site, to.Site);
        lock (world.Gate)
        {
            // It may have been cut since somebody last looked; a flow begun now would never move.
            if (WhyUnreadable(instance.Database, copy, instance.Host) is { } why)
            {
                throw new DriverException(DriverProblem.CopyUnreachable, why, copy);
            }
        }

        var uses = Routes.Between(world.Fleet, instance.Host, copy.Store)!;
        FairShare.Flow? flow = null;
        Action? forget = null;
        return world.Outsiders.Await(
            done => flow = world.Network.Start(uses.Select(u => world.Network[u]), bytes, cap, () =>
            {
                forget!();
                done();
            }),
            cancel,
            () =>
            {
                world.Network.Cancel(flow!);
                forget!();
            },
            fail => forget = world.Faults.FailWhenCut(link, () =>
            {
                world.Network.Cancel(flow!);
                fail(new DriverException(DriverProblem.CopyUnreachable, $"the link between {from.Site} and {to.Site} was cut while {copy.Set} was fetched", copy));
            }));
    }

    /// <summary>Says what reading a copy showed.</summary>
    public void Judge(Id<Database> database, Id<BackupSet> set, Id<Store> store, CopyState state)
    {
        lock (world.Gate)
        {
            if (world[database].Sets.TryGetValue(set.Value, out var s) && s.Copies.Any(c => c.Store == store && c.State != state))
            {
                world.Change(s with { Copies = [.. s.Copies.Select(c => c.Store == store ? c with { State = state } : c)] });
                if (state == CopyState.Damaged)
                {
                    world.Tell(database, "damaged", $"the copy of {set} in {store} is damaged");
                }
            }
        }
    }

    public void Dispose()
    {
        foreach (var pack in packs.Values)
        {
            pack.Dispose();
        }
    }

    private string? WhyUnreadable(Id<Database> database, SetCopy copy, Id<Host> host)
    {
        var (store, to) = (world.Fleet.Stores[copy.Store], world.Fleet.Hosts[host]);
        if (store.Site != to.Site && (world.Fleet.LinkBetween(store.Site, to.Site) is null || world.Faults.IsDown(store.Site, to.Site)))
        {
            return $"store {store.Id} cannot be reached from host {host}: the link between {store.Site} and {to.Site} is down";
        }

        return packs[copy.Store].Has(World.Key(database, copy.Set)) ? null : $"store {store.Id} no longer has {copy.Set}";
    }
}
