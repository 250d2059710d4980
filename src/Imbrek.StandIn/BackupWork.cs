using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Storage;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What backups come to in the world: sets are taken, copied, read and removed as real bytes, in the world's time. Told by what is called when it is over.</summary>
internal sealed class BackupWork(World world)
{
    /// <summary>Work under way; it can be broken off, and then says nothing more.</summary>
    public sealed class Going
    {
        public FairShare.Flow? Flow { get; set; }

        public bool Over { get; set; }
    }

    /// <summary>Bytes and seconds of a set that is being taken, as far as they are known when it begins.</summary>
    public readonly record struct Size(long Data, long Stored, double CoversSeconds);

    /// <summary>Breaks work off without a word.</summary>
    public void Stop(Going going)
    {
        going.Over = true;
        if (going.Flow is { } flow)
        {
            world.Network.Cancel(flow);
        }
    }

    /// <summary>Takes a set.</summary>
    /// <param name="run">The run that takes it.</param>
    /// <param name="spec">What is taken.</param>
    /// <param name="size">Told how much it is about, once that is known.</param>
    /// <param name="taken">Told the set, or why there was nothing to take.</param>
    /// <param name="failed">Told why not.</param>
    public Going Take(Guid run, TakeSpec spec, Action<Size> size, Action<BackupSet?, string?> taken, Action<DriverException> failed)
    {
        var going = new Going();
        var d = Living(new(spec.Database));
        if (spec.Kind == SetKind.Log && !world.KeepsLog(d.Database))
        {
            return Fail("the database discards its log");
        }

        if (!world.Fleet.Engines[d.Database.Engine].CanTake(spec.Kind))
        {
            return Fail($"{d.Database.Engine} cannot take a {spec.Kind.ToString().ToLowerInvariant()}");
        }

        if (spec.Key is { } key && world.Fleet.Hosts[d.Database.Host].HasKey(key) == false)
        {
            return Fail($"key {key} is not on {d.Database.Host}");
        }

        if ((spec.Kind == SetKind.Differential && d.Full.Id is null) || (spec.Kind == SetKind.Incremental && d.LastSet.Id is null))
        {
            taken(null, "there is no base to build on yet");
            return going;
        }

        if (!world.Fleet.Stores.ContainsKey(new(spec.Store)) || Routes.Between(world.Fleet, d.Database.Host, new Id<Store>(spec.Store)) is not { } way)
        {
            return Fail($"no link leads from {d.Database.Host} to {spec.Store}");
        }

        var (set, content) = Capture(d, spec);
        var stored = set.Copies[0].StoredBytes;
        size(new Size(set.DataBytes, stored, set.CoversFrom is { } covers ? (set.CoversTo - covers).TotalSeconds : 0));
        var cap = RunPace.Cap(world.Fleet.Hosts[d.Database.Host], world.Fleet.Engines[d.Database.Engine], spec.Compression, spec.Kind, stored, SizeNow(d));
        world.After(OverheadMs(run), () =>
        {
            if (going.Over)
            {
                return;
            }

            if (world.Faults.IsRefused(d.Database.Id))
            {
                failed(new DriverException(DriverProblem.Refused, "the sign-in for backups has expired", againMayHelp: true));
                return;
            }

            if (world.Faults.IsDown(d.Database.Host))
            {
                failed(new DriverException(DriverProblem.Refused, $"host {d.Database.Host} is down", againMayHelp: true));
                return;
            }

            if (world.Faults.IsHanging(d.Database.Id))
            {
                // Only its time limit ends it, or somebody.
                return;
            }

            going.Flow = Move(way, stored, cap, () => Written(d, spec, set, content, taken, failed));
        });
        return going;

        Going Fail(string why)
        {
            failed(new DriverException(DriverProblem.Refused, why));
            return going;
        }
    }

    /// <summary>Copies one set to one more store; a copy that is there is found done.</summary>
    public Going Copy(Id<Database> database, Id<BackupSet> id, Id<Store> to, double? lockSeconds, Action<BackupSet, long> done, Action<DriverException> failed)
    {
        var going = new Going();
        var d = Living(database);
        if (!d.Sets.TryGetValue(id.Value, out var set) || set.Copies.FirstOrDefault(c => c.RemovedAt is null && c.State != CopyState.Damaged) is not { } source)
        {
            failed(new DriverException(DriverProblem.CopyUnreachable, $"no whole copy of {id} is left", new SetCopy(id, to), againMayHelp: true));
            return going;
        }

        if (set.Copies.Any(c => c.Store == to))
        {
            done(set, 0);
            return going;
        }

        if (Routes.Between(world.Fleet, source.Store, to) is not { } way)
        {
            failed(new DriverException(DriverProblem.Refused, $"no link leads from {source.Store} to {to}", againMayHelp: true));
            return going;
        }

        going.Flow = Move(way, source.StoredBytes, world.Fleet.Stores[to].WriteBytesPerSecond, () =>
        {
            var key = World.Key(database, id);
            if (!d.Sets.TryGetValue(id.Value, out var known) || known.Copies.Any(c => c.Store == to))
            {
                done(known ?? set, 0);
                return;
            }

            if (world.Copies.IsFull(to))
            {
                failed(new DriverException(DriverProblem.NoRoom, $"store {to} is full", againMayHelp: true));
                return;
            }

            try
            {
                world.Copies.Pack(to).Write(key, world.Copies.Pack(source.Store).Read(key));
            }
            catch (Exception e) when (e is InvalidDataException or FileNotFoundException)
            {
                world.Copies.Judge(database, id, source.Store, CopyState.Damaged);
                failed(new DriverException(DriverProblem.CopyDamaged, $"the copy of {id} in {source.Store} is damaged", new SetCopy(id, source.Store), againMayHelp: true));
                return;
            }

            var now = known with { Copies = [.. known.Copies, new BackupCopy(to, world.Now, null, LockOf(lockSeconds, to), source.StoredBytes, CopyState.Unverified)] };
            world.Change(now);
            done(now, source.StoredBytes);
        });
        return going;
    }

    /// <summary>Has something happen after what a run takes beside moving bytes.</summary>
    public Going Later(Guid run, Action done)
    {
        var going = new Going();
        world.After(OverheadMs(run), () =>
        {
            if (!going.Over)
            {
                done();
            }
        });
        return going;
    }

    /// <summary>Reads the database itself.</summary>
    public Going Check(Id<Database> database, Action<long> done)
    {
        var d = Living(database);
        var size = SizeNow(d);
        return new Going { Flow = Move([Routes.Of(d.Database.Host)], size, double.PositiveInfinity, () => done((long)size)) };
    }

    /// <summary>Reads copies back; says of each set how it is, and how many bytes were read.</summary>
    public IReadOnlyList<Taken> ReadBack(Id<Database> database, IReadOnlyList<SetCopy> copies)
    {
        var d = Living(database);
        var read = new Dictionary<string, long>();
        foreach (var copy in copies.Where(c => d.Sets.ContainsKey(c.Set.Value)))
        {
            if (d.Sets[copy.Set.Value].Copies.FirstOrDefault(c => c.Store == copy.Store && c.RemovedAt is null) is { } there)
            {
                world.Copies.Judge(database, copy.Set, copy.Store, Read(d, copy.Set, copy.Store));
                read[copy.Set.Value] = read.GetValueOrDefault(copy.Set.Value) + there.StoredBytes;
            }
        }

        return [.. read.Select(r => new Taken(d.Sets[r.Key], 0, r.Value))];
    }

    /// <summary>Removes copies; says of each set how it is, and how many bytes went.</summary>
    public IReadOnlyList<Taken> Remove(Id<Database> database, IReadOnlyList<SetCopy> copies)
    {
        var d = Living(database);
        var removed = new List<Taken>();
        foreach (var group in copies.GroupBy(c => c.Set.Value).Where(g => d.Sets.ContainsKey(g.Key)))
        {
            var (set, stores) = (d.Sets[group.Key], group.Select(g => g.Store).ToHashSet());
            var bytes = set.Copies.Where(c => stores.Contains(c.Store) && c.RemovedAt is null).Sum(c => c.StoredBytes);
            foreach (var store in stores)
            {
                world.Copies.Pack(store).Remove(World.Key(database, set.Id));
            }

            var now = set with { Copies = [.. set.Copies.Select(c => stores.Contains(c.Store) && c.RemovedAt is null ? c with { RemovedAt = world.Now } : c)] };
            world.Change(now);
            removed.Add(new Taken(now, 0, bytes));
        }

        return removed;
    }

    private SimulatedDatabase Living(Id<Database> database)
    {
        var d = world[database];
        world.Live(d);
        return d;
    }

    private long OverheadMs(Guid run) => 1500 + (long)(Draw.Unit(world.Seed, world.NowMs, run.GetHashCode()) * 4000);

    private FairShare.Flow Move(IEnumerable<string> uses, double bytes, double cap, Action done) =>
        world.Network.Start(uses.Select(u => world.Network[u]), bytes, cap, done);

    private double SizeNow(SimulatedDatabase d) =>
        Math.Max(1, d.Database.SizeBytes + ((d.Database.GrowthBytesPerDay ?? 0) * (world.NowMs - world.MadeAt.ToUnixTimeMilliseconds()) / 86_400_000.0));

    private (BackupSet Set, byte[] Content) Capture(SimulatedDatabase d, TakeSpec spec)
    {
        var kind = spec.Kind;
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
            var seconds = (world.NowMs - d.LogFrom.Time) / 1000.0;
            data = d.Script.LogBytesPerSecond * TransactionStream.HourFactor(world.NowMs) * seconds * (0.8 + (0.4 * Draw.Unit(world.Seed, world.NowMs, 77)));
        }
        else
        {
            content = SetContent.OfPages(d.Image, parent.Position);
            var changed = d.Image.ChangedAt.Count(p => p > parent.Position);
            data = SizeNow(d) * (parent.Id is null ? d.Image.Pages : changed) / d.Image.Pages;
        }

        var bytes = Math.Max(1024, (long)data);
        var id = SetNaming.Of(spec.Naming, d.Database.Id, kind, world.Now, ZoneOf(d));
        id = d.Sets.ContainsKey(id.Value) ? new(id.Value + "-2") : id;
        var packs = spec.Compression == Compression.Off ? 1 : d.Script.Packs;
        return (
            new BackupSet
            {
                Id = id,
                Database = d.Database.Id,
                Kind = kind,
                Branch = d.Branch,
                Parent = parent.Id is null ? null : new(parent.Id),
                FromPosition = kind == SetKind.Log ? d.LogFrom.Position : null,
                ToPosition = d.Image.Position,
                CoversFrom = kind == SetKind.Log ? Instant.FromUnixTimeMilliseconds(d.LogFrom.Time) : null,
                CoversTo = world.Now,
                FinishedAt = world.Now,
                DataBytes = bytes,
                OutsideChain = spec.OutsideChain,
                RollForward = kind != SetKind.Export,
                Key = spec.Key,
                Copies = [new BackupCopy(new(spec.Store), world.Now, null, null, (long)(bytes * Math.Min(1, spec.Compression.Ratio() * packs)), CopyState.Unverified)],
            },
            spec.Key is { } key ? SetEncryption.Encrypt(content, world.Seed, key, World.Key(d.Database.Id, id)) : content);
    }

    private DateTimeZone ZoneOf(SimulatedDatabase d) => DateTimeZoneProviders.Tzdb[world.Fleet.Sites[world.Fleet.Hosts[d.Database.Host].Site].TimeZone];

    private void Written(SimulatedDatabase d, TakeSpec spec, BackupSet captured, byte[] content, Action<BackupSet?, string?> taken, Action<DriverException> failed)
    {
        var store = new Id<Store>(spec.Store);
        if (world.Copies.IsFull(store))
        {
            failed(new DriverException(DriverProblem.NoRoom, $"store {spec.Store} is full", againMayHelp: true));
            return;
        }

        world.Copies.Pack(store).Write(World.Key(d.Database.Id, captured.Id), content);
        var state = spec.ReadBack ? Read(d, captured.Id, store) : CopyState.Unverified;
        var copy = captured.Copies[0] with { AvailableAt = world.Now, LockedUntil = LockOf(spec.LockSeconds, store), State = state };
        var set = captured with { FinishedAt = world.Now, Copies = [copy] };
        if (set.Kind == SetKind.Log)
        {
            d.Unlogged.RemoveAll(t => t.Position <= set.ToPosition);
            d.LogFrom = (Math.Max(d.LogFrom.Position, set.ToPosition), Math.Max(d.LogFrom.Time, set.CoversTo.ToUnixTimeMilliseconds()));
        }
        else if (!set.OutsideChain && set.Kind is (SetKind.Full or SetKind.Snapshot))
        {
            d.Full = d.LastSet = (set.Id.Value, set.ToPosition);
        }
        else if (!set.OutsideChain && set.Kind == SetKind.Incremental)
        {
            d.LastSet = (set.Id.Value, set.ToPosition);
        }

        world.Change(set);
        taken(set, null);
    }

    private Instant? LockOf(double? seconds, Id<Store> store) =>
        seconds is { } s && world.Fleet.Stores[store].Locks ? world.Now + Duration.FromSeconds(s) : null;

    private CopyState Read(SimulatedDatabase d, Id<BackupSet> set, Id<Store> store)
    {
        try
        {
            world.Copies.Pack(store).Read(World.Key(d.Database.Id, set));
            return CopyState.Good;
        }
        catch (Exception e) when (e is InvalidDataException or FileNotFoundException)
        {
            return CopyState.Damaged;
        }
    }
}
