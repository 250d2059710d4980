using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Restores of a cluster that was written to all the time, judged by the engine's own reader of the log.</summary>
public class RestoreTests
{
    /// <summary>How many restores: ten in the suite, two hundred by <c>scripts/restores.sh</c>.</summary>
    private static readonly int Restores = int.TryParse(Environment.GetEnvironmentVariable("IMBREK_RESTORES"), out var n) ? n : 10;

    [Fact]
    public async Task At_any_instant_and_before_any_commit_exactly_what_was_committed_is_there()
    {
        await using var h = await Harbour.StartAsync();
        var (enough, fulls) = (false, 0);
        var walking = h.WalkAsync(4, () => enough);
        await h.WaitAsync(() => h.Now is not null, "receiving");
        while (fulls++ < 3)
        {
            await h.FullAsync();
            var upTo = SystemClock.Instance.GetCurrentInstant() + Duration.FromSeconds(3);
            await h.WaitAsync(() => h.Now?.CoversTo > upTo, "walking");
        }

        enough = true;
        await walking;
        await h.CaughtUpAsync();

        var from = new Segments(1 << 20).StartOf(new(h.Sets.First(s => s.Kind == SetKind.Log).FromPosition!.Value));
        var commits = await TestCluster.CommitsAsync(Path.Combine(h.Cluster.Data, "pg_wal"), 1, from.ToString(), new Lsn(h.Newest!.ToPosition).ToString());
        var (trail, committed) = ((await TrailAsync(h)).ToHashSet(), commits.Select(c => c.Transaction).ToHashSet());
        var random = new Random(17);
        for (var i = 0; i < Restores; i++)
        {
            var later = commits.Where(c => At(c) > h.Sets.First(s => s.Kind == SetKind.Full).CoversTo && h.Sets.All(f => f.Kind != SetKind.Full || (At(c) - f.CoversTo).TotalMilliseconds is < -50 or > 5)).ToArray();
            var pick = later[random.Next(later.Length)];
            var at = At(pick);
            var stop = i % 2 == 0
                ? new LogStop(Instant.FromUnixTimeMilliseconds(at.ToUnixTimeMilliseconds() + random.Next(40)))
                : new LogStop(Instant.FromUnixTimeMilliseconds(at.ToUnixTimeMilliseconds() + 1), pick.Position);
            var (there, moved, checks) = await h.RestoreAsync(stop, $"aside-{i}");

            // The first commit that must not be there, and with it all behind: in the order of the log, as the engine recovers.
            var tooLate = commits.Where(c => stop.Before is { } before ? c.Position >= before : c.Position >= Base(h, stop).ToPosition && At(c) > stop.At).Select(c => c.Position);
            var end = tooLate.DefaultIfEmpty(long.MaxValue).First();
            var wanted = commits.Where(c => c.Position < end && trail.Contains(c.Transaction)).Select(c => (long)c.Transaction).ToHashSet();
            var have = there.Where(x => committed.Contains((uint)x)).ToHashSet();
            Assert.Empty(wanted.Except(have));
            Assert.Empty(have.Except(wanted));
            Assert.All(checks, c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
            Assert.Contains(checks, c => c.Name == "trail");
            Assert.True(moved.Position <= end, $"it stands at {moved.Position}, {end} must not be in it");
            Assert.True(stop.Before is not null || moved.Reached <= stop.At);
        }
    }

    [Fact]
    public async Task What_is_received_follows_on_every_full_however_quiet_or_busy_it_is()
    {
        await using var h = await Harbour.StartAsync();
        h.SetSeconds = 0.3;
        await h.WaitAsync(() => h.Now is not null, "receiving");
        var fleet = Core.Formats.FleetFile.Read("""
            {"format": "imbrek-fleet/1", "sites": [{"id": "s", "name": "S", "timeZone": "Etc/UTC"}],
             "hosts": [{"id": "quay", "site": "s", "writeBytesPerSecond": 1000000}], "stores": [{"id": "shelf", "site": "s", "readBytesPerSecond": 1000000, "writeBytesPerSecond": 1000000}],
             "engines": [{"id": "e", "name": "E", "provisionSeconds": 1, "perSetSeconds": 1, "restoreBytesPerSecond": 1000000, "replayBytesPerSecond": 1000000, "indexBytesPerSecond": 1000000, "openSeconds": 1}],
             "databases": [{"id": "harbour", "name": "H", "engine": "e", "host": "quay", "sizeBytes": 1000000}]}
            """u8.ToArray(), "fleet").Value ?? throw new InvalidOperationException("the fleet of the test is wrong");
        for (var i = 0; i < 6; i++)
        {
            var busy = i % 2 == 0;
            var enough = !busy;
            var walking = h.WalkAsync(3, () => enough);
            var full = await h.FullAsync();
            enough = true;
            await walking;
            await h.CaughtUpAsync();
            var subject = Core.Recovery.RecoverySubject.Of(fleet, fleet.Databases[0], new(new("harbour"), h.Sets));
            var now = SystemClock.Instance.GetCurrentInstant();
            var reach = Core.Recovery.Evaluator.RecoverableAt(subject, Core.Objectives.Loss.None, now);
            Assert.Contains(reach, r => r.From <= full.CoversTo && r.To >= h.Newest!.CoversTo - Duration.FromSeconds(2));
        }
    }

    [Fact]
    public async Task Quiet_time_at_the_end_of_a_file_of_log_holds_all_that_lies_before_it()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        var full = await h.FullAsync();
        await h.Cluster.DoAsync("select imbrek_walk() from generate_series(1, 6)");
        var written = Log.Lsn.Parse(await h.Cluster.AskAsync<string>("select pg_current_wal_insert_lsn()::text")).Value;
        await h.Cluster.DoAsync("select pg_switch_wal()");
        BackupSet? last = null;
        await h.WaitAsync(() => (last = h.Sets.LastOrDefault(s => s.Kind == SetKind.Log && s.ToPosition >= written && s.ToPosition % (1 << 20) == 0)) is not null, "at the end of a file");

        // What is told of a while in which nothing was written, and the next file is not there yet.
        var quiet = last! with { Id = new("quiet"), FromPosition = last.ToPosition, CoversFrom = last.CoversTo, CoversTo = last.CoversTo + Duration.FromSeconds(1) };
        h.Keep(quiet);
        var owner = Guid.NewGuid();
        var (call, instance) = (new RunCall(owner, 1), new InstanceSpec("quiet", new("harbour"), new("quay"), owner));
        SetCopy[] logs = [.. h.Sets.Where(s => s.Kind == SetKind.Log && s.ToPosition >= full.ToPosition && s.ToPosition <= quiet.ToPosition && s.CoversTo > full.CoversTo && s.CoversTo <= quiet.CoversTo).Select(s => new SetCopy(s.Id, new("shelf")))];
        Assert.Equal(quiet.Id, logs[^1].Set);
        await h.Restore.ProvisionAsync(call, instance, default);
        await h.Restore.RestoreSetAsync(call, instance, new SetCopy(full.Id, new("shelf")), default);
        var moved = await h.Restore.ApplyLogsAsync(call, instance, logs, new LogStop(quiet.CoversTo), _ => { }, default);
        await h.Restore.OpenAsync(call, instance, default);
        Assert.Equal(quiet.CoversTo, moved.Reached);
        Assert.Equal("6", Assert.Single((await h.Restore.AskAsync(instance, "select count(*) from imbrek_trail", 1, default)).Rows)[0]);
        await h.Restore.DiscardAsync(call, instance, default);
    }

    [Fact]
    public async Task Stopped_in_the_midst_of_a_transaction_that_drops_a_table_it_is_checked_and_the_table_is_there()
    {
        await using var h = await Harbour.StartAsync();
        await h.Cluster.DoAsync("create extension if not exists amcheck; create table pier (id int primary key); insert into pier select generate_series(1, 500); create table kept (id int); insert into kept values (1)");
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        Instant between;
        await using (var dropping = await h.Cluster.OpenAsync())
        {
            await using var transaction = await dropping.BeginTransactionAsync();
            await using (var drop = new Npgsql.NpgsqlCommand("drop table pier", dropping))
            {
                await drop.ExecuteNonQueryAsync();
            }

            // A commit of somebody else's, so that there is an instant between the two.
            await h.Cluster.DoAsync("select imbrek_walk()");
            await h.CaughtUpAsync();
            between = h.Newest!.CoversTo;
            await transaction.CommitAsync();
        }

        await h.Cluster.DoAsync("select imbrek_walk()");
        await h.CaughtUpAsync();
        foreach (var again in new[] { false, true })
        {
            (InstanceSpec Spec, RunCall Call) made = (null!, default);
            var (trail, moved, checks) = await h.RestoreAsync(new LogStop(between), "between", (s, c) => made = (s, c));
            Assert.Single(trail);
            Assert.Contains(checks, c => c.Name == "stands still" && c.Detail.Contains("was ended there", StringComparison.Ordinal));
            if (again)
            {
                checks = await h.Restore.CheckAsync(made.Call, made.Spec, moved.Reached!.Value, null, default);

                // Who holds a table for good is named, and nobody waits for them.
                await using var holder = await Instance.Find(Path.Combine(h.Instances, "between"))!.OpenAsync("postgres", default);
                await using var hold = new Npgsql.NpgsqlCommand("begin; lock table kept in access exclusive mode", holder);
                await hold.ExecuteNonQueryAsync();
                Assert.Contains("holds a table", (await Assert.ThrowsAsync<DriverException>(() => h.Restore.CheckAsync(made.Call, made.Spec, moved.Reached!.Value, null, default))).Message, StringComparison.Ordinal);
            }

            Assert.All(checks, c => Assert.True(c.Passed, c.ToString()));
            Assert.Equal("500", Assert.Single((await h.Restore.AskAsync(made.Spec, "select count(*) from pier", 1, default)).Rows)[0]);
            await h.Restore.DiscardAsync(made.Call, made.Spec, default);
        }
    }

    [Fact]
    public async Task Released_it_takes_writes_and_thrown_away_it_leaves_nothing()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        var left = 30;
        var told = await h.WalkAsync(1, () => --left < 0);
        await h.CaughtUpAsync();

        InstanceSpec? made = null;
        RunCall call = default;
        var (trail, _, _) = await h.RestoreAsync(new LogStop(h.Newest!.CoversTo), "released", (i, c) => (made, call) = (i, c));
        Assert.Equal(told.Select(t => t.Transaction), trail);
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute, File.GetUnixFileMode(Path.Combine(h.Instances, "released")));
        await h.Restore.ReleaseAsync(call, made!, default);
        await h.Restore.ReleaseAsync(call, made!, default);
        var instance = Instance.Find(Path.Combine(h.Instances, "released"))!;
        await using (var client = await h.Cluster.OpenAsync(instance.Now.Port))
        await using (var walk = new Npgsql.NpgsqlCommand("select imbrek_walk()", client))
        {
            Assert.Equal(told[^1].Number + 1, await walk.ExecuteScalarAsync());
        }

        // Whoever comes with an old fence, or for another run, is refused; who comes with a new one goes on.
        await Assert.ThrowsAsync<DriverException>(() => h.Restore.ReleaseAsync(call, made! with { Owner = Guid.NewGuid() }, default));
        await h.Restore.ReleaseAsync(call with { Fence = 3 }, made!, default);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => h.Restore.DiscardAsync(call, made!, default))).Problem);
        await h.Restore.DiscardAsync(call with { Fence = 3 }, made!, default);
        await h.Restore.DiscardAsync(call with { Fence = 3 }, made!, default);
        Assert.Empty(Directory.EnumerateFileSystemEntries(h.Instances));
        Assert.False(instance.Runs());
    }

    [Fact]
    public async Task One_that_is_held_or_released_answers_a_query_and_can_do_nothing_else_by_it()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.Cluster.DoAsync("create table kept as select i, case when i < 3 then null else 'x' || i end as said from generate_series(1, 10) i");
        await h.FullAsync();
        var left = 10;
        await h.WalkAsync(1, () => --left < 0);
        await h.CaughtUpAsync();
        InstanceSpec? made = null;
        RunCall call = default;
        await h.RestoreAsync(new LogStop(h.Newest!.CoversTo), "looked", (i, c) => (made, call) = (i, c));
        async Task<string> RefusedAsync(string query) => (await Assert.ThrowsAsync<DriverException>(() => h.Restore.AskAsync(made!, query, 10, default))).Message;
        // Where there is no time what was not looked at is said.
        var hurried = await h.Restore.CheckAsync(call, made!, Instant.MinValue, new CheckWish(WithinSeconds: 1e-6), default);
        Assert.Contains("there was no time", hurried.Single(c => c.Name == "structure").Detail, StringComparison.Ordinal);
        foreach (var released in new[] { false, true })
        {
            if (released)
            {
                await h.Restore.ReleaseAsync(call, made!, default);
            }

            var some = await h.Restore.AskAsync(made!, "select i, said from kept order by i", 4, default);
            Assert.Equal(["i", "said"], some.Columns);
            Assert.Equal((4, true), (some.Rows.Count, some.More));
            Assert.Equal(["1", null, "4", "x4"], [.. some.Rows[0], .. some.Rows[3]]);
            Assert.False((await h.Restore.AskAsync(made!, "select 1 as one", 1, default)).More);

            // Two statements, a write, a file of the host, a program: none gets through, also not by the role it began with.
            Assert.Contains("multiple commands", await RefusedAsync("select 1; select 2"), StringComparison.Ordinal);
            Assert.Contains("read-only", await RefusedAsync("delete from kept"), StringComparison.Ordinal);
            Assert.Contains("denied", await RefusedAsync("select pg_read_file('postgresql.conf')"), StringComparison.Ordinal);
            await RefusedAsync("copy kept to program 'cat'");
            await RefusedAsync("rollback; drop table kept");
            Assert.Equal("10", (await h.Restore.AskAsync(made!, "select count(*) from kept", 1, default)).Rows[0][0]);
        }

        Assert.True(Assert.Single((await h.Restore.LetInAsync(call, made!, [], true, default)).Tried).Passed);
        await Assert.ThrowsAsync<DriverException>(() => h.Restore.LetInAsync(call, made!, [new("quay")], true, default));
        await Assert.ThrowsAsync<DriverException>(() => h.Restore.AskAsync(made! with { Owner = Guid.NewGuid() }, "select 1", 1, default));
        await h.Restore.DiscardAsync(call, made!, default);
        await RefusedAsync("select 1");
    }

    [Fact]
    public async Task A_flipped_bit_and_a_missing_file_are_found_when_they_are_read_and_name_the_copy()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        var full = await h.FullAsync();
        await h.Cluster.DoAsync("create table big as select i, repeat('y', 500) as t from generate_series(1, 8000) i");
        await h.CaughtUpAsync();
        await h.WaitAsync(() => h.Sets.Count(s => s.Kind == SetKind.Log) > 2, "cut");
        var call = new RunCall(Guid.NewGuid(), 1);
        SetCopy Copy(BackupSet s) => new(s.Id, new("shelf"));
        Assert.All(await h.Backup.ReadBackAsync(call, new("harbour"), [.. h.Sets.Select(Copy)], default), t => Assert.True(t.Set!.Copies[0].State == CopyState.Good, t.Note));

        var pack = Path.Combine(h.Folder.Full("harbour", full.Id.Value), "base.tar.gz");
        await FlipAsync(pack, 0.5);
        var read = (await h.Backup.ReadBackAsync(call, new("harbour"), [Copy(full)], default))[0];
        Assert.Equal(CopyState.Damaged, read.Set!.Copies[0].State);
        var owner = Guid.NewGuid();
        var spec = new InstanceSpec("broken", new("harbour"), new("quay"), owner);
        await h.Restore.ProvisionAsync(new(owner, 1), spec, default);
        var refused = await Assert.ThrowsAsync<DriverException>(() => h.Restore.RestoreSetAsync(new(owner, 1), spec, Copy(full), default));
        Assert.Equal((DriverProblem.CopyDamaged, Copy(full)), (refused.Problem, refused.Copy!));
        await h.Restore.DiscardAsync(new(owner, 1), spec, default);

        var second = await h.FullAsync();
        var log = h.Sets.First(s => s.Kind == SetKind.Log && s.FromPosition > full.ToPosition);
        var file = h.Folder.Segment("harbour", new Segments(1 << 20), 1, new(log.FromPosition!.Value))!;
        Assert.DoesNotContain("partial", file, StringComparison.Ordinal);
        await FlipAsync(file, 0.3);
        Assert.Equal(CopyState.Damaged, (await h.Backup.ReadBackAsync(call, new("harbour"), [Copy(log)], default))[0].Set!.Copies[0].State);
        File.Delete(file);
        var missing = (await h.Backup.ReadBackAsync(call, new("harbour"), [Copy(log)], default))[0];
        Assert.Equal(CopyState.Damaged, missing.Set!.Copies[0].State);
        Assert.Contains("missing", missing.Note, StringComparison.Ordinal);
        await h.Restore.ProvisionAsync(new(owner, 1), spec, default);
        await h.Restore.RestoreSetAsync(new(owner, 1), spec, Copy(second), default);
        var gone = await Assert.ThrowsAsync<DriverException>(() => h.Restore.ApplyLogsAsync(new(owner, 1), spec, [Copy(log)], new LogStop(log.CoversTo), _ => { }, default));
        Assert.Equal((DriverProblem.CopyUnreachable, Copy(log)), (gone.Problem, gone.Copy!));
        await h.Restore.DiscardAsync(new(owner, 1), spec, default);
    }

    private static BackupSet Base(Harbour h, LogStop stop) => h.Sets.Where(s => s.Kind == SetKind.Full && s.CoversTo <= stop.At).MaxBy(s => s.CoversTo)!;

    private static Instant At((long Position, uint Transaction, DateTime At) commit) => Instant.FromDateTimeUtc(DateTime.SpecifyKind(commit.At, DateTimeKind.Utc));

    private static async Task<IReadOnlyList<uint>> TrailAsync(Harbour h)
    {
        await using var connection = await h.Cluster.OpenAsync();
        return await Cluster.Connections.RowsAsync(connection, "select xid from imbrek_trail", r => (uint)r.GetInt64(0), default);
    }

    private static async Task FlipAsync(string file, double place)
    {
        var bytes = await File.ReadAllBytesAsync(file);
        bytes[(int)(bytes.Length * place)] ^= 4;
        await File.WriteAllBytesAsync(file, bytes);
    }
}
