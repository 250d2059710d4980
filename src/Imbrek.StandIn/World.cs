using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Flows;
using Imbrek.StandIn.Scenario;
using Imbrek.StandIn.Storage;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.StandIn;

/// <summary>
/// The simulated world: databases that live, tasks that back them up as real bytes, bandwidth shared among what runs at once, one
/// clock. It moves only when told to (<see cref="Advance"/>); the same script gives the same history, byte for byte.
/// </summary>
public sealed class World : IDisposable
{
    private static readonly InstantPattern IdTime = InstantPattern.CreateWithInvariantCulture("uuMMdd'T'HHmmss");

    private readonly WorldScript script;
    private readonly Dictionary<Id<Database>, SimulatedDatabase> databases;
    private readonly Dictionary<Id<Store>, PackStore> packs;
    private readonly FlowNetwork network = new();
    private readonly PriorityQueue<Action, (long Time, long Number)> queue = new();
    private readonly List<WorldChange> changes = [];
    private readonly HashSet<Id<Store>> fullStores = [];
    private readonly HashSet<string> downLinks = [];
    private readonly List<Cut> cuts = [];
    private readonly bool inHistory;
    private TaskCompletionSource? nobodyThinks;
    private int engaged;
    private int waitingForWorld;
    private long number;
    private long now;

    /// <summary>Begins a world at the start of its history, or goes on where one stopped.</summary>
    /// <param name="folder">Where stores and instances keep their bytes.</param>
    /// <param name="script">The script.</param>
    /// <param name="resume">What an earlier process remembered; null to begin.</param>
    /// <param name="known">The sets that the product knows of; only with <paramref name="resume"/>.</param>
    public World(string folder, WorldScript script, WorldState? resume = null, IEnumerable<BackupSet>? known = null)
    {
        this.script = script;
        Folder = folder;
        Fleet = script.Fleet;
        now = resume?.Now ?? script.Begins.ToUnixTimeMilliseconds();
        inHistory = resume is null;
        databases = script.Databases.ToDictionary(
            d => d.Id,
            d => new SimulatedDatabase(Fleet.DatabaseById[d.Id], d, script.Seed, script.Begins, resume?.Databases.GetValueOrDefault(d.Id.Value)));
        packs = Fleet.StoreList.ToDictionary(s => s.Id, s => new PackStore(Path.Combine(folder, "stores", s.Id.Value)));
        foreach (var s in Fleet.StoreList)
        {
            network.SetCapacity(StoreKey(s.Id), Math.Max(s.ReadBytesPerSecond, s.WriteBytesPerSecond));
        }

        foreach (var h in Fleet.HostList)
        {
            network.SetCapacity(HostKey(h.Id), h.WriteBytesPerSecond);
        }

        foreach (var l in Fleet.Links)
        {
            network.SetCapacity(LinkKey(l.One, l.Other), l.BytesPerSecond);
        }

        network.Advance(now);
        ScheduleTasks();
        if (resume is null)
        {
            ScheduleHistory();
        }
        else
        {
            Resume(resume, known ?? []);
        }
    }

    /// <summary>Serializes all that touches the world.</summary>
    public Lock Gate { get; } = new();

    /// <summary>Where stores and instances keep their bytes.</summary>
    public string Folder { get; }

    /// <summary>The fleet of the world.</summary>
    public FleetModel Fleet { get; }

    /// <summary>The world's clock.</summary>
    public Instant Now => Instant.FromUnixTimeMilliseconds(Volatile.Read(ref now));

    /// <summary>When something happens next.</summary>
    public Instant? NextEvent
    {
        get
        {
            lock (Gate)
            {
                var next = Math.Min(network.NextDone(), queue.TryPeek(out _, out var due) ? due.Time : double.PositiveInfinity);
                return double.IsPositiveInfinity(next) ? null : Instant.FromUnixTimeMilliseconds((long)Math.Ceiling(next));
            }
        }
    }

    /// <summary>Bytes in all stores.</summary>
    public long StoredBytes => packs.Values.Sum(p => p.Length);

    /// <summary>Stores that are full and links that are down, for people.</summary>
    public (IReadOnlyList<string> FullStores, IReadOnlyList<string> DownLinks) Faults
    {
        get
        {
            lock (Gate)
            {
                return ([.. fullStores.Select(s => s.Value)], [.. downLinks]);
            }
        }
    }

    /// <summary>
    /// Says that somebody outside acts in the world from now on, until what is returned is disposed of. While they think rather than
    /// wait for the world, time stands still: otherwise a fast pace would count their thinking as hours.
    /// </summary>
    public IDisposable Engage()
    {
        lock (Gate)
        {
            engaged++;
        }

        return new Engagement(this);
    }

    /// <summary>Completes when nobody who is engaged thinks any more, or after a time of the wall clock.</summary>
    public async Task WhenNobodyThinksAsync(TimeSpan atMost)
    {
        Task waiting;
        lock (Gate)
        {
            if (!SomebodyThinks)
            {
                return;
            }

            waiting = (nobodyThinks ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task;
        }

        await Task.WhenAny(waiting, Task.Delay(atMost));
    }

    /// <summary>Lets time pass; everything due by then happens, in order.</summary>
    /// <param name="to">The new time; earlier than now does nothing.</param>
    /// <param name="evenIfSomebodyThinks">Do not wait for who is engaged.</param>
    /// <returns>False when it stopped on the way because somebody who is engaged must be waited for.</returns>
    public bool Advance(Instant to, bool evenIfSomebodyThinks = false)
    {
        lock (Gate)
        {
            var end = to.ToUnixTimeMilliseconds();
            while (true)
            {
                if (SomebodyThinks && !evenIfSomebodyThinks)
                {
                    return false;
                }

                var flow = network.NextDone();
                var due = queue.TryPeek(out _, out var first) ? first.Time : long.MaxValue;
                var next = Math.Min(Math.Ceiling(flow), due);
                if (next > end)
                {
                    break;
                }

                Volatile.Write(ref now, Math.Max(now, (long)next));
                network.Advance(now);
                while (queue.TryPeek(out _, out first) && first.Time <= now)
                {
                    queue.Dequeue()();
                }
            }

            Volatile.Write(ref now, Math.Max(now, end));
            network.Advance(now);
            foreach (var pack in packs.Values)
            {
                pack.Flush();
            }

            return true;
        }
    }

    /// <summary>What happened since it was last asked.</summary>
    public IReadOnlyList<WorldChange> TakeChanges()
    {
        lock (Gate)
        {
            WorldChange[] taken = [.. changes];
            changes.Clear();
            return taken;
        }
    }

    /// <summary>All sets that still have a copy, or had one during history.</summary>
    public IReadOnlyList<BackupSet> Sets
    {
        get
        {
            lock (Gate)
            {
                return [.. databases.Values.SelectMany(d => d.Sets.Values)];
            }
        }
    }

    /// <summary>What must be remembered to go on after a restart.</summary>
    public WorldState Remember()
    {
        lock (Gate)
        {
            return new WorldState
            {
                Now = now,
                Databases = databases.ToDictionary(d => d.Key.Value, d => d.Value.Remember()),
                FullStores = [.. fullStores.Select(s => s.Value)],
                DownLinks = [.. downLinks],
                Running = [.. databases.Values.SelectMany(d => d.Running.Where(t => t >= 0).Select(t => new WorldState.InFlight(d.Database.Id.Value, t)))],
            };
        }
    }

    /// <summary>Writes a marker row into a database, at the start of the next minute of the world.</summary>
    /// <returns>When it will be committed.</returns>
    public Instant WriteMarker(Id<Database> database, string name)
    {
        lock (Gate)
        {
            var at = ((now / 60_000) + 1) * 60_000;
            databases[database].Named.Add(new NamedChange(name, at, 0));
            Schedule(at, () => databases[database].LiveUntil(now, t => Marked(databases[database], t)));
            return Instant.FromUnixTimeMilliseconds(at);
        }
    }

    /// <summary>Flips a bit of a copy on disk; nobody is told until it is read.</summary>
    public void DamageCopy(Id<Database> database, Id<BackupSet> set, Id<Store> store)
    {
        lock (Gate)
        {
            packs[store].Damage(Key(database, set));
        }
    }

    /// <summary>Makes a store refuse to take more, or take more again.</summary>
    public void SetStoreFull(Id<Store> store, bool full)
    {
        lock (Gate)
        {
            if (full ? fullStores.Add(store) : fullStores.Remove(store))
            {
                Tell(null, "fault", full ? $"store {store} is full" : $"store {store} has room again");
            }
        }
    }

    /// <summary>Cuts a link or mends it; what is on it stands still meanwhile.</summary>
    public void SetLinkDown(Id<Site> one, Id<Site> other, bool down)
    {
        lock (Gate)
        {
            var key = LinkKey(one, other);
            if (down ? downLinks.Add(key) : downLinks.Remove(key))
            {
                network.SetCapacity(key, down ? 0 : Fleet.LinkBetween(one, other)!.BytesPerSecond);
                foreach (var cut in cuts.Where(c => down && c.Link == key).ToArray())
                {
                    cuts.Remove(cut);
                    cut.Fail();
                }

                Tell(null, "fault", down ? $"the link between {one} and {other} is down" : $"the link between {one} and {other} is up");
            }
        }
    }

    /// <summary>Throws away the log not yet backed up: the next log backup cannot follow the last.</summary>
    public void DropLog(Id<Database> database)
    {
        lock (Gate)
        {
            var d = databases[database];
            d.LiveUntil(now, t => Marked(d, t));
            d.Unlogged.Clear();
            d.LogFrom = (d.Image.Position, now);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var pack in packs.Values)
        {
            pack.Dispose();
        }
    }

    internal static string Key(Id<Database> database, Id<BackupSet> set) => $"{database}/{set}";

    internal SimulatedDatabase this[Id<Database> database] => databases[database];

    /// <summary>Whether a copy could be read now, and if not why.</summary>
    internal string? WhyUnreadable(Id<Database> database, SetCopy copy, Id<Host> host)
    {
        var (store, to) = (Fleet.Stores[copy.Store], Fleet.Hosts[host]);
        if (store.Site != to.Site && (Fleet.LinkBetween(store.Site, to.Site) is null || downLinks.Contains(LinkKey(store.Site, to.Site))))
        {
            return $"store {store.Id} cannot be reached from host {host}: the link between {store.Site} and {to.Site} is down";
        }

        return packs[copy.Store].Has(Key(database, copy.Set)) ? null : $"store {store.Id} no longer has {copy.Set}";
    }

    internal byte[] ReadCopy(Id<Database> database, SetCopy copy) => packs[copy.Store].Read(Key(database, copy.Set));

    /// <summary>Completes after some seconds of the world.</summary>
    internal Task After(double seconds, CancellationToken cancel) =>
        Await(done => Schedule(now + (long)Math.Round(seconds * 1000), done), cancel);

    /// <summary>Completes when bytes have moved from a store to an instance's host; fails when the link between them is cut meanwhile.</summary>
    internal Task Fetch(SetCopy copy, InstanceSpec instance, double bytes, double cap, CancellationToken cancel)
    {
        var (from, to) = (Fleet.Stores[copy.Store], Fleet.Hosts[instance.Host]);
        List<string> uses = [StoreKey(from.Id), HostKey(to.Id)];
        var link = from.Site == to.Site ? null : LinkKey(from.Site, to.Site);
        if (link is not null)
        {
            uses.Add(link);
        }

        lock (Gate)
        {
            // It may have been cut since somebody last looked; a flow begun now would never move.
            if (WhyUnreadable(instance.Database, copy, instance.Host) is { } why)
            {
                throw new DriverException(DriverProblem.CopyUnreachable, why, copy);
            }
        }

        FlowNetwork.Flow? flow = null;
        Cut? cut = null;
        return Await(
            done =>
            {
                flow = network.Start(uses, bytes, cap, () =>
                {
                    cuts.Remove(cut!);
                    done();
                });
            },
            cancel,
            () =>
            {
                network.Cancel(flow!);
                cuts.Remove(cut!);
            },
            fail => cuts.Add(cut = new Cut(link, () =>
            {
                network.Cancel(flow!);
                fail(new DriverException(DriverProblem.CopyUnreachable, $"the link between {from.Site} and {to.Site} was cut while {copy.Set} was fetched", copy));
            })));
    }

    internal void Tell(Id<Database>? database, string kind, string text) =>
        changes.Add(new WorldChange.Happened(Now, database, kind, text));

    /// <summary>Says what reading a copy showed.</summary>
    internal void Judge(Id<Database> database, Id<BackupSet> set, Id<Store> store, CopyState state)
    {
        lock (Gate)
        {
            if (databases[database].Sets.TryGetValue(set.Value, out var s) && s.Copies.Any(c => c.Store == store && c.State != state))
            {
                Change(s with { Copies = [.. s.Copies.Select(c => c.Store == store ? c with { State = state } : c)] });
                if (state == CopyState.Damaged)
                {
                    Tell(database, "damaged", $"the copy of {set} in {store} is damaged");
                }
            }
        }
    }

    private bool SomebodyThinks => engaged > 0 && engaged > waitingForWorld;

    private void TellIfNobodyThinks()
    {
        if (!SomebodyThinks)
        {
            nobodyThinks?.TrySetResult();
            nobodyThinks = null;
        }
    }

    private sealed class Engagement(World world) : IDisposable
    {
        private bool ended;

        public void Dispose()
        {
            lock (world.Gate)
            {
                if (!ended)
                {
                    ended = true;
                    world.engaged--;
                    world.TellIfNobodyThinks();
                }
            }
        }
    }

    /// <summary>A fetch under way: the link it uses and what to do when that is cut.</summary>
    private sealed record Cut(string? Link, Action Fail);

    private Task Await(Action<Action> begin, CancellationToken cancel, Action? undo = null, Action<Action<Exception>>? failing = null)
    {
        // History runs in one thread and one order: there what waits goes on at once, inside the world's own step.
        var source = new TaskCompletionSource(inHistory ? TaskCreationOptions.None : TaskCreationOptions.RunContinuationsAsynchronously);
        var settled = false;
        lock (Gate)
        {
            waitingForWorld++;
            begin(() => Settle(() => source.TrySetResult()));
            failing?.Invoke(e => Settle(() => source.TrySetException(e)));
            TellIfNobodyThinks();
        }

        // What waited thinks again from here on: time stands still until it waits anew.
        void Settle(Action complete)
        {
            if (!settled)
            {
                settled = true;
                waitingForWorld--;
                complete();
            }
        }

        if (cancel.CanBeCanceled)
        {
            var registration = cancel.Register(() =>
            {
                lock (Gate)
                {
                    undo?.Invoke();
                    Settle(() => source.TrySetCanceled(cancel));
                }
            });
            return source.Task.ContinueWith(
                t =>
                {
                    registration.Dispose();
                    return t;
                },
                CancellationToken.None,
                TaskContinuationOptions.ExecuteSynchronously,
                TaskScheduler.Default).Unwrap();
        }

        return source.Task;
    }

    private static string StoreKey(Id<Store> store) => "store " + store;

    private static string HostKey(Id<Host> host) => "host " + host;

    private static string LinkKey(Id<Site> one, Id<Site> other) =>
        string.CompareOrdinal(one.Value, other.Value) < 0 ? $"{one}|{other}" : $"{other}|{one}";

    private void Schedule(long at, Action what) => queue.Enqueue(what, (Math.Max(at, now), number++));

    private void ScheduleTasks()
    {
        foreach (var d in databases.Values)
        {
            for (var i = 0; i < d.Script.Tasks.Count; i++)
            {
                ScheduleNext(d, i);
            }

            if (d.Script.Verify is not null)
            {
                ScheduleVerify(d);
            }
        }
    }

    private void ScheduleNext(SimulatedDatabase d, int task) =>
        Schedule(d.Script.Tasks[task].Cadence.NextAfter(Now).ToUnixTimeMilliseconds(), () =>
        {
            Begin(d, task);
            ScheduleNext(d, task);
        });

    private void ScheduleVerify(SimulatedDatabase d) =>
        Schedule(d.Script.Verify!.NextAfter(Now).ToUnixTimeMilliseconds(), () =>
        {
            Verify(d);
            ScheduleVerify(d);
        });

    private void ScheduleHistory()
    {
        foreach (var trouble in script.Troubles)
        {
            Schedule(trouble.At.ToUnixTimeMilliseconds(), () => Happen(trouble));
        }

        foreach (var d in databases.Values)
        {
            foreach (var days in d.Script.RehearsedDaysAgo)
            {
                Schedule((script.Now - Duration.FromDays(days)).ToUnixTimeMilliseconds(), () => Rehearse(d));
            }
        }
    }

    private void Happen(ScriptedTrouble trouble)
    {
        var d = databases[trouble.Database];
        switch (trouble.Kind)
        {
            case ScriptedTrouble.What.DropLog:
                DropLog(trouble.Database);
                break;
            case ScriptedTrouble.What.DamageNewestFull:
                var full = d.Sets.Values.Where(s => s.Kind == SetKind.Full).MaxBy(s => s.CoversTo)!;
                foreach (var copy in full.Copies)
                {
                    packs[copy.Store].Damage(Key(trouble.Database, full.Id));
                }

                break;
        }
    }

    private void Resume(WorldState state, IEnumerable<BackupSet> known)
    {
        foreach (var store in state.FullStores)
        {
            fullStores.Add(new(store));
        }

        foreach (var link in state.DownLinks)
        {
            downLinks.Add(link);
            network.SetCapacity(link, 0);
        }

        foreach (var d in databases.Values)
        {
            d.LiveUntil(now);
        }

        foreach (var set in known)
        {
            var d = databases[set.Database];
            if (set.Copies.All(c => c.RemovedAt is not null))
            {
                continue;
            }

            d.Sets[set.Id.Value] = set;
            if (set.Copies.Any(c => c.RemovedAt is null && c.State == CopyState.Unverified))
            {
                d.Unverified.Add(set.Id.Value);
            }

            if (d.Script.Tasks.FirstOrDefault(t => t.Kind == set.Kind) is not { } task)
            {
                continue;
            }

            foreach (var copy in set.Copies.Where(c => c.RemovedAt is null))
            {
                ScheduleRemoval(d, set.Id, copy, task);
            }

            // A copy that was on its way when the process ended is made again.
            foreach (var store in task.CopyTo.Where(s => set.Copies.All(c => c.Store != s)))
            {
                if (set.FinishedAt + task.Keep > Now)
                {
                    CopyElsewhere(d, set, task, store);
                }
            }
        }

        foreach (var running in state.Running)
        {
            var d = databases[new(running.Database)];
            Tell(d.Database.Id, "interrupted", $"a {d.Script.Tasks[running.Task].Kind.ToString().ToLowerInvariant()} was cut off by a restart and is taken again");
            Begin(d, running.Task);
        }
    }

    private void Marked(SimulatedDatabase d, Transaction t) =>
        changes.Add(new WorldChange.MarkerWritten(Instant.FromUnixTimeMilliseconds(t.Time), d.Database.Id, t.Marker!));

    private void Change(BackupSet set, bool isNew = false)
    {
        var d = databases[set.Database];
        var sets = d.Sets;
        if (set.Copies.Any(c => c.RemovedAt is null && c.State == CopyState.Unverified))
        {
            d.Unverified.Add(set.Id.Value);
        }

        if (set.Copies.All(c => c.RemovedAt is not null) && !inHistory)
        {
            sets.Remove(set.Id.Value);
        }
        else
        {
            sets[set.Id.Value] = set;
        }

        if (!inHistory)
        {
            changes.Add(new WorldChange.SetChanged(Now, set, isNew));
        }
    }

    private void Begin(SimulatedDatabase d, int index)
    {
        var task = d.Script.Tasks[index];
        var kind = task.Kind;
        d.LiveUntil(now, t => Marked(d, t));
        if (kind == SetKind.Log && d.Database.LogMode == LogMode.Discarded)
        {
            Tell(d.Database.Id, "refused", "log backup refused: the database discards its log");
            return;
        }

        if ((kind == SetKind.Differential && d.Full.Id is null) || (kind == SetKind.Incremental && d.LastSet.Id is null))
        {
            return;
        }

        if (!d.Running.Add(index))
        {
            if (kind != SetKind.Log)
            {
                Tell(d.Database.Id, "late", $"{kind.ToString().ToLowerInvariant()} skipped: the one before is still running");
            }

            return;
        }

        var (set, content) = Capture(d, kind, task);
        var rate = Fleet.Hosts[d.Database.Host].WriteBytesPerSecond;
        var stored = set.Copies[0].StoredBytes;
        var overhead = 1500 + (long)(Seeded.Unit(script.Seed, now, index) * 4000);
        Schedule(now + overhead, () => network.Start(
            Route(d.Database.Host, task.Store), stored, rate, () => Finish(d, index, task, set, content)));
    }

    private List<string> Route(Id<Host> host, Id<Store> store)
    {
        var (h, s) = (Fleet.Hosts[host], Fleet.Stores[store]);
        List<string> uses = [HostKey(host), StoreKey(store)];
        if (h.Site != s.Site)
        {
            uses.Add(LinkKey(h.Site, s.Site));
        }

        return uses;
    }

    private (BackupSet Set, byte[] Content) Capture(SimulatedDatabase d, SetKind kind, TaskScript task)
    {
        var id = $"{d.Database.Id}-{kind.ToString().ToLowerInvariant()}-{IdTime.Format(Now)}";
        var parent = kind switch
        {
            SetKind.Differential => d.Full,
            SetKind.Incremental => d.LastSet,
            _ => (Id: null, Position: long.MinValue),
        };
        byte[] content;
        double data;
        if (kind == SetKind.Log)
        {
            content = SetContent.OfLog(d.Unlogged);
            var seconds = (now - d.LogFrom.Time) / 1000.0;
            data = d.Script.LogBytesPerSecond * TransactionStream.HourFactor(now) * seconds * (0.8 + (0.4 * Seeded.Unit(script.Seed, now, 77)));
        }
        else
        {
            content = SetContent.OfPages(d.Image, parent.Position);
            var changed = d.Image.ChangedAt.Count(p => p > parent.Position);
            data = (double)d.Database.SizeBytes * (parent.Id is null ? d.Image.Pages : changed) / d.Image.Pages;
        }

        var bytes = Math.Max(1024, (long)data);
        var set = new BackupSet
        {
            Id = new(id),
            Database = d.Database.Id,
            Kind = kind,
            Parent = parent.Id is null ? null : new(parent.Id),
            FromPosition = kind == SetKind.Log ? d.LogFrom.Position : null,
            ToPosition = d.Image.Position,
            CoversFrom = kind == SetKind.Log ? Instant.FromUnixTimeMilliseconds(d.LogFrom.Time) : null,
            CoversTo = Now,
            FinishedAt = Now,
            DataBytes = bytes,
            RollForward = kind != SetKind.Export,
            Copies = [new BackupCopy(task.Store, Now, null, null, bytes * 2 / 5, CopyState.Unverified)],
        };
        return (set, content);
    }

    private void Finish(SimulatedDatabase d, int index, TaskScript task, BackupSet captured, byte[] content)
    {
        d.Running.Remove(index);
        if (fullStores.Contains(task.Store))
        {
            Tell(d.Database.Id, "failed", $"{captured.Kind.ToString().ToLowerInvariant()} failed: store {task.Store} is full");
            return;
        }

        packs[task.Store].Write(Key(d.Database.Id, captured.Id), content);
        var copy = captured.Copies[0] with { AvailableAt = Now, LockedUntil = LockOf(task, task.Store) };
        var set = captured with { FinishedAt = Now, Copies = [copy] };
        switch (set.Kind)
        {
            case SetKind.Log:
                d.Unlogged.RemoveAll(t => t.Position <= set.ToPosition);
                d.LogFrom = (Math.Max(d.LogFrom.Position, set.ToPosition), Math.Max(d.LogFrom.Time, set.CoversTo.ToUnixTimeMilliseconds()));
                break;
            case SetKind.Full or SetKind.Snapshot:
                d.Full = d.LastSet = (set.Id.Value, set.ToPosition);
                break;
            case SetKind.Incremental:
                d.LastSet = (set.Id.Value, set.ToPosition);
                break;
        }

        Change(set, isNew: true);
        ScheduleRemoval(d, set.Id, copy, task);
        foreach (var store in task.CopyTo)
        {
            CopyElsewhere(d, set, task, store);
        }
    }

    private Instant? LockOf(TaskScript task, Id<Store> store) =>
        task.Lock is { } duration && task.LockIn.Contains(store) ? Now + duration : null;

    private void CopyElsewhere(SimulatedDatabase d, BackupSet set, TaskScript task, Id<Store> store)
    {
        var (from, to) = (Fleet.Stores[set.Copies[0].Store], Fleet.Stores[store]);
        List<string> uses = [StoreKey(from.Id), StoreKey(store)];
        if (from.Site != to.Site)
        {
            uses.Add(LinkKey(from.Site, to.Site));
        }

        network.Start(uses, set.Copies[0].StoredBytes, to.WriteBytesPerSecond, () =>
        {
            if (!d.Sets.TryGetValue(set.Id.Value, out var known) || known.Copies.Any(c => c.Store == store))
            {
                return;
            }

            if (fullStores.Contains(store))
            {
                Tell(d.Database.Id, "failed", $"copy of {set.Id} failed: store {store} is full");
                return;
            }

            try
            {
                packs[store].Write(Key(d.Database.Id, set.Id), packs[from.Id].Read(Key(d.Database.Id, set.Id)));
            }
            catch (Exception e) when (e is InvalidDataException or FileNotFoundException)
            {
                Judge(d.Database.Id, set.Id, from.Id, CopyState.Damaged);
                return;
            }

            var copy = new BackupCopy(store, Now, null, LockOf(task, store), set.Copies[0].StoredBytes, CopyState.Unverified);
            Change(known with { Copies = [.. known.Copies, copy] });
            ScheduleRemoval(d, set.Id, copy, task);
        });
    }

    private void ScheduleRemoval(SimulatedDatabase d, Id<BackupSet> set, BackupCopy copy, TaskScript task)
    {
        var due = copy.AvailableAt + task.Keep;
        due = copy.LockedUntil is { } locked ? Instant.Max(due, locked) : due;
        Schedule(due.ToUnixTimeMilliseconds(), () =>
        {
            if (d.Sets.TryGetValue(set.Value, out var known) && known.Copies.Any(c => c.Store == copy.Store && c.RemovedAt is null))
            {
                packs[copy.Store].Remove(Key(d.Database.Id, set));
                Change(known with { Copies = [.. known.Copies.Select(c => c.Store == copy.Store ? c with { RemovedAt = Now } : c)] });
            }
        });
    }

    private void Verify(SimulatedDatabase d)
    {
        // What was never read, and bases again each time: everything else rests on them.
        var toRead = d.Unverified.Select(id => d.Sets.GetValueOrDefault(id)).OfType<BackupSet>()
            .Union(d.Sets.Values.Where(s => s.Kind is not (SetKind.Log or SetKind.Export))).ToArray();
        d.Unverified.Clear();
        foreach (var set in toRead)
        {
            foreach (var copy in set.Copies.Where(c => c.RemovedAt is null && c.State != CopyState.Damaged))
            {
                var state = CopyState.Good;
                try
                {
                    packs[copy.Store].Read(Key(d.Database.Id, set.Id));
                }
                catch (Exception e) when (e is InvalidDataException or FileNotFoundException)
                {
                    state = CopyState.Damaged;
                }

                Judge(d.Database.Id, set.Id, copy.Store, state);
            }
        }
    }

    /// <summary>Restores a database aside and measures it, as somebody did in the past of this world.</summary>
    private async void Rehearse(SimulatedDatabase d)
    {
        try
        {
            var subject = RecoverySubject.Of(Fleet, d.Database, new DatabaseCatalogue(d.Database.Id, d.Sets.Values));
            var started = Now;
            if (PathFinder.Find(subject, new PathQuestion { Target = started, At = started }).Best is not { } path)
            {
                Tell(d.Database.Id, "rehearsal", "a rehearsal found nothing to restore from");
                return;
            }

            var driver = new StandInDriver(this);
            var instance = new InstanceSpec($"rehearsal-{d.Database.Id}", d.Database.Id, path.Host, "rehearsal");
            await driver.ProvisionAsync(instance, default);
            foreach (var step in path.Steps.Where(s => s.Kind != SetKind.Log))
            {
                await driver.RestoreSetAsync(instance, new SetCopy(step.Set, step.Store), default);
            }

            var logs = path.Steps.Where(s => s.Kind == SetKind.Log).Select(s => new SetCopy(s.Set, s.Store)).ToArray();
            await driver.ApplyLogsAsync(instance, logs, path.Reaches, _ => { }, default);
            await driver.OpenAsync(instance, default);
            var actual = (Now - started).TotalSeconds;
            var checks = await driver.CheckAsync(instance, path.Reaches, null, default);
            await driver.DiscardAsync(instance, default);
            changes.Add(new WorldChange.Rehearsed(
                Now, d.Database.Id, new RehearsalMeasure(started, started, path.Reaches, path.Host, path.Seconds, actual, checks)));
        }
        catch (DriverException e)
        {
            Tell(d.Database.Id, "rehearsal", $"a rehearsal failed: {e.Message}");
        }
    }
}
