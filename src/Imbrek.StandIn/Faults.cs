using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What goes wrong in the world, when somebody or the script has it go wrong.</summary>
public sealed class Faults
{
    private readonly World world;
    private readonly HashSet<string> fullStores = [];
    private readonly HashSet<string> downLinks = [];
    private readonly HashSet<string> refused = [];
    private readonly HashSet<string> hanging = [];
    private readonly List<Cut> fetches = [];

    internal Faults(World world, WorldState? resume)
    {
        this.world = world;
        fullStores.UnionWith(resume?.FullStores ?? []);
        refused.UnionWith(resume?.Refused ?? []);
        hanging.UnionWith(resume?.Hanging ?? []);
        foreach (var link in resume?.DownLinks ?? [])
        {
            downLinks.Add(link);
            world.Network.SetCapacity(link, 0);
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
            if (!Switch(downLinks, key, down, null, $"the link between {one} and {other} is {(down ? "down" : "up")}"))
            {
                return;
            }

            world.Network.SetCapacity(key, down ? 0 : world.Fleet.LinkBetween(one, other)!.BytesPerSecond);
            foreach (var cut in fetches.Where(c => down && c.Link == key).ToArray())
            {
                fetches.Remove(cut);
                cut.Fail();
            }
        }
    }

    /// <summary>Flips a bit of a copy on disk; nobody is told until it is read.</summary>
    public void DamageCopy(Id<Database> database, Id<Core.Catalogue.BackupSet> set, Id<Store> store)
    {
        lock (world.Gate)
        {
            world.Pack(store).Damage(World.Key(database, set));
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
