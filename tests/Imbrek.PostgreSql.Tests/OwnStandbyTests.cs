using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Npgsql;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Standbys of our own making: seeded, proved, held, mended, looked at, sent to another primary, and gone without a trace.</summary>
public sealed class OwnStandbyTests
{
    private static Replica Replica(Harbour h, string id, double delay = 0, ReplicaMode mode = ReplicaMode.Async) =>
        h.Replicas[id] = new Replica { Id = new(id), Database = new("harbour"), Place = new ReplicaPlace.OnHost(new("quay")), Mode = mode, DelaySeconds = delay };

    private static Task<NpgsqlConnection> OpenAsync(Harbour h, string id) => h.Cluster.OpenAsync(h.Standbys[id].Port);

    private static async Task<T> AskAsync<T>(Harbour h, string id, string sql)
    {
        await using var connection = await OpenAsync(h, id);
        return await connection.AskAsync<T>(sql, default);
    }

    private static async Task WalkAsync(TestCluster cluster, int steps)
    {
        for (var step = 0; step < steps; step++)
        {
            await cluster.DoAsync("select imbrek_walk()");
        }
    }

    private static Task SameAsync(Harbour h, string id, long steps) => h.WaitAsync(() => AskAsync<long>(h, id, "select count(*) from imbrek_trail").Result == steps, $"{steps} steps in {id}");

    private static Task<long> SlotsAsync(Harbour h) => h.Cluster.AskAsync<long>("select count(*) from pg_replication_slots where slot_name like 'imbrek_to%'");

    [Fact]
    public async Task One_is_seeded_by_a_copy_proved_held_and_looked_at_and_ends_without_a_trace()
    {
        await using var h = await Harbour.StartAsync();
        var (call, id, driver) = (new RunCall(Guid.NewGuid(), 2), new Id<Replica>("spare"), h.Replicate);
        Assert.All(await driver.TryAsync(call, Replica(h, "spare"), default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        Assert.Equal("mode", Assert.Single(await driver.TryAsync(call, Replica(h, "spare", mode: ReplicaMode.Sync), default), c => !c.Passed).Name);
        await WalkAsync(h.Cluster, 5);
        Replica(h, "spare");
        var copied = await driver.CopyAsync(call, id, default);
        Assert.True(copied.Bytes > 10_000_000 && copied.Seconds > 0);

        // Called again it is found done; by an older fence it is refused.
        Assert.Equal(0, (await driver.CopyAsync(call, id, default)).Bytes);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => driver.CopyAsync(call with { Fence = 1 }, id, default))).Problem);
        Assert.All(await driver.ProveAsync(call, id, default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        Assert.Null(driver.WhyNot(ReplicaAct.Hold, id));
        Assert.NotNull(driver.WhyNot(ReplicaAct.Hold, new("another")));

        // Held, what it received does not move; then it goes on.
        var stands = (await driver.HoldAsync(call, id, default)).Position;
        await WalkAsync(h.Cluster, 5);
        await h.CaughtUpAsync();
        Assert.Equal(5, await AskAsync<long>(h, "spare", "select count(*) from imbrek_trail"));
        var apart = await driver.PositionsAsync(id, default);
        Assert.Equal(5, apart.NotAppliedTransactions);
        Assert.True(apart.NotReceivedBytes > 0 && Lsn.Parse(apart.Written!) > Lsn.Parse(apart.Received) && apart.NotAppliedBytes == 0);
        await h.WaitAsync(() => HeldUpBy() == "its receiver does not run", "seen to be held");

        // Until it is known when its source wrote what it has received, nothing is.
        string? HeldUpBy()
        {
            try
            {
                return driver.LookAsync(call, id, default).Result.HeldUpBy;
            }
            catch (AggregateException e) when (e.InnerException is DriverException)
            {
                return null;
            }
        }

        Assert.True((await driver.ResumeAsync(call, id, default)).Position >= stands);
        await SameAsync(h, "spare", 10);

        // What it holds now is opened beside it, and takes no writes; it goes on meanwhile.
        var instance = new InstanceSpec("look", new("harbour"), new("quay"), call.Run);
        var opened = await driver.OpenCopyAsync(call, id, instance, null, default);
        await WalkAsync(h.Cluster, 3);
        await SameAsync(h, "spare", 13);
        Assert.All(await h.Restore.CheckAsync(call, instance, opened.Reached!.Value, new CheckWish("select count(*) = 10 from imbrek_trail"), default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        await h.Restore.DiscardAsync(call, instance, default);
        await Assert.ThrowsAsync<DriverException>(() => driver.OpenCopyAsync(call, id, instance, Instant.FromUtc(2026, 1, 1, 0, 0), default));

        // Stopped with its machine it is started again where it stood, and follows.
        var engine = Instance.Find(Path.Combine(h.Instances, "spare"))!;
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Path.Combine(h.Instances, "spare", "passwords")));
        await engine.DownAsync(default);
        await WalkAsync(h.Cluster, 2);

        // By two at once: one starts it, the other is told, and it stays up.
        var other = Instance.Find(Path.Combine(h.Instances, "spare"))!;
        await Task.WhenAll(new[] { engine, other }.Select(async e =>
        {
            try
            {
                await e.UpAsync(default);
            }
            catch (DriverException busy)
            {
                Assert.Contains("being started by another call", busy.Message, StringComparison.Ordinal);
            }
        }));
        await h.WaitAsync(() => engine.Runs(), "running");
        await h.WaitAsync(() => { try { return AskAsync<long>(h, "spare", "select count(*) from imbrek_trail").Result == 15; } catch (Exception e) when (e.GetBaseException() is NpgsqlException) { return false; } }, "up again");

        Assert.Equal(1, await SlotsAsync(h));
        await driver.EndAsync(call, h.Replicas["spare"], default);
        await driver.EndAsync(call, h.Replicas["spare"], default);
        Assert.Equal(0, await SlotsAsync(h));
        Assert.Empty(Directory.EnumerateFileSystemEntries(h.Instances));
        Assert.Empty(h.Standbys);
    }

    [Fact]
    public async Task One_is_seeded_from_sets_and_log_joins_and_is_mended_by_log_that_its_source_keeps_no_more()
    {
        await using var h = await Harbour.StartAsync();
        var (call, id, driver) = (new RunCall(Guid.NewGuid(), 1), new Id<Replica>("spare"), h.Replicate);
        Replica(h, "spare");
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await WalkAsync(h.Cluster, 3);
        var full = await h.FullAsync();
        await WalkAsync(h.Cluster, 4);
        await h.CaughtUpAsync();
        var seed = new InstanceSpec("seed-spare", new("harbour"), new("quay"), call.Run);
        await h.Restore.ProvisionAsync(call, seed, default);
        await h.Restore.RestoreSetAsync(call, seed, new SetCopy(full.Id, new("shelf")), default);
        await h.Restore.ApplyLogsAsync(call, seed, LogsBehind(h, full.ToPosition), null, _ => { }, default);

        // Much is written before it joins.
        await h.Cluster.DoAsync("create table ballast as select repeat('x', 500) as x from generate_series(1, 6000)");
        await WalkAsync(h.Cluster, 5);
        await driver.JoinAsync(call, id, seed, default);
        Assert.Equal(0, (await driver.JoinAsync(call, id, seed, default)).Bytes);
        Assert.False(Directory.Exists(Path.Combine(h.Instances, "seed-spare")));
        Assert.All(await driver.ProveAsync(call, id, default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        await SameAsync(h, "spare", 12);

        // Its slot is lost while it is held, and its source throws away what it would need: our own log brings it back.
        await h.Cluster.DoAsync("alter system set wal_keep_size = 0");
        await h.Cluster.DoAsync("select pg_reload_conf()");
        var stood = (await driver.HoldAsync(call, id, default)).Position!.Value;
        await h.WaitAsync(() => SlotsAsync(h).Result == 1 && !h.Cluster.AskAsync<bool>("select bool_or(active) from pg_replication_slots where slot_name like 'imbrek_to%'").Result, "let go of");
        await h.Cluster.DoAsync("select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name like 'imbrek_to%'");
        for (var i = 0; i < 6; i++)
        {
            await h.Cluster.DoAsync("insert into ballast select repeat('y', 500) from generate_series(1, 6000)");
            await WalkAsync(h.Cluster, 1);
            await h.Cluster.DoAsync("select pg_switch_wal()");
            await h.CaughtUpAsync();
            await h.Cluster.DoAsync("checkpoint");
        }

        var kept = await h.Cluster.AskAsync<string>("select pg_walfile_name((select min(restart_lsn) from pg_replication_slots))");
        Assert.True(string.CompareOrdinal(await h.Cluster.AskAsync<string>($"select pg_walfile_name('{new Lsn(stood)}')"), kept) < 0);
        var mended = await driver.MendAsync(new RunCall(Guid.NewGuid(), 1), id, LogsBehind(h, stood), default);
        Assert.True(mended.Bytes >= 1 << 20);
        await SameAsync(h, "spare", 18);
        Assert.All(await driver.ProveAsync(call, id, default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
    }

    [Fact]
    public async Task One_that_took_over_is_put_back_in_place_and_nobody_starts_it_meanwhile()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        await WalkAsync(h.Cluster, 6);
        await h.CaughtUpAsync();
        Replica(h, "first");
        await h.Replicate.CopyAsync(new(Guid.NewGuid(), 1), new("first"), default);
        await SameAsync(h, "first", 6);
        await h.StopReceivingAsync();
        h.Cluster.Kill();
        await h.Replicate.PromoteAsync(new(Guid.NewGuid(), 1), new("first"), new("quay"), null, default);
        await using (var primary = await OpenAsync(h, "first"))
        await using (var write = new NpgsqlCommand("select imbrek_walk()", primary))
        {
            await write.ExecuteNonQueryAsync();
        }

        var (instance, call) = (default(InstanceSpec)!, default(RunCall)!);
        Assert.Equal(6, (await h.RestoreAsync(new LogStop(h.Now!.CoversTo!.Value), "back", (i, c) => (instance, call) = (i, c))).Trail.Count);
        await h.Replicate.ShutOutAsync(call, instance.Database, null, default);
        var engine = Instance.Find(Path.Combine(h.Instances, "first"))!;
        Assert.True(engine.Now.Down && engine.Runs());
        await Assert.ThrowsAnyAsync<NpgsqlException>(() => OpenAsync(h, "first"));

        // A process that was thought dead is not heard any more.
        await h.Replicate.ShutOutAsync(call with { Fence = call.Fence + 1 }, instance.Database, null, default);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => h.Replicate.LetInAsync(call, instance.Database, default))).Problem);

        call = call with { Fence = call.Fence + 1 };
        await h.Replicate.LetInAsync(call, instance.Database, default);
        Assert.Equal(7, await AskAsync<long>(h, "first", "select count(*) from imbrek_trail"));
        await h.Replicate.ShutOutAsync(call, instance.Database, null, default);
        await h.Restore.PlaceAsync(call, instance, default);
        engine = Instance.Find(Path.Combine(h.Instances, "first"))!;
        Assert.True(engine.Now is { Down: false, Promoted: true } && engine.Runs());
        Assert.Equal(6, await AskAsync<long>(h, "first", "select count(*) from imbrek_trail"));
        Assert.False(await AskAsync<bool>(h, "first", "select pg_is_in_recovery()"));
        Assert.Equal("first", Path.GetFileName(Assert.Single(Directory.EnumerateDirectories(h.Instances))));
    }

    [Fact]
    public async Task When_one_takes_over_the_others_follow_it_and_its_own_engine_is_stopped_before_the_next_does()
    {
        await using var h = await Harbour.StartAsync();
        var (call, driver) = (new RunCall(Guid.NewGuid(), 1), h.Replicate);
        foreach (var name in new[] { "first", "second" })
        {
            Replica(h, name);
            await driver.CopyAsync(call, new(name), default);
        }

        await WalkAsync(h.Cluster, 6);
        await SameAsync(h, "first", 6);
        await SameAsync(h, "second", 6);
        Assert.Equal(DriverProblem.Refused, (await Assert.ThrowsAsync<DriverException>(() => driver.FenceAsync(call, new("harbour"), default))).Problem);
        h.Cluster.Kill();
        Assert.Null((await driver.PositionsAsync(new("second"), default)).Written);
        Assert.Contains("does not answer", await driver.FenceAsync(call, new("harbour"), default), StringComparison.Ordinal);
        var promoted = await driver.PromoteAsync(call, new("first"), new("quay"), null, default);
        Assert.Equal((2, 1), (promoted.Branch.Id, promoted.Branch.Parent));
        Assert.Empty(promoted.Left);
        await using (var primary = await OpenAsync(h, "first"))
        await using (var write = new NpgsqlCommand("select imbrek_walk()", primary))
        {
            await write.ExecuteNonQueryAsync();
        }

        await SameAsync(h, "second", 7);
        Assert.True(await AskAsync<bool>(h, "second", "select pg_is_in_recovery()"));

        // Its primary is ours now: it is stopped, with all it wrote sent, and nobody starts it.
        Assert.Contains("was stopped", await driver.FenceAsync(call, new("harbour"), default), StringComparison.Ordinal);
        var first = Instance.Find(Path.Combine(h.Instances, "first"))!;
        Assert.True(first.Now.Down && !first.Runs());
        var again = await driver.PromoteAsync(call, new("second"), new("quay"), null, default);
        Assert.Equal((3, 2), (again.Branch.Id, again.Branch.Parent));
        Assert.Equal(7, await AskAsync<long>(h, "second", "select count(*) from imbrek_trail"));

        // Somebody wrote into the old one all the same; a new replica where it lies takes that back, and moves no more than differs.
        await first.UpAsync(default);
        await h.WaitAsync(() => { try { return AskAsync<bool>(h, "first", "select not pg_is_in_recovery()").Result; } catch (Exception e) when (e.GetBaseException() is NpgsqlException) { return false; } }, "up");
        await using (var stray = await OpenAsync(h, "first"))
        await using (var write = new NpgsqlCommand("create table stray as select generate_series(1, 1000) as n; checkpoint", stray))
        {
            await write.ExecuteNonQueryAsync();
        }

        await using (var primary = await OpenAsync(h, "second"))
        await using (var write = new NpgsqlCommand("select imbrek_walk()", primary))
        {
            await write.ExecuteNonQueryAsync();
        }

        Replica(h, "back");
        var back = await driver.CopyAsync(call, new("back"), default);
        Assert.InRange(back.Bytes, 1, 20_000_000);
        Assert.False(Directory.Exists(Path.Combine(h.Instances, "first")) || h.Standbys.ContainsKey("first"));
        await SameAsync(h, "back", 8);
        Assert.False(await AskAsync<bool>(h, "back", "select exists (select 1 from pg_class where relname = 'stray')"));
        Assert.All(await driver.ProveAsync(call, new("back"), default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
    }

    private static SetCopy[] LogsBehind(Harbour h, long position) => [.. h.Sets.Where(s => s.Kind == SetKind.Log && s.ToPosition > position).Select(s => new SetCopy(s.Id, new("shelf")))];
}
