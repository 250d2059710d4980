using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What goes wrong in the world, when somebody or the script has it go wrong.</summary>
public sealed class Faults
{
    private const string HostDown = "its host is down";

    private readonly World world;
    private readonly HashSet<string> fullStores = [];
    private readonly HashSet<string> downLinks = [];
    private readonly HashSet<string> refused = [];
    private readonly HashSet<string> hanging = [];
    private readonly HashSet<string> downHosts = [];
    private readonly HashSet<string> flapping = [];
    private readonly Dictionary<string, double> slowLinks = [];
    private readonly Dictionary<string, double> clocks = [];
    private readonly List<Cut> fetches = [];

    internal Faults(World world, WorldState? resume)
    {
        this.world = world;
        fullStores.UnionWith(resume?.FullStores ?? []);
        refused.UnionWith(resume?.Refused ?? []);
        hanging.UnionWith(resume?.Hanging ?? []);
        downHosts.UnionWith(resume?.DownHosts ?? []);
        NamesSlow = resume?.NamesSlow ?? false;
        clocks = new(resume?.Clocks ?? []);
        foreach (var (link, rate) in resume?.SlowLinks ?? [])
        {
            slowLinks[link] = rate;
            world.Network.SetCapacity(link, rate);
        }

        foreach (var link in resume?.DownLinks ?? [])
        {
            downLinks.Add(link);
            world.Network.SetCapacity(link, 0);
        }
    }

    /// <summary>Has what comes and goes go on after a restart.</summary>
    internal void Resume(IEnumerable<string> flappingBefore)
    {
        foreach (var l in world.Fleet.Links.Where(l => flappingBefore.Contains(Routes.Of(l.One, l.Other))))
        {
            SetLinkFlapping(l.One, l.Other, true);
        }
    }

    /// <summary>Links that are slow, by name, with what they carry, bytes per second.</summary>
    public IReadOnlyDictionary<string, double> SlowLinks
    {
        get
        {
            lock (world.Gate)
            {
                return new Dictionary<string, double>(slowLinks);
            }
        }
    }

    /// <summary>Links that come and go, by name.</summary>
    public IReadOnlyList<string> FlappingLinks => Read(flapping);

    /// <summary>Hosts that are down.</summary>
    public IReadOnlyList<string> DownHosts => Read(downHosts);

    /// <summary>Clocks that are wrong, by host, in seconds ahead.</summary>
    public IReadOnlyDictionary<string, double> Clocks
    {
        get
        {
            lock (world.Gate)
            {
                return new Dictionary<string, double>(clocks);
            }
        }
    }

    /// <summary>Stores that take no more.</summary>
    public IReadOnlyList<string> FullStores => Read(fullStores);

    /// <summary>Links that are cut, as "site|site".</summary>
    public IReadOnlyList<string> DownLinks => Read(downLinks);

    /// <summary>Databases whose sign-in for backups has expired.</summary>
    public IReadOnlyList<string> Refused => Read(refused);

    /// <summary>Databases whose backups begin and never end.</summary>
    public IReadOnlyList<string> Hanging => Read(hanging);

    /// <summary>Makes a store refuse to take more, or take more again.</summary>
    public void SetStoreFull(Id<Store> store, bool full) =>
        Switch(fullStores, store.Value, full, null, full ? $"store {store} is full" : $"store {store} has room again");

    /// <summary>Lets the sign-in for backups of a database expire, or mends it.</summary>
    public void SetRefused(Id<Database> database, bool expired) =>
        Switch(refused, database.Value, expired, database, expired ? "the sign-in for backups has expired" : "the sign-in for backups works again");

    /// <summary>Has backups of a database begin and never end, or lets those begun from then on end again.</summary>
    public void SetHanging(Id<Database> database, bool hangs) =>
        Switch(hanging, database.Value, hangs, database, hangs ? "backups begin and move nothing" : "backups move data again");

    /// <summary>Cuts a link or mends it: what is being fetched over it fails, what is being written stands still.</summary>
    public void SetLinkDown(Id<Site> one, Id<Site> other, bool down)
    {
        lock (world.Gate)
        {
            var key = Routes.Of(one, other);
            world.Replicas.Around(() =>
            {
                if (!Switch(downLinks, key, down, null, $"the link between {one} and {other} is {(down ? "down" : "up")}"))
                {
                    return;
                }

                world.Network.SetCapacity(key, CapacityOf(one, other));
                foreach (var cut in fetches.Where(c => down && c.Link == key).ToArray())
                {
                    fetches.Remove(cut);
                    cut.Fail();
                }
            });
        }
    }

    /// <summary>Makes a link slow, or as fast as it is said to be.</summary>
    /// <param name="one">A site.</param>
    /// <param name="other">Another one.</param>
    /// <param name="bytesPerSecond">What it carries from now on; null for all it can.</param>
    public void SetLinkSlow(Id<Site> one, Id<Site> other, double? bytesPerSecond)
    {
        lock (world.Gate)
        {
            var key = Routes.Of(one, other);
            world.Replicas.Around(() =>
            {
                if (bytesPerSecond is { } rate)
                {
                    slowLinks[key] = rate;
                }
                else
                {
                    slowLinks.Remove(key);
                }

                world.Network.SetCapacity(key, CapacityOf(one, other));
                world.Tell(null, "fault", bytesPerSecond is { } r ? $"the link between {one} and {other} carries {r / 1e6:0.##} MB/s" : $"the link between {one} and {other} is as fast as before");
            });
        }
    }

    /// <summary>Has a link come and go: down for forty seconds of every two minutes.</summary>
    public void SetLinkFlapping(Id<Site> one, Id<Site> other, bool on)
    {
        lock (world.Gate)
        {
            var key = Routes.Of(one, other);
            if (!Switch(flapping, key, on, null, $"the link between {one} and {other} {(on ? "comes and goes" : "no longer comes and goes")}") || !on)
            {
                return;
            }

            Go();

            void Go()
            {
                if (flapping.Contains(key))
                {
                    SetLinkDown(one, other, true);
                    world.After(40_000, () => SetLinkDown(one, other, false));
                    world.After(120_000, Go);
                }
            }
        }
    }

    /// <summary>Whether whoever answers for names is slow: what clients know of an address lasts ten times as long.</summary>
    public bool NamesSlow { get; private set; }

    /// <summary>Has whoever answers for names be slow, or as fast as before.</summary>
    public void SetNamesSlow(bool slow)
    {
        lock (world.Gate)
        {
            if (NamesSlow != slow)
            {
                NamesSlow = slow;
                world.Tell(null, "fault", slow ? "names are answered slowly: clients learn late of an address that has changed" : "names are answered as fast as before");
            }
        }
    }

    /// <summary>Takes a host down, or up again: what lies on it does nothing, and writes nothing.</summary>
    public void SetHostDown(Id<Host> host, bool down)
    {
        lock (world.Gate)
        {
            world.Replicas.Around(() =>
            {
                if (!Switch(downHosts, host.Value, down, null, $"host {host} is {(down ? "down" : "up")}"))
                {
                    return;
                }

                foreach (var d in world.Databases.Where(d => d.Database.Host == host))
                {
                    world.Live(d);
                    if (down)
                    {
                        d.Stop(world.NowMs, HostDown);
                    }
                    else
                    {
                        d.GoOn(world.NowMs, HostDown);
                    }
                }

                if (down)
                {
                    world.Replicas.Voting.Notice(host);
                }
            });
        }
    }

    /// <summary>Sets the clock of a host wrong, or right.</summary>
    /// <param name="host">The host.</param>
    /// <param name="secondsAhead">By how much it is ahead; 0 is right.</param>
    public void SetClock(Id<Host> host, double secondsAhead)
    {
        lock (world.Gate)
        {
            world.Replicas.Around(() =>
            {
                clocks.Remove(host.Value);
                if (secondsAhead != 0)
                {
                    clocks[host.Value] = secondsAhead;
                }

                world.Tell(null, "fault", secondsAhead == 0 ? $"the clock of {host} is right again" : $"the clock of {host} is {secondsAhead:0.#} s {(secondsAhead > 0 ? "ahead" : "late")}");
            });
        }
    }

    /// <summary>Stops applying at a replica, or has it go on.</summary>
    public void SetApplyStopped(Id<Replica> replica, bool stopped) =>
        At(replica, r => r.ApplyStopped = stopped, stopped ? "applies nothing" : "applies again");

    /// <summary>Has somebody read in a replica for so long, which holds what is applied; 0 ends it.</summary>
    public void SetReader(Id<Replica> replica, double seconds) =>
        At(replica, r => r.ReaderUntil = seconds > 0 ? world.NowMs + (long)(seconds * 1000) : 0, seconds > 0 ? $"is read for {seconds:0} s, and applies nothing meanwhile" : "is no longer held by a reader");

    /// <summary>Lets the sign-in of a replica at its source expire, or renews it.</summary>
    public void SetReplicaSignIn(Id<Replica> replica, bool expired) =>
        At(replica, r => r.SignInExpired = expired, expired ? "can no longer sign in at its source" : "signs in at its source again");

    /// <summary>Fills the volume for log of a replica: it cannot be used until it is mended, also when there is room again.</summary>
    public void FillLogVolume(Id<Replica> replica)
    {
        lock (world.Gate)
        {
            var r = world.Replicas[replica];
            world.Replicas.Around(() => world.Replicas.BecomesUnusable(r, "its volume for log was full: it must be mended, even now that there may be room"));
        }
    }

    /// <summary>Writes a row in a replica that its source knows nothing of; nobody is told until the two are compared.</summary>
    public void Diverge(Id<Replica> replica)
    {
        lock (world.Gate)
        {
            var r = world.Replicas[replica];
            world.Replicas.Look(r);
            r.WriteForeign((int)(Draw.Bits(world.Seed, world.NowMs, 91) % (ulong)r.Image.Rows.Length), 0xD1FF_E2E5);
        }
    }

    /// <summary>What is wrong with each replica.</summary>
    public IReadOnlyList<(Id<Replica> Replica, bool ApplyStopped, bool Read, bool SignInExpired, string? Unusable)> OfReplicas
    {
        get
        {
            lock (world.Gate)
            {
                return [.. world.Replicas.All.Select(r => (r.Replica.Id, r.ApplyStopped, r.ReaderUntil > world.NowMs, r.SignInExpired, r.Unusable))];
            }
        }
    }

    private void At(Id<Replica> replica, Action<Replication.SimulatedReplica> change, string text)
    {
        lock (world.Gate)
        {
            var r = world.Replicas[replica];
            world.Replicas.Around(() => change(r));
            world.Tell(r.Replica.Database, "fault", $"{replica} {text}");
        }
    }

    private double CapacityOf(Id<Site> one, Id<Site> other) =>
        downLinks.Contains(Routes.Of(one, other)) ? 0 : slowLinks.TryGetValue(Routes.Of(one, other), out var slow) ? slow : world.Fleet.LinkBetween(one, other)!.BytesPerSecond;

    internal bool IsDown(Id<Host> host) => downHosts.Contains(host.Value);

    internal double ClockOf(Id<Host> host) => clocks.GetValueOrDefault(host.Value);

    /// <summary>Flips a bit of a copy on disk; nobody is told until it is read.</summary>
    public void DamageCopy(Id<Database> database, Id<Core.Catalogue.BackupSet> set, Id<Store> store)
    {
        lock (world.Gate)
        {
            world.Copies.Pack(store).Damage(World.Key(database, set));
        }
    }

    /// <summary>Flips a bit of every copy of the newest full of a database.</summary>
    public void DamageNewestFull(Id<Database> database)
    {
        lock (world.Gate)
        {
            var full = world[database].Sets.Values.Where(s => s.Kind == Core.Catalogue.SetKind.Full).MaxBy(s => s.CoversTo)!;
            foreach (var copy in full.Copies)
            {
                world.Copies.Pack(copy.Store).Damage(World.Key(database, full.Id));
            }
        }
    }

    /// <summary>Throws away the log not yet backed up: the next log backup cannot follow the last.</summary>
    public void DropLog(Id<Database> database)
    {
        lock (world.Gate)
        {
            var d = world[database];
            d.LiveUntil(world.NowMs, t => world.Marked(d, t));
            d.Unlogged.Clear();
            d.LogFrom = (d.Image.Position, world.NowMs);
        }
    }

    internal bool IsFull(Id<Store> store) => fullStores.Contains(store.Value);

    internal bool IsRefused(Id<Database> database) => refused.Contains(database.Value);

    internal bool IsHanging(Id<Database> database) => hanging.Contains(database.Value);

    internal bool IsDown(Id<Site> one, Id<Site> other) => downLinks.Contains(Routes.Of(one, other));

    /// <summary>Has a fetch fail when the link it uses is cut; what is returned ends that.</summary>
    internal Action FailWhenCut(string? link, Action fail)
    {
        var cut = new Cut(link, fail);
        fetches.Add(cut);
        return () => fetches.Remove(cut);
    }

    private string[] Read(HashSet<string> those)
    {
        lock (world.Gate)
        {
            return [.. those];
        }
    }

    private bool Switch(HashSet<string> those, string one, bool on, Id<Database>? database, string text)
    {
        lock (world.Gate)
        {
            var changed = on ? those.Add(one) : those.Remove(one);
            if (changed)
            {
                world.Tell(database, "fault", text);
            }

            return changed;
        }
    }

    private sealed record Cut(string? Link, Action Fail);
}
