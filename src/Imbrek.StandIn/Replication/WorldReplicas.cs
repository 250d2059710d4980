using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using NodaTime;

namespace Imbrek.StandIn.Replication;

/// <summary>
/// All replicas of the world. Each is looked at as often as it is said to be; while the world makes history, and nothing changes in how one lags, only each hour and
/// whenever something happens, which comes to the same.
/// </summary>
public sealed class WorldReplicas
{
    private const long HourMs = 3_600_000;

    private readonly World world;
    private readonly Dictionary<Id<Replica>, SimulatedReplica> all = [];
    private readonly Dictionary<Id<Replica>, Watcher> watchers = [];
    private readonly List<LagSample> samples = [];

    /// <summary>What replicas remembered when the world was opened, until they are in it.</summary>
    private readonly Dictionary<string, KeptReplica> kept = [];

    internal WorldReplicas(World world)
    {
        this.world = world;
        Voting = new Voting(world);
    }

    /// <summary>Who has one take over by itself.</summary>
    internal Voting Voting { get; }

    internal SimulatedReplica this[Id<Replica> id] => all[id];

    internal SimulatedReplica? Find(Id<Replica> id) => all.GetValueOrDefault(id);

    internal IEnumerable<SimulatedReplica> All => all.Values;

    /// <summary>The ways on which log of a database is shipped in stages.</summary>
    internal IReadOnlyList<StagedFeed> StagedOf(Id<Database> database) => [.. all.Values.Where(r => r.Replica.Database == database).Select(r => r.Feed).OfType<StagedFeed>()];

    /// <summary>Changes replicas and groups to those of a fleet, as far as they lie in the world. A replica that is new in it holds nothing yet.</summary>
    public void Set(FleetModel changed)
    {
        lock (world.Gate)
        {
            var fleet = world.Fleet;
            Replica[] here = [.. changed.ReplicaList.Where(r => world.Has(r.Database) && !(r.Until <= world.Now) && r.Place.Hosts.All(fleet.Hosts.ContainsKey) && (r.Place is not ReplicaPlace.OnArray a || fleet.Arrays.ContainsKey(a.Array)))];
            var known = here.Select(r => r.Id).ToHashSet();
            world.Fleet = fleet.With(
                replicas: here.Where(r => r.From is not { } from || known.Contains(from)),
                groups: changed.GroupList.Where(g => g.Databases.All(world.Has) && g.Voters.All(fleet.Hosts.ContainsKey)));
            Load(world.Fleet);
        }
    }

    /// <summary>Compares a replica with what its source was at the position it has applied, computed from the seed alone.</summary>
    public ReplicaComparison Compare(Id<Replica> replica)
    {
        lock (world.Gate)
        {
            var r = all[replica];
            Look(r);
            return new(r.AppliedPosition, r.Image.Digest(), r.Source.StateAtPosition(r.AppliedPosition, r.Branch).Digest());
        }
    }

    /// <summary>Where a replica and its source stand; null when there is none of that name.</summary>
    public ReplicaPositions? PositionsOf(Id<Replica> replica)
    {
        lock (world.Gate)
        {
            if (!all.TryGetValue(replica, out var r))
            {
                return null;
            }

            Look(r);
            var received = r.Feed.ReceivedTo(world.NowMs);
            string Text(long position) => position.ToString(System.Globalization.CultureInfo.InvariantCulture);
            var down = world.Faults.IsDown(r.Source.Database.Host);
            return new(
                world.Now,
                down ? null : Text(r.Source.Image.Position),
                Text(r.ReceivedPosition),
                Text(r.AppliedPosition),
                down ? null : (long)r.Flow.Bytes(received, world.NowMs),
                (long)r.Pending,
                down ? null : r.Sent.Count,
                down ? null : r.Sent.Count + r.Waiting.Count);
        }
    }

    /// <summary>Up to when a replica has received, and applied, everything.</summary>
    public (Instant Received, Instant Applied) Reached(Id<Replica> replica)
    {
        lock (world.Gate)
        {
            var r = all[replica];
            Look(r);
            return (Instant.FromUnixTimeMilliseconds((long)Math.Floor(r.Feed.ReceivedTo(world.NowMs))), Instant.FromUnixTimeMilliseconds((long)Math.Floor(r.AppliedTo)));
        }
    }

    /// <summary>What is known of one replica by looking at it.</summary>
    private sealed class Watcher
    {
        public LagWatch.Watched? Known { get; set; }

        /// <summary>What was seen last, when nothing changes from there on.</summary>
        public LagSample? Steady { get; set; }

        public List<LagStretch> Kept { get; } = [];

        public long Version { get; set; }

        public double Reserved { get; set; }

        public string? ReservedOn { get; set; }
    }

    /// <summary>Has replicas go on with what they remembered, once they are in the world again: some the script knows nothing of.</summary>
    internal void Resume(IReadOnlyDictionary<string, KeptReplica> remembered)
    {
        foreach (var (id, replica) in remembered)
        {
            kept[id] = replica;
        }
    }

    /// <summary>Has the replicas of a fleet in the world; those that are new in it hold nothing, but at the beginning of time.</summary>
    internal void Load(FleetModel fleet)
    {
        foreach (var gone in all.Values.Where(r => !fleet.Replicas.ContainsKey(r.Replica.Id)).ToArray())
        {
            Remove(gone);
        }

        // Who is fed by another comes after it.
        var changed = new HashSet<Id<Replica>>();
        foreach (var replica in fleet.ReplicaList.Where(r => world.Has(r.Database)).OrderBy(r => Depth(fleet, r)))
        {
            if (all.TryGetValue(replica.Id, out var there) && Same(there.Replica, replica) && (replica.From is not { } from || !changed.Contains(from)))
            {
                continue;
            }

            changed.Add(replica.Id);
            Put(fleet, replica, there is not null ? there.Remember(world.NowMs) : kept.GetValueOrDefault(replica.Id.Value), atBirth: world.IsBorn);
            kept.Remove(replica.Id.Value);
        }
    }

    /// <summary>What the replicas remember.</summary>
    internal Dictionary<string, KeptReplica> Remember()
    {
        var remembered = new Dictionary<string, KeptReplica>(kept);
        foreach (var (id, r) in all)
        {
            remembered[id.Value] = r.Remember(world.NowMs);
        }

        return remembered;
    }

    /// <summary>What was seen since it was last asked, in order of time.</summary>
    public IReadOnlyList<LagSample> TakeSamples()
    {
        lock (world.Gate)
        {
            LagSample[] taken = [.. samples];
            samples.Clear();
            return taken;
        }
    }

    /// <summary>What a watcher that was there all the time has made of history.</summary>
    public IReadOnlyList<LagStretch> History
    {
        get
        {
            lock (world.Gate)
            {
                LookAtAll();
                return [.. watchers.Values.SelectMany(w => w.Known?.Stretch is { } last ? w.Kept.Append(last) : w.Kept)];
            }
        }
    }

    /// <summary>Somebody stops what a replica receives.</summary>
    internal void Hold(Id<Replica> id) => Around(() =>
    {
        if (all.TryGetValue(id, out var r))
        {
            r.Feed.Held = true;
        }
    });

    /// <summary>A replica is one no more: what it was worth until then stays known, and what is seen of another of its name does not go on from there.</summary>
    internal void Ended(Id<Replica> id)
    {
        if (watchers.TryGetValue(id, out var watcher))
        {
            if (watcher.Known?.Stretch is { } last)
            {
                watcher.Kept.Add(last);
            }

            (watcher.Known, watcher.Steady) = (null, null);
        }
    }

    /// <summary>Something is about to change in the world, and is changed: each replica is looked at before and after.</summary>
    internal void Around(Action change)
    {
        LookAtAll();
        change();
        Disturb();
    }

    /// <summary>Something has changed: all that follows from it does at once.</summary>
    internal void Disturb()
    {
        foreach (var r in all.Values)
        {
            Begin(r);
        }
    }

    internal void BecomesUnusable(SimulatedReplica r, string why)
    {
        if (r.Unusable is null)
        {
            r.Unusable = why;
            world.Tell(r.Replica.Database, "replica", $"{r.Replica.Id} can no longer be used: {why}");
        }
    }

    /// <summary>No replica of a database can follow it any more; each is named.</summary>
    internal IReadOnlyList<string> CannotFollow(SimulatedDatabase d, string why)
    {
        foreach (var r in d.Replicas)
        {
            BecomesUnusable(r, why);
        }

        return [.. d.Replicas.Select(r => $"{r.Replica.Id}: {why}")];
    }

    /// <summary>Has a replica do no more than before, but look at it now.</summary>
    internal void Look(SimulatedReplica r)
    {
        var now = world.NowMs;
        world.Live(r.Source);
        r.Feed.Update(now);
        r.Bring(now);
        ReserveHost(r);
        var watcher = watchers[r.Replica.Id];
        if (r.Replica.Place is ReplicaPlace.OnHost { Host: var host } && world.Faults.IsDown(host))
        {
            // Nobody answers.
            Flush(r, watcher, now);
            return;
        }

        var sample = Sample(r, now);
        if (!world.InHistory)
        {
            samples.Add(sample);
            return;
        }

        Flush(r, watcher, now);
        if (r.Feed.Steady && r.AppliedAll && r.Feed.StandsSince is null)
        {
            watcher.Steady = sample;
            return;
        }

        if (r.Feed.StandsSince is null || watcher.Known is null || watcher.Known.Sample.ReceivedTo != sample.ReceivedTo || watcher.Known.Stretch?.To == watcher.Known.Sample.At)
        {
            var next = LagWatch.Next(r.Replica, StartOf(r), watcher.Known, sample);
            if (watcher.Known?.Stretch is { } was && was.From != next.Stretch?.From)
            {
                watcher.Kept.Add(was);
            }

            watcher.Known = next;
        }
    }

    private void LookAtAll()
    {
        foreach (var r in all.Values)
        {
            Look(r);
        }
    }

    /// <summary>Whether two say the same: which hosts open an array is a list of its own each time it is read.</summary>
    private static bool Same(Replica one, Replica other) =>
        one with { Place = other.Place } == other
        && (one.Place == other.Place || (one.Place is ReplicaPlace.OnArray a && other.Place is ReplicaPlace.OnArray b && a.Array == b.Array && a.OpensOn.SequenceEqual(b.OpensOn)));

    private static int Depth(FleetModel fleet, Replica replica) => replica.From is { } from ? 1 + Depth(fleet, fleet.Replicas[from]) : 0;

    /// <summary>
    /// A replica becomes the primary, on a host: a new branch begins where it stands, what the old primary committed beyond is not on it, and the other replicas follow if they hold nothing
    /// beyond.
    /// </summary>
    /// <param name="r">The replica.</param>
    /// <param name="host">The host it runs on from now on.</param>
    /// <param name="began">When taking over began, milliseconds.</param>
    internal Promotion Promote(SimulatedReplica r, Id<Host> host, long began, Instant? upTo = null)
    {
        var (d, now) = (r.Source, world.NowMs);
        Look(r);
        var received = r.Feed.ReceivedTo(now);
        if (upTo?.ToUnixTimeMilliseconds() is { } stop && stop < received)
        {
            if (r.StopAt(stop) is { } cannot)
            {
                throw new DriverException(DriverProblem.Refused, cannot);
            }

            received = stop;
        }
        else
        {
            r.ApplyAll();
        }

        var (parent, position, forkAt) = (d.Branch, r.AppliedPosition, r.Image.Time);
        var (lost, lostUpTo) = (d.Committed((long)Math.Floor(received), now), d.Image.Time);
        var others = TakeOut(d, r);
        var branch = new Branch(parent + 1, parent, position, Instant.FromUnixTimeMilliseconds(forkAt), world.Now, d.Database.Host);
        d.TakeOver(r.Image, host, branch, lostNothing: lost == 0);
        var left = Follow(others, branch);
        var fleet = world.Fleet;
        world.Fleet = fleet.With(
            fleet.Databases.Select(x => x.Id == d.Database.Id ? d.Database : x),
            fleet.ReplicaList.Where(x => x.Id != r.Replica.Id).Select(x => x.From == r.Replica.Id ? x with { From = null } : x));
        PutBack(others);
        world.KeepLogs();
        world.Tell(d.Database.Id, "replica", $"{r.Replica.Id} has taken over on {host}; branch {branch.Id} begins at position {position}");
        return new Promotion((now - began) / 1000.0, branch, host, Math.Max(0, (lostUpTo - forkAt) / 1000.0), lost, left);
    }

    /// <summary>What was restored takes the place of a database, where it is or on another host: a new branch begins, and replicas follow if they hold nothing beyond.</summary>
    /// <param name="d">The database.</param>
    /// <param name="image">What was restored.</param>
    /// <param name="parent">The branch it was restored from.</param>
    /// <param name="began">When putting it in place began, milliseconds.</param>
    /// <param name="host">Where it lives from now on.</param>
    /// <param name="loaded">Whether it was loaded from a dump: what the load wrote is in no log, and nobody follows.</param>
    internal Promotion PutBack(SimulatedDatabase d, PageImage image, int parent, long began, Id<Host> host, bool loaded)
    {
        var (lost, lostUpTo, version) = (d.Committed(image.Time, world.NowMs), d.Image.Time, d.Database.Version);
        var others = TakeOut(d, null);
        var branch = new Branch(d.Database.Branches.Select(b => b.Id).Append(1).Max() + 1, parent, image.Position, Instant.FromUnixTimeMilliseconds(image.Time), world.Now, host == d.Database.Host ? null : d.Database.Host);
        if (host == d.Database.Host)
        {
            d.GoOnAs(image, branch);
        }
        else
        {
            d.TakeOver(image, host, branch, lostNothing: lost == 0);
        }

        if (loaded)
        {
            d.BeginLogAnew(world.NowMs, $"loaded on {host}");
        }

        var left = Follow(others, branch, loaded ? "its primary was loaded from a dump: it must be seeded anew" : null);
        world.Fleet = world.Fleet.With(world.Fleet.Databases.Select(x => x.Id == d.Database.Id ? d.Database : x));
        PutBack(others);
        world.KeepLogs();
        world.Tell(d.Database.Id, "restored", $"{(branch.LeftHost is null ? "put back in place to" : $"moved to {host} as of")} {Instants.Write(branch.ForkAt)}; branch {branch.Id} begins at position {branch.ForkPosition}");
        return new Promotion((world.NowMs - began) / 1000.0, branch, d.Database.Host, Math.Max(0, (lostUpTo - image.Time) / 1000.0), lost, left, d.Database.Version == version ? null : d.Database.Version);
    }

    /// <summary>Has replicas follow a new branch; those that hold more than it began with cannot, or none where a reason is given, and are named.</summary>
    private List<Promotion.LeftBehind> Follow(IEnumerable<(SimulatedReplica Replica, double ReceivedTo)> others, Branch branch, string? whyNot = null)
    {
        var left = new List<Promotion.LeftBehind>();
        foreach (var (other, _) in others)
        {
            if ((whyNot ?? other.Follow(branch.Id, branch.ForkPosition)) is { } why)
            {
                BecomesUnusable(other, why);
                left.Add(new(other.Replica.Id, why));
            }
        }

        return left;
    }

    /// <summary>Takes all replicas of a database out, because its primary is to be another: one of them, or what they are fed by.</summary>
    /// <returns>The others, as they were.</returns>
    private (SimulatedReplica Replica, double ReceivedTo)[] TakeOut(SimulatedDatabase source, SimulatedReplica? promoted)
    {
        var now = world.NowMs;
        (SimulatedReplica, double)[] others = [.. source.Replicas.Where(r => r != promoted).Select(r => (r, r.Feed.ReceivedTo(now)))];
        foreach (var r in source.Replicas.ToArray())
        {
            Remove(r);
        }

        return others;
    }

    /// <summary>Has them follow the new primary from where they were.</summary>
    private void PutBack(IReadOnlyList<(SimulatedReplica Replica, double ReceivedTo)> others)
    {
        foreach (var (r, received) in others.OrderBy(o => Depth(world.Fleet, world.Fleet.Replicas[o.Replica.Replica.Id])))
        {
            Put(world.Fleet, world.Fleet.Replicas[r.Replica.Id], r.Remember(world.NowMs) with { ReceivedTo = received, StandsSince = null, Branch = r.Branch }, atBirth: false, r);
        }
    }

    private void Put(FleetModel fleet, Replica replica, KeptReplica? kept, bool atBirth, SimulatedReplica? before = null)
    {
        if (before is null && all.TryGetValue(replica.Id, out before))
        {
            Remove(before);
        }

        kept ??= atBirth ? null : AsItRanBefore(replica);
        var r = new SimulatedReplica(world, replica, world[replica.Database], kept);
        if (kept is null && !atBirth)
        {
            r.Unusable = Unseeded;
        }

        if (before is not null)
        {
            r.Take(before);
        }

        else if (kept is not null)
        {
            // What it held when the world was kept is computed again.
            r.Source.Retell(r.Hear);
        }

        r.Source.Replicas.Add(r);
        all[replica.Id] = r;
        watchers.TryAdd(replica.Id, new Watcher());
        var feeder = replica.From is { } from ? all[from].Feed : null;
        if (replica.Mode == ReplicaMode.Shipped)
        {
            _ = new StagedFeed(world, r, feeder, kept);
        }
        else
        {
            // What lies on one array and belongs together comes together.
            SimulatedReplica[] beside = replica.Place is ReplicaPlace.OnArray a && fleet.GroupOf(replica.Database) is { } group && r.Unusable is null
                ? [.. all.Values.Where(x => x != r && x.Unusable is null && x.Replica.Place is ReplicaPlace.OnArray b && a.Array == b.Array && fleet.GroupOf(x.Replica.Database) == group)]
                : [];
            KeptReplica[] was = [.. beside.Select(x => x.Remember(world.NowMs)), .. kept is null ? [] : new[] { kept }];
            foreach (var old in beside.Select(x => x.Feed).Distinct().ToArray())
            {
                old.End();
            }

            _ = new StreamFeed(world, [.. beside, r], feeder, kept is null && atBirth ? null : was.MinBy(x => x.ReceivedTo));
        }

        Begin(r);
    }

    /// <summary>Where it ran before, kept out, all is as the new primary began: it goes on from there as soon as it is told whom to follow. Null where it is not so.</summary>
    private KeptReplica? AsItRanBefore(Replica replica) =>
        world[replica.Database] is { Former: { Same: true, KeptOut: true } former, Database.Branches: [.., var began] } && replica.Place is ReplicaPlace.OnHost { Host: var host } && host.Value == former.Host && replica.Mode != ReplicaMode.Shipped
            ? new()
            {
                ReceivedTo = began.StartsAt.ToUnixTimeMilliseconds(),
                AppliedTo = began.StartsAt.ToUnixTimeMilliseconds(),
                ReceivedPosition = began.ForkPosition,
                AppliedPosition = began.ForkPosition,
                Branch = began.Id,
            }
            : null;

    /// <summary>What a replica is until something was brought into it.</summary>
    internal const string Unseeded = "it is not seeded yet";

    /// <summary>Takes a replica out of the world.</summary>
    internal void Remove(SimulatedReplica r)
    {
        all.Remove(r.Replica.Id);
        r.Source.Replicas.Remove(r);
        watchers[r.Replica.Id].Version++;
        r.Feed.End();
        Reserve(watchers[r.Replica.Id], null, 0);
    }

    /// <summary>Looks at a replica from now on, each time it is due.</summary>
    private void Begin(SimulatedReplica r)
    {
        var watcher = watchers[r.Replica.Id];
        var version = ++watcher.Version;
        world.Schedule(world.NowMs, Tick);

        void Tick()
        {
            if (watcher.Version != version)
            {
                return;
            }

            Look(r);
            var (now, interval) = (world.NowMs, Math.Max(1000, (long)(r.Replica.WatchSeconds * 1000)));
            var quiet = world.InHistory && r.Feed.Steady && (r.AppliedAll || r.WhyNotApplying(now) is not null) && (r.Feed.StandsSince is not { } since || now - since > HourMs / 4);
            world.Schedule(quiet ? ((now / HourMs) + 1) * HourMs : now + interval, Tick);
        }
    }

    /// <summary>Takes in the looks since the last one that changed nothing.</summary>
    private static void Flush(SimulatedReplica r, Watcher watcher, long now)
    {
        if (watcher.Steady is { } first)
        {
            watcher.Steady = null;
            watcher.Known = LagWatch.Steady(r.Replica, StartOf(r), watcher.Known, first, Instant.FromUnixTimeMilliseconds(now), watcher.Kept.Add);
        }
    }

    private static Instant StartOf(SimulatedReplica r) => r.Source.Database.StartOf(r.Branch);

    private LagSample Sample(SimulatedReplica r, long now)
    {
        // A clock that is wrong makes everything that is compared with it worth less by as much.
        var doubt = 1000 * (Math.Abs(world.Faults.ClockOf(r.Source.Database.Host)) + (r.Replica.Place is ReplicaPlace.OnHost { Host: var host } ? Math.Abs(world.Faults.ClockOf(host)) : 0));
        var received = (long)Math.Floor(Math.Min(now, r.Feed.ReceivedTo(now)) - doubt);
        var applied = Math.Min(received, (long)Math.Floor(r.AppliedTo - doubt));
        var every = (long)(r.Replica.WatchSeconds * 1000);
        return new LagSample(
            r.Replica.Id,
            r.Branch,
            world.Now,
            Instant.FromUnixTimeMilliseconds(received),
            Instant.FromUnixTimeMilliseconds(applied),
            (long)Math.Ceiling(r.Pending),
            r.ReceivedPosition,
            doubt == 0 && r.Feed.InStep && (r.Feed as StreamFeed)?.InStepSince <= now - every,
            r.Unusable ?? r.Feed.Why ?? r.WhyNotApplying(now),
            r.Unusable is not null);
    }

    /// <summary>Applying takes of what the host can write.</summary>
    private void ReserveHost(SimulatedReplica r) =>
        Reserve(watchers[r.Replica.Id], r.Replica.Place is ReplicaPlace.OnHost { Host: var host } ? Routes.Of(host) : null, r.ApplyRate);

    private void Reserve(Watcher w, string? on, double rate)
    {
        if (w.ReservedOn is { } was && (was != on || Math.Abs(w.Reserved - rate) > 1))
        {
            world.Network.Reserve(world.Network[was], -w.Reserved);
            (w.ReservedOn, w.Reserved) = (null, 0);
        }

        if (w.ReservedOn is null && on is not null && rate > 0)
        {
            world.Network.Reserve(world.Network[on], rate);
            (w.ReservedOn, w.Reserved) = (on, rate);
        }
    }
}
