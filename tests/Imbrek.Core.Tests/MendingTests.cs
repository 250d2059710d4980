using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>How a replica that is broken is mended: which way is possible, what it takes, and why the others are not.</summary>
public class MendingTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 3, 2, 12, 0);

    private static Instant Hours(double hours) => Now + Duration.FromHours(hours);

    private static BackupSet Log(double from, double to, string store = "s") => new()
    {
        Id = new($"log{from}"),
        Database = new("d"),
        Kind = SetKind.Log,
        FromPosition = (long)(from * 100),
        ToPosition = (long)(to * 100),
        CoversFrom = Hours(from),
        CoversTo = Hours(to),
        FinishedAt = Hours(to),
        DataBytes = 3_600_000_000,
        Copies = [new(new(store), Hours(to), null, null, 1_000_000, CopyState.Good)],
    };

    private static BackupSet Full => new()
    {
        Id = new("full"),
        Database = new("d"),
        Kind = SetKind.Full,
        ToPosition = -2400,
        CoversTo = Hours(-24),
        FinishedAt = Hours(-24),
        DataBytes = 100_000_000_000,
        Copies = [new(new("s"), Hours(-24), null, null, 100_000_000_000, CopyState.Good)],
    };

    private static (RecoverySubject Subject, ReplicaSource Replica) Place(IEnumerable<BackupSet> sets, double keepSeconds = 3600, double lagTo = -5, double size = 4e12)
    {
        var database = new Database { Id = new("d"), Name = "D", Engine = new("e"), Host = new("here"), SizeBytes = (long)size, LogBytesPerSecond = 1e6 };
        var replica = new Replica { Id = new("r"), Database = new("d"), Place = new ReplicaPlace.OnHost(new("there")), Mode = ReplicaMode.Async, KeepLogSeconds = keepSeconds };
        var fleet = new FleetModel(
            [new(new("a"), "A", "UTC"), new(new("b"), "B", "UTC"), new(new("c"), "C", "UTC")], [new(new("a"), new("b"), 100e6, 2)], [], [new(new("here"), new("a"), null, 4e8, null, [], [], []), new(new("there"), new("b"), null, 4e8, null, [], [], [])],
            [new(new("s"), new("b"), null, null, false, 1e8, 1e8), new(new("far"), new("c"), null, null, false, 1e8, 1e8)], [new(new("e"), "E", 60, 1, 4e8, 5e7, 1e8, 30)], [], [], [database], [replica]);
        LagStretch lag = new(new("r"), 1, Hours(-20), Hours(lagTo), Duration.Zero, Duration.FromMinutes(30), Duration.FromMinutes(30), 0, null);
        var subject = RecoverySubject.Of(fleet, database, new BackupCatalogue(sets).WithLag(fleet, [lag]).Of(database.Id));
        return (subject, subject.Replicas[0]);
    }

    private static Mending.Way Way((RecoverySubject Subject, ReplicaSource Replica) p, Mending.By by) => Mending.Of(p.Subject, p.Replica, Now).Single(w => w.By == by);

    private static BackupSet[] Hourly(int until = 0) => [.. Enumerable.Range(-24, 24 + until).Select(h => Log(h, h + 1))];

    [Fact]
    public void Log_leads_from_what_was_applied_to_what_the_source_still_keeps()
    {
        var p = Place([Full, .. Hourly()]);
        var way = Way(p, Mending.By.Log);

        // Applied up to 06:30: half of one log and five whole, a second each and their bytes at the replay rate; then what came meanwhile at 50 MB/s.
        Assert.Equal(["log-6", "log-5", "log-4", "log-3", "log-2", "log-1"], way.Sets!.Steps.Select(s => s.Set.Value));
        var replay = 6 + (5.5 * 3600e6 / 5e7);
        Assert.Equal(replay, way.Sets.Seconds, 1e-6);
        Assert.Equal(replay + (replay * 1e6 / (5e7 - 1e6)), way.Seconds!.Value, 1e-6);
        Assert.Equal(Mending.By.Log, Mending.Of(p.Subject, p.Replica, Now)[0].By);
    }

    [Fact]
    public void Where_the_source_still_keeps_all_no_backup_is_needed()
    {
        var way = Way(Place([], keepSeconds: 6 * 3600), Mending.By.Log);
        Assert.Null(way.Sets);
        Assert.Equal(5.5 * 3600e6 / (5e7 - 1e6), way.Seconds!.Value, 1e-6);
    }

    [Theory]
    [InlineData(0, "no log backup that can be read at there goes on from 2026-03-02T06:30:00Z")]
    [InlineData(1, "log backups lead to 2026-03-02T10:00:00Z; from there more log comes meanwhile than its source keeps")]
    [InlineData(2, "no log backup that can be read at there goes on from 2026-03-02T06:30:00Z")]
    public void A_hole_in_the_log_backups_is_said(int trouble, string why)
    {
        BackupSet[] sets = trouble switch
        {
            0 => [Full, .. Hourly().Where(l => l.CoversFrom != Hours(-6))],
            1 => [Full, .. Hourly(-2)],
            _ => [Full, .. Hourly().Select(l => Log((l.CoversFrom!.Value - Now).TotalHours, (l.CoversTo - Now).TotalHours, "far"))],
        };
        Assert.Equal(why, Way(Place(sets), Mending.By.Log).WhyNot);
    }

    [Fact]
    public void A_set_is_left_unopened_and_a_copy_needs_the_log_that_comes_meanwhile()
    {
        var p = Place([Full, .. Hourly()]);
        var set = Way(p, Mending.By.Set);
        var restore = 60 + 1 + (100e9 / 1e8) + 24 + (24 * 3600e6 / 5e7);
        Assert.Equal(restore + (restore * 1e6 / (5e7 - 1e6)), set.Seconds!.Value, 1e-6);
        Assert.Equal("more log comes meanwhile than its source keeps", Way(p, Mending.By.Anew).WhyNot);
        Assert.NotNull(Way(Place([Full], size: 1e11), Mending.By.Anew).Seconds);
    }

    [Fact]
    public void Sets_that_no_log_can_be_applied_to_seed_nothing()
    {
        var p = Place([Full with { RollForward = false }, .. Hourly()]);
        Assert.Equal("no set that log can be applied to can be read at there", Way(p, Mending.By.Set).WhyNot);
    }
}
