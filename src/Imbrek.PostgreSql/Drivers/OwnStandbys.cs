using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Standbys whose engines this server makes and starts: seeded by a copy or from sets and log, following by a slot of their own, held, mended, sent to another primary, and removed with all they took.
/// One of somebody else is watched, and takes over, but is not touched otherwise.
/// </summary>
internal sealed class OwnStandbys(IClusterBook book, IClock clock)
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);
    private static readonly Duration ClocksMayDiffer = Duration.FromSeconds(1);

    /// <summary>The engine of a standby; null where another than this server made it, or it is gone.</summary>
    public Instance? Find(StandbySpec standby)
    {
        try
        {
            return standby.Host is { } host ? Instance.Find(FolderOf(new(host), standby.Replica)) : null;
        }
        catch (DriverException)
        {
            // Its host is none of this server's any more.
            return null;
        }
    }

    /// <summary>The engine of a cluster's primary; null where this server did not make it.</summary>
    public Instance? Primary(ClusterSpec cluster) => cluster.StandbyList?.LastOrDefault(s => s.PromotedAt is not null && (s.Address, s.Port) == (cluster.UsualAddress, cluster.Port)) is { } standby ? Find(standby) : null;

    /// <summary>Whether a replica is one of this server's.</summary>
    public bool Has(Id<Replica> replica)
    {
        try
        {
            return Find(book.Standby(replica).Standby) is not null;
        }
        catch (DriverException)
        {
            return false;
        }
    }

    /// <summary>Tries what one needs, and changes nothing.</summary>
    public async Task<IReadOnlyList<CheckResult>> TryAsync(Replica replica, CancellationToken cancel)
    {
        var results = new List<CheckResult>
        {
            new("mode", replica.Mode == ReplicaMode.Async, replica.Mode == ReplicaMode.Async
                ? "it receives after the commit"
                : "whether commits wait is for its primary to say (synchronous_standby_names): set it up as async, then set that there"),
        };
        string? folder = null;
        try
        {
            folder = book.InstancesOn(replica.Place.Hosts[0]);
            results.Add(Has(replica.Id)
                ? new("host", true, $"its engine lies in {Path.Combine(folder, replica.Id.Value)}")
                : Instance.Find(FolderOf(replica.Place.Hosts[0], replica.Id.Value)) is null && Directory.Exists(folder)
                ? new("host", true, $"an engine can be started in {folder}")
                : new("host", false, Directory.Exists(folder) ? $"{Path.Combine(folder, replica.Id.Value)} is taken" : $"{folder} is not there"));
        }
        catch (DriverException e)
        {
            results.Add(new("host", false, e.Message));
        }

        try
        {
            var (_, from) = SenderOf(replica);
            var before = clock.GetCurrentInstant();
            await using var there = await Connections.OpenAsync(from, cancel);
            var (receives, senders, slots) = (await there.RowsAsync(
                """
                select (select rolsuper or rolreplication from pg_roles where rolname = current_user),
                  current_setting('max_wal_senders')::bigint - (select count(*) from pg_stat_activity where backend_type = 'walsender'),
                  current_setting('max_replication_slots')::bigint - (select count(*) from pg_replication_slots)
                """,
                r => (r.GetBoolean(0), r.GetInt64(1), r.GetInt64(2)),
                cancel))[0];
            var (kept, said) = (await there.AskAsync<string>("show max_slot_wal_keep_size", cancel), await there.NowAsync(cancel));
            results.Add(new("sign-in", receives, $"{from.User} signs in at {from.Address}:{from.Port}{(receives ? " and may receive log" : ", but may not receive log: alter role … replication")}"));
            results.Add(new("senders", senders >= 3, $"{senders} senders of log are free; a copy needs two and following one (max_wal_senders)"));
            results.Add(new("slots", slots >= 1, $"{slots} slots are free (max_replication_slots)"));
            results.Add(new("kept log", true, kept.StartsWith('-') ? "its slot keeps what it needs without bound: one that stands still fills its source (max_slot_wal_keep_size)" : $"its slot keeps up to {kept} for it"));
            var apart = said < before ? before - said : Duration.Max(said - clock.GetCurrentInstant(), Duration.Zero);
            results.Add(new("clocks", apart <= ClocksMayDiffer, $"{from.Address}'s clock and ours are {apart.TotalSeconds:0.###} s apart"));
            if (folder is not null && Directory.Exists(folder))
            {
                results.Add(await RoomAsync(there, folder, cancel));
            }
        }
        catch (Exception e) when (e is DriverException or NpgsqlException or TimeoutException)
        {
            results.Add(new("sign-in", false, e.Message));
        }

        return results;
    }

    /// <summary>Whether there is room in a folder for all a cluster holds, and a tenth more.</summary>
    public static async Task<CheckResult> RoomAsync(NpgsqlConnection cluster, string folder, CancellationToken cancel)
    {
        var size = await cluster.AskAsync<long>("select coalesce(sum(pg_database_size(oid)), 0)::bigint from pg_database where has_database_privilege(oid, 'connect') or pg_has_role(current_user, 'pg_read_all_stats', 'member')", cancel);
        var free = new DriveInfo(folder).AvailableFreeSpace;
        return new("room", free > size + (size / 10), $"{free:N0} bytes are free in {folder}, the cluster has {size:N0}");
    }

    /// <summary>Seeds one by a copy of whoever will send to it; it goes on from there.</summary>
    public async Task<Moved> CopyAsync(RunCall call, Id<Replica> id, CancellationToken cancel)
    {
        var (began, replica) = (Stopwatch.GetTimestamp(), Known(id));
        var ((cluster, from), folder) = (SenderOf(replica), FolderOf(replica.Place.Hosts[0], id.Value));
        Fences.Hear(Path.Combine(folder, "fence"), call);
        var engine = Instance.Find(folder);
        if (engine?.Now is { Follows: not null, Down: false } now && now.Owner == call.Run)
        {
            await engine.UpAsync(cancel);
            await KnownAsync(replica, cluster, engine, cancel);
            return Moved.Nothing;
        }

        var slot = StandbySpec.SlotOf(id.Value);
        if ((engine is { Now: { Promoted: true, Down: true } } ? (null, engine) : engine is null ? OldPrimaryOn(cluster, replica.Place.Hosts[0]) : null) is { } old)
        {
            // It has nearly all of it: what it wrote that nobody else has is taken back, and no more is moved than differs.
            await using (var there = await Connections.OpenAsync(from, cancel))
            {
                await SlotAsync(there, slot, cancel);
            }

            if (await Rewind.TryAsync(old.Engine, from, cancel) is { } moved)
            {
                engine = old.Engine;
                if (old.Standby is { } other)
                {
                    Directory.Delete(folder, recursive: true);
                    engine = old.Engine.MoveTo(folder);
                    Fences.Hear(Path.Combine(folder, "fence"), call);
                    await book.StandbyGoneAsync(new(other.Replica), cancel);
                }

                await engine.KeepAsync(engine.Now with { Owner = call.Run, Promoted = false }, cancel);
                await engine.FollowAsync(new(slot, Instance.Sender.Of(from), replica.DelaySeconds), cancel);
                try
                {
                    return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, moved, null, (await KnownAsync(replica, cluster, engine, cancel)).Value);
                }
                catch (DriverException e) when (e.Problem == DriverProblem.Refused)
                {
                    // Its engine does not go on with what it was taken back to: a copy takes its place.
                }
            }
        }

        engine ??= await Instance.MakeAsync(folder, call.Run, cluster.User, cancel);
        await engine.DownAsync(cancel);
        await engine.KeepAsync(engine.Now with { Owner = call.Run, Follows = null, Promoted = false }, cancel);
        Instant at;
        await using (var there = await Connections.OpenAsync(from, cancel))
        {
            // Before the folder is emptied: what is left of a copy that was killed writes into it as long as it receives.
            at = await there.NowAsync(cancel);
            await SlotAsync(there, slot, cancel);
        }

        await engine.EmptyAsync(cancel);

        await Tools.GiveToEngineAsync(folder, cancel);
        await BaseCopy.TakeAsync(from, engine.Data, ["--slot", slot, "--label", $"imbrek {call.Run:n}"], cluster.BackupBytesPerSecond, cancel, asEngine: true);
        var bytes = FolderStore.BytesOf(engine.Data);
        await engine.FollowAsync(new(slot, Instance.Sender.Of(from), replica.DelaySeconds), cancel);
        var position = await KnownAsync(replica, cluster, engine, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, bytes, at, position.Value);
    }

    /// <summary>Makes an instance that was restored and not opened the standby: the log that came since is brought, and it follows from there.</summary>
    public async Task<Moved> JoinAsync(RunCall call, Id<Replica> id, InstanceSpec restored, CancellationToken cancel)
    {
        var (began, replica) = (Stopwatch.GetTimestamp(), Known(id));
        var ((cluster, from), folder, seed) = (SenderOf(replica), FolderOf(replica.Place.Hosts[0], id.Value), FolderOf(restored.Host, restored.Name));
        if (Instance.Find(seed) is { } coming && coming.Now.Owner == restored.Owner)
        {
            Fences.Hear(Path.Combine(seed, "fence"), call);
            await coming.DownAsync(cancel);
            if (Instance.Find(folder) is { } old)
            {
                await old.RemoveAsync(cancel);
            }

            coming.MoveTo(folder);
        }

        var engine = Instance.Find(folder) is { } there && there.Now.Owner == call.Run ? there : throw new DriverException(DriverProblem.Refused, $"there is no instance {restored.Name} on {restored.Host} to join");
        Fences.Hear(Path.Combine(folder, "fence"), call);
        var reached = engine.Now.Reached is { } r ? Core.Formats.Instants.Parse(r) : (Instant?)null;
        if (engine.Now is { Follows: not null, Down: false })
        {
            await engine.UpAsync(cancel);
            return new Moved(0, 0, reached, (await KnownAsync(replica, cluster, engine, cancel)).Value);
        }

        var slot = StandbySpec.SlotOf(id.Value);
        await using (var source = await Connections.OpenAsync(from, cancel))
        {
            await SlotAsync(source, slot, cancel);
        }

        var full = book.Set(new(cluster.Database), new(engine.Now.Restored ?? throw new DriverException(DriverProblem.Refused, "there is nothing restored that could be joined")))
            ?? throw new DriverException(DriverProblem.Refused, $"{engine.Now.Restored} is not known any more");
        var bytes = await BringAsync(engine, cluster, [.. book.LogBehind(new(cluster.Database), full.Branch, new(full.ToPosition)).Select(CopyOf)], cancel);
        await engine.FollowAsync(new(slot, Instance.Sender.Of(from), replica.DelaySeconds), cancel);
        var position = await KnownAsync(replica, cluster, engine, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, bytes, reached, position.Value);
    }

    /// <summary>Has one go on that could not: with log that is brought to it, where there is any, or what its source keeps.</summary>
    public async Task<Moved> MendAsync(RunCall call, Id<Replica> id, IReadOnlyList<SetCopy> logs, CancellationToken cancel)
    {
        var (began, replica) = (Stopwatch.GetTimestamp(), Known(id));
        var ((cluster, from), engine) = (SenderOf(replica), Require(call, id));
        await using (var there = await Connections.OpenAsync(from, cancel))
        {
            await LogReceiver.MakeSlotAsync(there, StandbySpec.SlotOf(id.Value), cancel);
        }

        await engine.DownAsync(cancel);
        var bytes = await BringAsync(engine, cluster, logs, cancel);
        await engine.FollowAsync(new(StandbySpec.SlotOf(id.Value), Instance.Sender.Of(from), replica.DelaySeconds), cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, bytes, null, (await KnownAsync(replica, cluster, engine, cancel)).Value);
    }

    /// <summary>Has one receive nothing more, or go on.</summary>
    public async Task<Moved> HoldAsync(RunCall call, Id<Replica> id, bool held, CancellationToken cancel)
    {
        var (began, engine) = (Stopwatch.GetTimestamp(), Require(call, id));
        var follows = engine.Now.Follows ?? throw new DriverException(DriverProblem.Refused, $"{id} follows nobody");
        await engine.FollowAsync(follows with { Held = held }, cancel);
        var (cluster, standby) = book.Standby(id);
        var position = await AnswersAsync(engine, standby, cancel);

        // Its receiver ends, or begins, a moment after its engine has heard of it.
        using var timer = new PeriodicTimer(Look);
        await using var there = await Connections.OpenAsync(standby, cancel);
        while (held && await there.AskAsync<bool>("select exists (select 1 from pg_stat_wal_receiver)", cancel))
        {
            await timer.WaitForNextTickAsync(cancel);
        }

        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0, null, position.Value);
    }

    /// <summary>Opens a copy of what a standby holds now, for those who look at it: its own engine, which stands still and takes no writes.</summary>
    public async Task<Moved> OpenCopyAsync(RunCall call, Id<Replica> id, InstanceSpec instance, Instant reached, CancellationToken cancel)
    {
        var ((cluster, standby), began, folder) = (book.Standby(id), Stopwatch.GetTimestamp(), FolderOf(instance.Host, instance.Name));
        Fences.Hear(Path.Combine(folder, "fence"), call);
        if (Instance.Find(folder) is { Now: { Begun: true, Reached: { } before } } there && there.Now.Owner == instance.Owner)
        {
            await there.UpAsync(cancel);
            return new Moved(0, 0, Core.Formats.Instants.Parse(before));
        }

        var engine = Instance.Find(folder) ?? await Instance.MakeAsync(folder, instance.Owner, cluster.User, cancel);
        await engine.EmptyAsync(cancel);
        await Tools.GiveToEngineAsync(folder, cancel);
        await BaseCopy.TakeAsync(standby, engine.Data, ["--label", $"imbrek {call.Run:n}"], cluster.BackupBytesPerSecond, cancel, asEngine: true);
        var bytes = FolderStore.BytesOf(engine.Data);
        Directory.CreateDirectory(engine.Log);
        await engine.RecoverAsync(new Dictionary<string, string> { ["recovery_target"] = "immediate" }, cancel);
        await using var connection = await engine.OpenAsync(null, cancel);
        using var timer = new PeriodicTimer(Look);
        while (await connection.AskAsync<string>("select pg_get_wal_replay_pause_state()", cancel) != "paused")
        {
            await timer.WaitForNextTickAsync(cancel);
        }

        var position = Lsn.Parse(await connection.AskAsync<string>("select pg_last_wal_replay_lsn()::text", cancel));
        await engine.KeepAsync(engine.Now with { Restored = $"a copy of {id}", Reached = Core.Formats.Instants.Write(reached) }, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, bytes, reached, position.Value);
    }

    /// <summary>Takes one back with all it took: its engine, its slot, and that it is watched. Called again it does what is left.</summary>
    public async Task EndAsync(RunCall call, Replica replica, CancellationToken cancel)
    {
        var folder = FolderOf(replica.Place.Hosts[0], replica.Id.Value);
        await book.StandbyGoneAsync(replica.Id, cancel);
        if (Directory.Exists(folder))
        {
            Fences.Hear(Path.Combine(folder, "fence"), call);
            if (Instance.Find(folder) is { } engine)
            {
                await engine.RemoveAsync(cancel);
            }
            else
            {
                Directory.Delete(folder, recursive: true);
            }
        }

        var (_, from) = SenderOf(replica);
        await using var there = await Connections.OpenAsync(from, cancel);
        await DropAsync(there, StandbySpec.SlotOf(replica.Id.Value), cancel);
    }

    /// <summary>After a take over: one that followed the old primary follows the new one from now on.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="other">The standby.</param>
    /// <param name="old">Where the primary was.</param>
    /// <param name="primary">Who is the primary now.</param>
    /// <param name="fork">Where its timeline began.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <returns>Why it does not follow; null when it does, or followed another.</returns>
    public async Task<string?> SendToAsync(RunCall call, StandbySpec other, ISignIn old, StandbySpec primary, Lsn fork, CancellationToken cancel)
    {
        if (Find(other) is not { Now.Follows: { } follows } engine)
        {
            return $"it still asks {old.Address}:{old.Port} for log: have it ask {primary.Address}:{primary.Port}";
        }

        if ((follows.From.Address, follows.From.Port) != (old.Address, old.Port))
        {
            return null;
        }

        try
        {
            Fences.Hear(Path.Combine(FolderOf(new(other.Host!), other.Replica), "fence"), call);
            await using (var there = await Connections.OpenAsync(other, cancel))
            {
                var received = Lsn.Parse(await there.AskAsync<string>("select greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())::text", cancel));
                if (received > fork)
                {
                    return $"it has log up to {received}, behind {fork} where the new timeline begins: mend it anew";
                }
            }

            await using (var there = await Connections.OpenAsync(primary, cancel))
            {
                await LogReceiver.MakeSlotAsync(there, follows.Slot, cancel);
            }

            await engine.FollowAsync(follows with { From = Instance.Sender.Of(primary) }, cancel);
            return null;
        }
        catch (Exception e) when (e is DriverException { Problem: not DriverProblem.Stale } or NpgsqlException or TimeoutException or IOException)
        {
            return e.Message;
        }
    }

    /// <summary>An engine of this server's making on a host that was the primary of a cluster, and stands still; null when there is none.</summary>
    private (StandbySpec? Standby, Instance Engine)? OldPrimaryOn(ClusterSpec cluster, Id<Host> host) => (cluster.StandbyList ?? [])
        .Where(s => s.PromotedAt is not null && s.Host == host.Value && (s.Address, s.Port) != (cluster.Address, cluster.Port))
        .Select(s => (Standby: s, Engine: Find(s)))
        .Where(s => s.Engine is { Now: { Promoted: true, Down: true } })
        .Select(s => ((StandbySpec?, Instance)?)(s.Standby, s.Engine!)).LastOrDefault();

    /// <summary>A replica as the fleet has it.</summary>
    /// <exception cref="DriverException">It has none of this id any more.</exception>
    public Replica Known(Id<Replica> id) => book.Replica(id) ?? throw new DriverException(DriverProblem.Refused, $"replica {id} is no longer in the fleet");

    private (ClusterSpec Cluster, ISignIn From) SenderOf(Replica replica)
    {
        var cluster = book.Cluster(replica.Database);
        return (cluster, replica.From is { } feeder ? book.Standby(feeder).Standby : cluster);
    }

    private string FolderOf(Id<Host> host, string name) => Path.Combine(book.InstancesOn(host), name);

    private Instance Require(RunCall call, Id<Replica> id)
    {
        var (_, standby) = book.Standby(id);
        var engine = Find(standby) ?? throw new DriverException(DriverProblem.Refused, $"{id} is not of this server's making");
        Fences.Hear(Path.Combine(FolderOf(new(standby.Host!), id.Value), "fence"), call);
        return engine;
    }

    private static SetCopy CopyOf(BackupSet set) => new(set.Id, set.Copies.First(c => c.RemovedAt is null && c.State != CopyState.Damaged).Store);

    /// <summary>Brings log that one has not, in whole files alone; what it was given before goes.</summary>
    private async Task<long> BringAsync(Instance engine, ClusterSpec cluster, IReadOnlyList<SetCopy> logs, CancellationToken cancel)
    {
        if (Directory.Exists(engine.Log))
        {
            Directory.Delete(engine.Log, recursive: true);
        }

        return logs.Count == 0 ? 0 : (await BroughtLog.BringAsync(book, engine, new(cluster.Database), logs, cancel, wholeAlone: true)).Bytes;
    }

    /// <summary>Has it watched from now on, and waits until it answers.</summary>
    private async Task<Lsn> KnownAsync(Replica replica, ClusterSpec cluster, Instance engine, CancellationToken cancel)
    {
        var standby = new StandbySpec(replica.Id.Value, Instance.Address, engine.Now.Port, cluster.User, cluster.SignInTo, cluster.Credential, Host: replica.Place.Hosts[0].Value);
        var position = await AnswersAsync(engine, standby, cancel);
        await book.StandbyIsAsync(new(cluster.Database), standby, cancel);
        return position;
    }

    private static async Task<Lsn> AnswersAsync(Instance engine, StandbySpec standby, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            try
            {
                await using var there = await Connections.OpenAsync(standby, cancel);
                return Lsn.Parse(await there.AskAsync<string>("select coalesce(pg_last_wal_replay_lsn(), '0/0')::text", cancel));
            }
            catch (Exception e) when (e is DriverException { Problem: DriverProblem.Unreachable } or NpgsqlException && engine.Runs())
            {
                // It has not come to where it may be looked into yet.
            }
            catch (Exception e) when (e is DriverException { Problem: DriverProblem.Unreachable } or NpgsqlException)
            {
                throw new DriverException(DriverProblem.Refused, $"its engine ended: {engine.LastWords()}");
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }

    /// <summary>A slot of this name that keeps log from now on.</summary>
    private static async Task SlotAsync(NpgsqlConnection there, string slot, CancellationToken cancel)
    {
        await DropAsync(there, slot, cancel);
        await LogReceiver.MakeSlotAsync(there, slot, cancel);
    }

    /// <summary>Drops a slot of ours, whoever holds it: a copy that was killed leaves a part behind that goes on receiving, and an engine that has gone is active for a moment.</summary>
    private static async Task DropAsync(NpgsqlConnection there, string slot, CancellationToken cancel)
    {
        try
        {
            await LogReceiver.FreeAsync(there, slot, cancel);
            await there.RowsAsync($"select pg_drop_replication_slot(slot_name)::text from pg_replication_slots where slot_name = '{slot}'", _ => 0, cancel);
        }
        catch (PostgresException e)
        {
            throw new DriverException(e.SqlState == "55006" ? DriverProblem.Unreachable : DriverProblem.Refused, $"slot {slot}: {e.MessageText}");
        }
    }
}
