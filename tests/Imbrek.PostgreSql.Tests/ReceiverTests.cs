using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>The receiving of a log, when things go wrong.</summary>
public class ReceiverTests
{
    [Fact]
    public async Task When_the_cluster_is_killed_what_was_said_to_be_exposed_is_what_is_lost()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        var killed = false;
        var walking = h.WalkAsync(4, () => killed);
        await h.CaughtUpAsync();
        var upTo = SystemClock.Instance.GetCurrentInstant() + Duration.FromSeconds(3);
        await h.WaitAsync(() => h.Now?.CoversTo > upTo && h.Sets.Count(s => s.Kind == SetKind.Log) > 1, "walking");

        // However little a slow machine wrote, the files of the first set are whole.
        await h.Cluster.DoAsync("select pg_switch_wal()");
        await h.CaughtUpAsync();
        h.Cluster.Kill();
        var at = SystemClock.Instance.GetCurrentInstant();
        killed = true;
        var told = await walking;
        await h.WaitAsync(() => h.Ended is not null, "noticed");
        Assert.Equal(DriverProblem.Unreachable, Assert.IsType<DriverException>(h.Ended).Problem);

        // What is lost is told by what a restore of all that was received holds.
        var exposed = at - h.Now!.CoversTo!.Value;
        var (there, moved, _) = await h.RestoreAsync(new LogStop(h.Newest!.CoversTo), "after");
        var lost = told.Where(t => !there.Contains(t.Transaction)).ToArray();
        var really = lost.Length == 0 ? Duration.Zero : at - lost.Min(t => t.Told);
        Assert.True(exposed >= really - Duration.FromMilliseconds(50), $"exposed {exposed}, lost {really}");

        // By at most one watch interval, as long as they really were, and the moment of the kill.
        Assert.True(exposed - really <= Duration.Max(LogReceiver.Watch, h.LongestWatch) + Duration.FromMilliseconds(500), $"exposed {exposed}, lost {really}, watched every {h.LongestWatch}");

        // Without the cluster its log is read back and copied on all the same.
        var call = new RunCall(Guid.NewGuid(), 1);
        Assert.All(await h.Backup.ReadBackAsync(call, new("harbour"), [.. h.Sets.Select(s => new SetCopy(s.Id, new("shelf")))], default), t => Assert.True(t.Set!.Copies[0].State == CopyState.Good, t.Note));
        var copied = await h.Backup.CopyAsync(call, new("harbour"), h.Sets.First(s => s.Kind == SetKind.Log).Id, new("hill"), null, default);
        h.Keep(copied.Set!);
        Assert.Equal(CopyState.Good, (await h.Backup.ReadBackAsync(call, new("harbour"), [new SetCopy(copied.Set!.Id, new("hill"))], default))[0].Set!.Copies.Single(c => c.Store.Value == "hill").State);
        Assert.True(moved.Reached >= h.Newest!.CoversTo - Duration.FromMilliseconds(1));
    }

    [Fact]
    public async Task It_goes_on_without_a_gap_where_another_stopped_and_where_the_cluster_was_restarted()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        var enough = false;
        var walking = h.WalkAsync(2, () => enough);
        for (var i = 0; i < 4; i++)
        {
            await h.CaughtUpAsync();

            // Files of the log come and go between what is written and what is told.
            await h.Cluster.DoAsync("create table if not exists busy (t text); insert into busy select repeat('b', 900) from generate_series(1, 6000)");
            await h.StopReceivingAsync();
            var before = h.Now!.Position;
            var written = Lsn.Parse(await h.Cluster.AskAsync<string>("select pg_current_wal_lsn()::text")).Value;
            Assert.True(before <= written);
            h.Receive();
            await h.CaughtUpAsync();
        }

        enough = true;
        var told = await walking;
        await h.Cluster.DownAsync();
        await h.WaitAsync(() => h.Ended is not null, "noticed");
        await h.Cluster.UpAsync();
        h.Receive();
        var left = 5;
        told = [.. told, .. await h.WalkAsync(1, () => --left < 0)];
        await h.CaughtUpAsync();
        BackupSet[] logs = [.. h.Sets.Where(s => s.Kind == SetKind.Log)];
        Assert.All(logs.Zip(logs.Skip(1)), p => Assert.Equal(p.First.ToPosition, p.Second.FromPosition));
        Assert.All(logs, s => Assert.True(s.CoversTo > s.CoversFrom && s.Copies[0].AvailableAt >= s.CoversTo));
        var (there, _, checks) = await h.RestoreAsync(new LogStop(h.Newest!.CoversTo), "all");
        Assert.Equal(told.Select(t => t.Transaction).Order(), there.Order());
        Assert.All(checks, c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));

        // Nobody holds the slot when nobody receives.
        await h.StopReceivingAsync();
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(50));
        while (await h.Cluster.AskAsync<bool>("select bool_or(active) from pg_replication_slots"))
        {
            await timer.WaitForNextTickAsync();
        }
    }

    [Fact]
    public async Task Over_a_line_that_answers_late_it_is_received_and_the_source_is_told_what_it_may_forget()
    {
        var cluster = await TestCluster.StartAsync();
        await using var line = new SlowLine(cluster.Port);
        await using var h = await Harbour.StartAsync(cluster, line.Port);
        await h.CaughtUpAsync();
        await cluster.DoAsync("select imbrek_walk()");
        await h.CaughtUpAsync();
        var position = new Lsn(h.Sets[^1].ToPosition);
        await h.WaitAsync(() => cluster.AskAsync<bool>($"select restart_lsn >= '{position}' from pg_replication_slots").Result, "told");
        Assert.Null(h.Ended);
    }

    [Fact]
    public async Task A_store_that_is_full_or_gone_is_said_and_the_source_is_not_filled_by_our_slot()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.CaughtUpAsync();
        h.Capacity = FolderStore.BytesOf(h.Shelf) + (3 << 20);
        await h.StopReceivingAsync();
        h.Receive();
        await h.Cluster.DoAsync("create table big as select i, repeat('z', 700) as t from generate_series(1, 12000) i");
        await h.WaitAsync(() => h.Ended is not null, "said");
        Assert.Equal(DriverProblem.NoRoom, Assert.IsType<DriverException>(h.Ended).Problem);
        var full = await Assert.ThrowsAsync<DriverException>(() => h.FullAsync());
        Assert.Equal(DriverProblem.NoRoom, full.Problem);
        Assert.Empty(Directory.Exists(Path.Combine(h.Shelf, "harbour", "full")) ? Directory.EnumerateFileSystemEntries(Path.Combine(h.Shelf, "harbour", "full")) : []);

        // Within what it may, the source keeps it for us; beyond that our slot goes, and with it what it kept.
        Assert.Equal((true, false), await LogReceiver.GuardAsync(h.Cluster.Spec(), default) is var (kept, gone) ? (kept > 5 << 20, gone) : default);
        Assert.True((await LogReceiver.GuardAsync(h.Cluster.Spec(room: 1 << 20), default)).GivenUp);
        Assert.Equal(0L, await h.Cluster.AskAsync<long>("select count(*) from pg_replication_slots"));

        await h.Cluster.DoAsync("checkpoint");
        await h.Cluster.DoAsync("select imbrek_walk()");
        await h.Cluster.DoAsync("checkpoint");

        // With room again it goes on, with a gap that is seen, and the next full closes it.
        h.Capacity = null;
        h.Receive();
        await h.CaughtUpAsync();
        var after = h.Sets.Where(s => s.Kind == SetKind.Log).ToArray();
        Assert.Contains(after.Zip(after.Skip(1)), p => p.Second.FromPosition > p.First.ToPosition);
        await h.FullAsync();

        Directory.Move(h.Shelf, h.Shelf + "-away");
        await h.WaitAsync(() => h.Ended is not null, "said");
        Assert.Contains("gone", Assert.IsType<DriverException>(h.Ended).Message, StringComparison.Ordinal);
        await Assert.ThrowsAsync<DriverException>(() => h.FullAsync());
        Directory.Move(h.Shelf + "-away", h.Shelf);
        h.Receive();
        await h.CaughtUpAsync();
    }

    [Fact]
    public async Task A_cluster_that_goes_on_in_a_new_timeline_is_followed_and_restored_on_either_side()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        var left = 20;
        var first = await h.WalkAsync(1, () => --left < 0);
        await h.CaughtUpAsync();
        await h.Cluster.DownAsync();
        await h.WaitAsync(() => h.Ended is not null, "noticed");
        await File.WriteAllTextAsync(Path.Combine(h.Cluster.Data, "recovery.signal"), "");
        await File.AppendAllTextAsync(Path.Combine(h.Cluster.Data, "postgresql.auto.conf"), "restore_command = 'false'\n");
        await Tools.GiveToEngineAsync(h.Cluster.Data, default);
        await h.Cluster.UpAsync();
        await h.WaitAsync(() => !h.Cluster.AskAsync<bool>("select pg_is_in_recovery()").Result, "promoted");
        h.Receive();
        left = 10;
        var second = await h.WalkAsync(1, () => --left < 0);
        await h.WaitAsync(() => h.Newest is { Branch: 2 }, "followed");
        await h.CaughtUpAsync();

        // Each time it connects it says again where the timelines parted.
        var fork = Assert.Single(h.Branches.Distinct());
        Assert.Equal((2, 1), (fork.Timeline, fork.Parent));
        Assert.True(File.Exists(Path.Combine(h.Folder.Log("harbour"), "00000002.history")));

        var owner = Guid.NewGuid();
        var (call, instance) = (new RunCall(owner, 1), new InstanceSpec("over", new("harbour"), new("quay"), owner));
        var full = h.Sets.First(s => s.Kind == SetKind.Full);
        await h.Restore.ProvisionAsync(call, instance, default);
        await h.Restore.RestoreSetAsync(call, instance, new SetCopy(full.Id, new("shelf")), default);
        await h.Restore.ApplyLogsAsync(call, instance, [.. h.Sets.Where(s => s.Kind == SetKind.Log && s.ToPosition >= full.ToPosition && s.CoversTo > full.CoversTo).Select(s => new SetCopy(s.Id, new("shelf")))], new LogStop(h.Newest!.CoversTo), _ => { }, default);
        await using (var connection = await Instance.Find(Path.Combine(h.Instances, "over"))!.OpenAsync("postgres", default))
        {
            Assert.Equal([.. first.Select(t => t.Transaction), .. second.Select(t => t.Transaction)], await connection.RowsAsync("select xid from imbrek_trail order by n", r => r.GetInt64(0), default));
        }

        await h.Restore.DiscardAsync(call, instance, default);
    }

    [Fact]
    public async Task A_backup_that_is_asked_for_again_is_found_and_one_that_broke_off_leaves_nothing()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        var call = new RunCall(Guid.NewGuid(), 2);

        // At this rate it takes half a minute, on any machine.
        h.Rate = 1 << 20;
        using (var broken = new CancellationTokenSource(TimeSpan.FromMilliseconds(250)))
        {
            await Assert.ThrowsAnyAsync<OperationCanceledException>(() => h.Backup.TakeAsync(call, new TakeSpec("harbour", SetKind.Full, "shelf", Core.Planning.Compression.Off, null, Core.Planning.SetNaming.Default, false, true, null), broken.Token));
        }

        h.Rate = null;
        var set = await h.FullAsync(call with { Fence = 3 }, Core.Planning.Compression.Off);
        Assert.Equal(set.Id, (await h.FullAsync(call with { Fence = 4 })).Id);
        Assert.Equal([set.Id.Value], Directory.EnumerateDirectories(Path.Combine(h.Shelf, "harbour", "full")).Select(Path.GetFileName));
        Assert.Equal(0L, await h.Cluster.AskAsync<long>("select count(*) from pg_stat_activity where backend_type = 'walsender' and application_name = 'pg_basebackup'"));
        await h.WaitAsync(() => h.Newest?.ToPosition > set.ToPosition, "received");
        var copied = await h.Backup.CopyAsync(call, new("harbour"), set.Id, new("hill"), null, default);
        Assert.Equal(CopyState.Good, copied.Set!.Copies.Single(c => c.Store.Value == "hill").State);
        h.Keep(copied.Set);
        var removed = await h.Backup.RemoveAsync(call, new("harbour"), [new SetCopy(set.Id, new("shelf"))], default);
        Assert.NotNull(removed[0].Set!.Copies.Single(c => c.Store.Value == "shelf").RemovedAt);
        Assert.Empty(Directory.EnumerateFileSystemEntries(Path.Combine(h.Shelf, "harbour", "full")));
        var log = await h.Backup.TakeAsync(call, new TakeSpec("harbour", SetKind.Log, "shelf", Core.Planning.Compression.Off, null, Core.Planning.SetNaming.Default, false, true, null), default);
        Assert.Contains("received", log.Note, StringComparison.Ordinal);
    }
}
