using System.Diagnostics;
using System.Globalization;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>What is said of a real standby is what it really has.</summary>
public sealed class StandbyTests
{
    /// <summary>How often a primary is killed: four times in the suite, twenty by <c>./imbrek restores</c>.</summary>
    /// <summary>So many looks at the same place in a row say that nothing is replayed any more.</summary>
    private const int LooksStill = 60;

    private static readonly int Kills = int.TryParse(Environment.GetEnvironmentVariable("IMBREK_KILLS"), out var n) ? n : 3;

    private static StandbySpec Spec(TestCluster standby) => new("harbour-hill", "127.0.0.1", standby.Port, "imbrek", "postgres", null);

    [Fact]
    public void The_clock_of_a_log_says_what_each_look_said_and_forgets_only_in_between()
    {
        var (random, log, all) = (new Random(5), new LogClock(), new List<(Instant At, Lsn Position)>());
        var (at, position) = (Instant.FromUtc(2026, 11, 24, 14, 0), 1000L);
        Assert.Null(log.CommittedBefore(new(5000)));
        for (var i = 0; i < 3 * LogClock.Most; i++)
        {
            at += Duration.FromMilliseconds(random.Next(1, 900));
            position += random.Next(3) == 0 ? 0 : random.Next(1, 500);
            log.Stood(at, new(position));
            all.Add((at, new(position)));
            if (i < LogClock.Most && i % 50 == 0)
            {
                // While nothing was let go it is exactly the last look that saw no more.
                var asked = new Lsn(random.Next(900, (int)position + 100));
                Instant? naive = all.Where(m => m.Position <= asked).Select(m => (Instant?)m.At).LastOrDefault();
                Assert.Equal(naive, log.CommittedBefore(asked));
            }
        }

        // What is said later is never more than was seen, and the first and the last are known for ever.
        foreach (var (_, p) in all.Where((_, i) => i % 97 == 0))
        {
            Assert.True(log.CommittedBefore(p) <= all.Last(m => m.Position <= p).At);
        }

        Assert.Equal(all[^1].At, log.CommittedBefore(new(long.MaxValue)));
        Assert.NotNull(log.CommittedBefore(new(all.First(m => m.Position > all[0].Position).Position.Value)));

        // Marks that go back say nothing.
        log.Stood(at - Duration.FromSeconds(1), new(position + 5));
        log.Stood(at + Duration.FromSeconds(1), new(position - 5));
        Assert.Equal(all[^1].At, log.CommittedBefore(new(long.MaxValue)));
    }

    [Fact]
    public async Task What_it_is_said_to_have_when_its_primary_is_killed_it_has_and_what_it_lacks_is_no_more_than_is_said()
    {
        await using var harbour = await Harbour.StartAsync();
        await using var standby = await harbour.Cluster.StandbyAsync("harbour_hill");
        await using var eye = new StandbyEye(SystemClock.Instance);
        var random = new Random(20);
        var lacked = 0;
        for (var kill = 0; kill < Kills; kill++)
        {
            var walking = harbour.WalkAsync(3, () => false);
            var (longest, last) = (Duration.Zero, SystemClock.Instance.GetCurrentInstant());
            using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(100));

            // It follows; then its receiver stands still for a while, as on a link that is cut.
            var (cutAt, killAt) = (random.Next(5, 12), random.Next(13, 25));
            LagSample? sample = null;
            var receiver = 0;
            for (var look = 0; look < killAt; look++)
            {
                if (look == cutAt)
                {
                    receiver = await standby.AskAsync<int>("select pid from pg_stat_wal_receiver");
                    Signal(receiver, "STOP");
                }

                sample = await eye.LookAsync(harbour.Cluster.Spec(), Spec(standby), default);
                var now = SystemClock.Instance.GetCurrentInstant();
                (longest, last) = (Duration.Max(longest, now - last), now);
                await timer.WaitForNextTickAsync();
            }

            Assert.Null(sample!.HeldUpBy);
            harbour.Cluster.Kill();
            var told = await walking;
            sample = await eye.LookAsync(harbour.Cluster.Spec(), Spec(standby), default);
            Assert.Contains("its primary at 127.0.0.1", sample!.HeldUpBy, StringComparison.Ordinal);
            Assert.False(sample.Unusable);

            // What came last may be a part of a record, which is never replayed: then it stands still before it.
            var (at, still) = (default(Lsn), 0);
            await harbour.WaitAsync(
                () =>
                {
                    var now = Lsn.Parse(standby.AskAsync<string>("select pg_last_wal_replay_lsn()::text").Result);
                    (at, still) = (now, now == at ? still + 1 : 0);
                    return now.Value >= sample.ReceivedPosition!.Value || still > LooksStill;
                },
                "replayed");
            HashSet<long> there;
            await using (var connection = await standby.OpenAsync())
            {
                there = [.. await connection.RowsAsync("select n from imbrek_trail", r => r.GetInt64(0), default)];
            }

            (long Transaction, long Number, Instant Told)[] missing = [.. told.Where(t => !there.Contains(t.Number))];
            Assert.All(missing, m => Assert.True(m.Told > sample.ReceivedTo, $"{m.Told} is missing though all up to {sample.ReceivedTo} is said to be there"));
            lacked += missing.Length;
            if (missing.Length > 0)
            {
                // Not more is said to be lost than was, by one look at most; who was told of a commit may hear it late on a busy machine.
                var over = missing.Min(m => m.Told) - sample.ReceivedTo;
                Assert.True(over <= longest + Duration.FromSeconds(1), $"{over} more is said to be lost than was; the longest between two looks was {longest}");
            }

            Signal(receiver, "CONT");
            await harbour.StopReceivingAsync();
            await harbour.Cluster.UpAsync();
            harbour.Receive();
            await harbour.WaitAsync(() => standby.AskAsync<bool>("select exists (select 1 from pg_stat_wal_receiver where status = 'streaming')").Result, "streaming again");
        }

        Assert.True(lacked > 0);
    }

    [Fact]
    public async Task One_that_holds_back_stands_at_the_commit_it_replayed_last_and_one_that_is_waited_for_lacks_nothing()
    {
        await using var harbour = await Harbour.StartAsync();
        await using var late = await harbour.Cluster.StandbyAsync("harbour_late", "recovery_min_apply_delay='3s'");
        await using var eye = new StandbyEye(SystemClock.Instance);

        // Before it has replayed any commit something is known already: what it received, and that it can be stopped at nothing earlier.
        await harbour.WaitAsync(() => eye.LookAsync(harbour.Cluster.Spec(), Spec(late), default).Result is not null, "seen");
        var enough = false;
        var walking = harbour.WalkAsync(1, () => enough);
        LagSample? sample = null;
        await harbour.WaitAsync(() => (sample = eye.LookAsync(harbour.Cluster.Spec(), Spec(late), default).Result) is { PendingBytes: > 0 } s && s.At - s.AppliedTo > Duration.FromSeconds(2.5), "holds back");
        Assert.InRange((sample!.At - sample.AppliedTo).TotalSeconds, 2.5, 8);
        Assert.InRange((sample.At - sample.ReceivedTo).TotalSeconds, 0, 5);
        await late.DoAsync("select pg_wal_replay_pause()");
        Assert.Equal("its replay is paused", (await eye.LookAsync(harbour.Cluster.Spec(), Spec(late), default))!.HeldUpBy);
        await late.DoAsync("select pg_wal_replay_resume()");

        // Waited for at two looks, no commit in between was without it.
        Assert.False(sample.InStep);
        await harbour.Cluster.DoAsync("alter system set synchronous_standby_names = 'harbour_late'");
        await harbour.Cluster.DoAsync("select pg_reload_conf()");
        await harbour.WaitAsync(() => harbour.Cluster.AskAsync<bool>("select exists (select 1 from pg_stat_replication where sync_state = 'sync')").Result, "waited for");
        Assert.False((await eye.LookAsync(harbour.Cluster.Spec(), Spec(late), default))!.InStep);
        Assert.True((await eye.LookAsync(harbour.Cluster.Spec(), Spec(late), default))!.InStep);

        // One that takes writes of its own is no standby any more.
        await harbour.Cluster.DoAsync("alter system reset synchronous_standby_names");
        await harbour.Cluster.DoAsync("select pg_reload_conf()");
        enough = true;
        await walking;
        await late.DoAsync("select pg_promote()");
        var promoted = await eye.LookAsync(harbour.Cluster.Spec(), Spec(late), default);
        Assert.True(promoted!.Unusable);
        Assert.Contains("writes of its own, on timeline 2", promoted.HeldUpBy, StringComparison.Ordinal);
    }

    private static void Signal(int process, string signal)
    {
        using var kill = Process.Start("kill", ["-s", signal, process.ToString(CultureInfo.InvariantCulture)])!;
        kill.WaitForExit();
        Assert.Equal(0, kill.ExitCode);
    }
}
