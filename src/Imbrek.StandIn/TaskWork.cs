using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Storage;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>What one attempt of a task does in the world: takes sets as real bytes, copies, reads back, removes, restores aside.</summary>
internal sealed class TaskWork(World world, Action<Order> made)
{
    /// <summary>Begins an attempt; tells once how it ended, unless it is stopped before.</summary>
    public void Begin(Order order, Action<Order, TaskOutcome> ended)
    {
        var serial = ++order.Serial;
        var d = world[order.Database.Id];
        d.LiveUntil(world.NowMs, t => world.Marked(d, t));
        if (order.Task.TimeLimit is { } limit)
        {
            world.Schedule(world.NowMs + (long)limit.TotalMilliseconds, () => End(new TaskOutcome.Fails($"it took longer than its limit of {PlainDuration.Of(limit.TotalSeconds)}", true)));
        }

        switch (order.Task.Kind)
        {
            case TaskKind.Verify:
                world.After(OverheadMs(d, order), () => End(Verify(d, order)));
                break;
            case TaskKind.CleanUp:
                world.After(OverheadMs(d, order), () => End(CleanUp(d, order)));
                break;
            case TaskKind.IntegrityCheck:
                order.DataBytes = (long)SizeNow(d);
                Move(order, [Routes.Of(d.Database.Host)], SizeNow(d), double.PositiveInfinity, () => End(new TaskOutcome.Goes("no damage found")));
                break;
            case TaskKind.CopyElsewhere:
                CopyElsewhere(d, order, End);
                break;
            case TaskKind.TestRestore:
                TestRestore(d, End);
                break;
            default:
                Take(d, order, End);
                break;
        }

        void End(TaskOutcome outcome)
        {
            if (order.Serial == serial)
            {
                Stop(order);
                ended(order, outcome);
            }
        }
    }

    /// <summary>Ends an attempt without a word.</summary>
    public void Stop(Order order)
    {
        order.Serial++;
        order.Flows.ForEach(world.Network.Cancel);
        order.Flows.Clear();
    }

    private long OverheadMs(SimulatedDatabase d, Order order) =>
        1500 + (long)(Draw.Unit(world.Seed, world.NowMs, order.Id.GetHashCode()) * 4000);

    private void Move(Order order, IEnumerable<string> uses, double bytes, double cap, Action done) =>
        order.Flows.Add(world.Network.Start(uses.Select(u => world.Network[u]), bytes, cap, done));

    private double SizeNow(SimulatedDatabase d) =>
        Math.Max(1, d.Database.SizeBytes + ((d.Database.GrowthBytesPerDay ?? 0) * (world.NowMs - world.MadeAt.ToUnixTimeMilliseconds()) / 86_400_000.0));

    // ---- taking sets ----
    private void Take(SimulatedDatabase d, Order order, Action<TaskOutcome> end)
    {
        var (task, kind) = (order.Task, order.Task.Kind.Makes()!.Value);
        if (order.Set is { } made && d.Sets.TryGetValue(made.Value, out var there))
        {
            CopyOn(d, order, there, end);
            return;
        }

        if (kind == SetKind.Log && d.Database.LogMode == LogMode.Discarded)
        {
            end(new TaskOutcome.Fails("the database discards its log", false));
            return;
        }

        if (!world.Fleet.Engines[d.Database.Engine].CanTake(kind))
        {
            end(new TaskOutcome.Fails($"{d.Database.Engine} cannot take a {kind.ToString().ToLowerInvariant()}", false));
            return;
        }

        if (task.Key is { } key && world.Fleet.Hosts[d.Database.Host].HasKey(key) == false)
        {
            end(new TaskOutcome.Fails($"key {key} is not on {d.Database.Host}", false));
            return;
        }

        if ((kind == SetKind.Differential && d.Full.Id is null) || (kind == SetKind.Incremental && d.LastSet.Id is null))
        {
            end(new TaskOutcome.Nothing("there is no base to build on yet"));
            return;
        }

        if (Routes.Between(world.Fleet, d.Database.Host, task.Store!.Value) is not { } way)
        {
            end(new TaskOutcome.Fails($"no link leads from {d.Database.Host} to {task.Store}", false));
            return;
        }

        var serial = order.Serial;
        var (set, content) = Capture(d, kind, order);
        order.DataBytes = set.DataBytes;
        order.CoversSeconds = set.CoversFrom is { } covers ? (set.CoversTo - covers).TotalSeconds : 0;
        order.StoredBytes = set.Copies[0].StoredBytes;
        order.ExpectedSeconds = RunPace.Alone(world.Fleet, d.Database, task, order.StoredBytes);
        var cap = RunPace.Cap(world.Fleet.Hosts[d.Database.Host], world.Fleet.Engines[d.Database.Engine], task, order.StoredBytes, SizeNow(d));
        world.After(OverheadMs(d, order), () =>
        {
            if (order.Serial != serial)
            {
                return;
            }

            if (world.Faults.IsRefused(d.Database.Id))
            {
                end(new TaskOutcome.Fails("the sign-in for backups has expired", true));
                return;
            }

            if (world.Faults.IsHanging(d.Database.Id))
            {
                // Only its time limit ends it, or somebody.
                return;
            }

            Move(order, way, order.StoredBytes, cap, () => Written(d, order, set, content, end));
        });
    }

    private (BackupSet Set, byte[] Content) Capture(SimulatedDatabase d, SetKind kind, Order order)
    {
        var task = order.Task;
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
        var id = SetNaming.Of(task.Naming, d.Database.Id, kind, world.Now, ZoneOf(d));
        id = d.Sets.ContainsKey(id.Value) ? new(id.Value + "-2") : id;
        return (
            new BackupSet
            {
                Id = id,
                Database = d.Database.Id,
                Kind = kind,
                Parent = parent.Id is null ? null : new(parent.Id),
                FromPosition = kind == SetKind.Log ? d.LogFrom.Position : null,
                ToPosition = d.Image.Position,
                CoversFrom = kind == SetKind.Log ? Instant.FromUnixTimeMilliseconds(d.LogFrom.Time) : null,
                CoversTo = world.Now,
                FinishedAt = world.Now,
                DataBytes = bytes,
                OutsideChain = task.OutsideChain,
                RollForward = kind != SetKind.Export,
                Key = task.Key,
                Copies = [new BackupCopy(task.Store!.Value, world.Now, null, null, (long)(bytes * Math.Min(1, task.Compression.Ratio() * (task.Compression == Compression.Off ? 1 : d.Script.Packs))), CopyState.Unverified)],
            },
            task.Key is { } key ? SetEncryption.Encrypt(content, world.Seed, key, World.Key(d.Database.Id, id)) : content);
    }

    private DateTimeZone ZoneOf(SimulatedDatabase d) => DateTimeZoneProviders.Tzdb[world.Fleet.Sites[world.Fleet.Hosts[d.Database.Host].Site].TimeZone];

    private void Written(SimulatedDatabase d, Order order, BackupSet captured, byte[] content, Action<TaskOutcome> end)
    {
        var task = order.Task;
        if (world.IsFull(task.Store!.Value))
        {
            end(new TaskOutcome.Fails($"store {task.Store} is full", true));
            return;
        }

        world.Pack(task.Store.Value).Write(World.Key(d.Database.Id, captured.Id), content);
        var state = task.VerifyAfterWriting ? Read(d, captured.Id, task.Store.Value) : CopyState.Unverified;
        var copy = captured.Copies[0] with { AvailableAt = world.Now, LockedUntil = LockOf(task, task.Store.Value), State = state };
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

        order.Set = set.Id;
        world.Change(set, isNew: true);

        // Told in the step that made it: whoever reads what is kept never finds a set without its run.
        made(order);
        CopyOn(d, order, set, end);
    }

    private Instant? LockOf(PlanTask task, Id<Store> store) =>
        task.Lock is { } duration && world.Fleet.Stores[store].Locks ? world.Now + duration : null;

    /// <summary>Makes the further copies of a set just taken; the run is over when all are there.</summary>
    private void CopyOn(SimulatedDatabase d, Order order, BackupSet set, Action<TaskOutcome> end)
    {
        var missing = order.Task.CopyTo.Where(s => set.Copies.All(c => c.Store != s)).ToArray();
        var left = missing.Length;
        string? failed = null;
        if (left == 0)
        {
            end(new TaskOutcome.Goes(null));
            return;
        }

        foreach (var store in missing)
        {
            Copy(d, order, set, store, why =>
            {
                failed ??= why;
                if (--left == 0)
                {
                    end(failed is null ? new TaskOutcome.Goes(null) : new TaskOutcome.Fails(failed, true));
                }
            });
        }
    }

    /// <summary>Copies one set to one more store; tells why not, or null.</summary>
    private void Copy(SimulatedDatabase d, Order order, BackupSet set, Id<Store> store, Action<string?> done)
    {
        if (set.Copies.FirstOrDefault(c => c.RemovedAt is null && c.State != CopyState.Damaged) is not { } source)
        {
            done($"no whole copy of {set.Id} is left");
            return;
        }

        if (Routes.Between(world.Fleet, source.Store, store) is not { } way)
        {
            done($"no link leads from {source.Store} to {store}");
            return;
        }

        Move(order, way, source.StoredBytes, world.Fleet.Stores[store].WriteBytesPerSecond, () =>
        {
            var key = World.Key(d.Database.Id, set.Id);
            if (!d.Sets.TryGetValue(set.Id.Value, out var known) || known.Copies.Any(c => c.Store == store))
            {
                done(null);
                return;
            }

            if (world.IsFull(store))
            {
                done($"store {store} is full");
                return;
            }

            try
            {
                world.Pack(store).Write(key, world.Pack(source.Store).Read(key));
            }
            catch (Exception e) when (e is InvalidDataException or FileNotFoundException)
            {
                world.Judge(d.Database.Id, set.Id, source.Store, CopyState.Damaged);
                done($"the copy of {set.Id} in {source.Store} is damaged");
                return;
            }

            world.Change(known with { Copies = [.. known.Copies, new BackupCopy(store, world.Now, null, LockOf(order.Task, store), source.StoredBytes, CopyState.Unverified)] });
            done(null);
        });
    }

    private void CopyElsewhere(SimulatedDatabase d, Order order, Action<TaskOutcome> end)
    {
        var store = order.Task.Store!.Value;
        var sets = (order.Trigger?.Set is { } one ? d.Sets.Values.Where(s => s.Id == one) : d.Sets.Values)
            .Where(s => s.Copies.All(c => c.Store != store) && s.Copies.Any(c => c.RemovedAt is null)).OrderBy(s => s.CoversTo).ToArray();
        order.StoredBytes = sets.Sum(s => s.Copies[0].StoredBytes);
        var next = 0;
        One(null);

        void One(string? why)
        {
            if (why is not null)
            {
                end(new TaskOutcome.Fails(why, true));
            }
            else if (next == sets.Length)
            {
                end(new TaskOutcome.Goes($"{sets.Length} sets copied to {store}"));
            }
            else
            {
                Copy(d, order, sets[next++], store, One);
            }
        }
    }

    // ---- reading back, removing, restoring ----
    private CopyState Read(SimulatedDatabase d, Id<BackupSet> set, Id<Store> store)
    {
        try
        {
            world.Pack(store).Read(World.Key(d.Database.Id, set));
            return CopyState.Good;
        }
        catch (Exception e) when (e is InvalidDataException or FileNotFoundException)
        {
            return CopyState.Damaged;
        }
    }

    private TaskOutcome Verify(SimulatedDatabase d, Order order)
    {
        // What was never read, and bases again each time: everything else rests on them.
        var toRead = order.Trigger?.Set is { } one
            ? d.Sets.Values.Where(s => s.Id == one).ToArray()
            : d.Unverified.Select(id => d.Sets.GetValueOrDefault(id)).OfType<BackupSet>()
                .Union(d.Sets.Values.Where(s => s.Kind is not (SetKind.Log or SetKind.Export))).ToArray();
        var (read, bad) = (0, new List<string>());
        foreach (var set in toRead)
        {
            d.Unverified.Remove(set.Id.Value);
            foreach (var copy in set.Copies.Where(c => c.RemovedAt is null && c.State != CopyState.Damaged))
            {
                read++;
                order.StoredBytes += copy.StoredBytes;
                var state = Read(d, set.Id, copy.Store);
                world.Judge(d.Database.Id, set.Id, copy.Store, state);
                if (state == CopyState.Damaged)
                {
                    bad.Add($"{set.Id} in {copy.Store}");
                }
            }
        }

        return bad.Count == 0 ? new TaskOutcome.Goes($"{read} copies read, all whole") : new TaskOutcome.Fails($"{read} copies read, damaged: {string.Join(", ", bad)}", false);
    }

    private TaskOutcome CleanUp(SimulatedDatabase d, Order order)
    {
        var lineage = Lineage.Of(d.Database, new DatabaseCatalogue(d.Database.Id, d.Sets.Values));
        var zone = order.Series.Plan.Tasks.Select(t => t.Recurrence?.Zone).FirstOrDefault(z => z is not null) ?? DateTimeZone.Utc;
        var removed = 0;
        foreach (var go in Retention.Decide(lineage, Retention.RulesOf(order.Series.Plan), world.Now, zone).Where(r => !r.Stays).GroupBy(r => r.Set))
        {
            var set = d.Sets[lineage.Catalogue.IdOf(go.Key).Value];
            var stores = go.Select(g => g.Store).ToHashSet();
            foreach (var store in stores)
            {
                world.Pack(store).Remove(World.Key(d.Database.Id, set.Id));
                removed++;
            }

            order.StoredBytes += go.Sum(g => g.StoredBytes);
            world.Change(set with { Copies = [.. set.Copies.Select(c => stores.Contains(c.Store) && c.RemovedAt is null ? c with { RemovedAt = world.Now } : c)] });
        }

        return new TaskOutcome.Goes($"{removed} copies removed");
    }

    private async void TestRestore(SimulatedDatabase d, Action<TaskOutcome> end)
    {
        var problem = await Rehearsal.RunAsync(world, d);
        end(problem is null ? new TaskOutcome.Goes("restored aside, checked and thrown away") : new TaskOutcome.Fails(problem, true));
    }
}
