using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Each rule about replicas: silent where all is well, and found with its figure where its condition holds.</summary>
public class ReplicaFindingTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 3, 2, 12, 0);

    /// <summary>A database with a replica in another site that is well in every respect; each test makes one thing worse.</summary>
    private sealed record Place
    {
        public Database Database { get; init; } = new()
        {
            Id = new("d"),
            Name = "D",
            Engine = new("e"),
            Host = new("here"),
            RecoveryHosts = [new("there")],
            Objective = new Id<Objective>("o"),
            SizeBytes = 1_000_000_000,
            LogBytesPerSecond = 1e6,
            DetectSeconds = 60,
            DecideSeconds = 240,
            Version = "16",
        };

        public Replica Replica { get; init; } = new() { Id = new("r"), Database = new("d"), Place = new ReplicaPlace.OnHost(new("there")), Mode = ReplicaMode.Sync, PromoteSeconds = 30 };

        public ReplicaGroup? Group { get; init; } = new(new("g"), "G", [new("d")], [new("here"), new("there"), new("third")]);

        public Host Here { get; init; } = new(new("here"), new("a"), new Id<StorageArray>("shelf"), 400e6, null, [], ["16"], ["key"], null, 8);

        public Host There { get; init; } = new(new("there"), new("b"), null, 400e6, null, [], ["16"], ["key"], null, 8);

        public IReadOnlyList<LagStretch> Lag { get; init; } = [Stretch(-600, 0)];

        public IReadOnlyList<BackupSet> Sets { get; init; } = [Full(1)];

        public IReadOnlyList<Database> Others { get; init; } = [];

        public RecoverySubject Subject(string of = "d")
        {
            var fleet = new FleetModel(
                [new(new("a"), "A", "UTC"), new(new("b"), "B", "UTC"), new(new("c"), "C", "UTC")], [new(new("a"), new("b"), 100e6, 2)], [new(new("shelf"), new("a"))], [Here, There, new(new("third"), new("c"), null, 1e6, null, [], [], [])],
                [new(new("s"), new("b"), null, null, false, 1e8, 1e8)], [new(new("e"), "E", 1, 1, 1e8, 5e7, 1e8, 1)], [new(new("o"), "O", 60, 3600, [LossKind.Site], 90)], [], [Database, .. Others],
                [Replica], Group is null ? [] : [Group]);
            return RecoverySubject.Of(fleet, fleet.DatabaseById[new(of)], new BackupCatalogue(Sets).WithLag(fleet, Lag).Of(new(of)));
        }

        public ReplicaNote Note { get; init; } = ReplicaNote.None;

        public bool EverTookOver { get; init; } = true;

        public Finding[] Found(string of = "d") => [.. FindingRules.Of(Subject(of).WithNotes(new Dictionary<Id<Replica>, ReplicaNote> { [new("r")] = Note }), EverTookOver ? Proofs.Of(new Proof(Now, 0, 0, true, 0, null, LossKind.None, TookOver: true)) : Proofs.None, Now, Duration.FromDays(7)).Where(f => !Elsewhere.Contains(f.Code))];
    }

    /// <summary>What the rules about sets say of a database that was never restored.</summary>
    private static readonly string[] Elsewhere = ["never-restored", "no-sets", "proof-due"];

    private static LagStretch Stretch(int from, int to, double received = 0, double applied = 1, long pending = 0, int branch = 1) => new(
        new("r"), branch, Now + Duration.FromMinutes(from), Now + Duration.FromMinutes(to), Duration.FromSeconds(received), Duration.FromSeconds(applied), Duration.FromSeconds(applied), pending, null);

    private static BackupSet Full(int branch) => new()
    {
        Id = new($"full{branch}"),
        Database = new("d"),
        Kind = SetKind.Full,
        Branch = branch,
        ToPosition = 1,
        CoversTo = Now - Duration.FromDays(1),
        FinishedAt = Now - Duration.FromDays(1),
        DataBytes = 1,
        Copies = [new(new("s"), Now - Duration.FromDays(1), null, null, 1, CopyState.Good)],
    };

    [Fact]
    public void Where_all_is_well_nothing_is_found() => Assert.Empty(new Place().Found());

    private static readonly Dictionary<string, (Place Place, double? Seconds)> Troubles = new()
    {
        ["even-voters"] = (new() { Group = new(new("g"), "G", [new("d")], [new("here"), new("there")]) }, null),
        ["majority-lost"] = (new() { Replica = new Place().Replica with { TakesOver = TakesOver.ByItself }, Group = new(new("g"), "G", [new("d")], [new("here")]) }, null),
        ["unasked-loss"] = (new() { Replica = new Place().Replica with { TakesOver = TakesOver.ByItself, Mode = ReplicaMode.Async } }, null),
        ["replica-in-failure-domain"] = (new() { There = new Place().There with { Array = new Id<StorageArray>("shelf"), Site = new("a") } }, null),
        ["delay-too-short"] = (new() { Replica = new Place().Replica with { DelaySeconds = 299 }, Lag = [Stretch(-600, 0, 0, 299)] }, 299),
        ["link-too-small"] = (new() { Database = new Place().Database with { LogBytesPerSecond = 90e6, LogByHour = [2, .. Enumerable.Repeat(0.5, 23)] } }, 2880),
        ["log-kept-too-short"] = (new() { Replica = new Place().Replica with { KeepLogBytes = 600_000_000 } }, 600),
        ["shipped-kept-shorter"] = (new()
        {
            Replica = new Place().Replica with { Mode = ReplicaMode.Shipped, Stages = new(new(60, 1), new(60, 1), new(60, 1), 90_000, 86_400) },
            Lag = [Stretch(-600, 0, 60, 120)],
        }, 86_400),
        ["sides-differ"] = (new() { There = new Place().There with { Versions = ["15"] } }, null),
        ["watched-from-its-loss"] = (new() { Note = new ReplicaNote { WatchedFrom = new Id<Host>("here") } }, null),
        ["never-taken-over"] = (new() { EverTookOver = false }, null),
        ["weaker-target"] = (new() { There = new Place().There with { Processors = 2 } }, null),
        ["nobody-watches"] = (new() { Lag = [] }, null),
        ["replica-broken"] = (new() { Replica = new Place().Replica with { KeepLogSeconds = 3600 }, Lag = [Stretch(-600, -61)] }, 3660),
        ["replica-cut-off"] = (new() { Replica = new Place().Replica with { KeepLogSeconds = 7200 }, Lag = [Stretch(-600, -60)] }, 3600),
        ["replica-behind"] = (new() { Lag = [Stretch(-600, 0, 61, 62)] }, 61),
        ["readers-behind"] = (new() { Lag = [Stretch(-600, 0, 0, 301)] }, 301),
        ["no-base-on-branch"] = (new() { Database = new Place().Database with { Branches = [new Branch(2, 1, 5, Now - Duration.FromHours(2), Now - Duration.FromHours(1))] }, Lag = [Stretch(-59, 0, 0, 1, 0, 2)] }, 3600),
    };

    public static TheoryData<string> Codes() => [.. Troubles.Keys];

    [Theory]
    [MemberData(nameof(Codes))]
    public void A_trouble_is_found_by_its_rule_alone_with_its_figure(string code)
    {
        var f = Assert.Single(Troubles[code].Place.Found());
        Assert.Equal(code, f.Code);
        Assert.Equal(Troubles[code].Seconds ?? -1, f.Seconds ?? -1, 0.01);
        Assert.True(f.What.Length > 10 && f.Why.Length > 10 && f.Remedy.Length > 10);
    }

    [Fact]
    public void Sides_are_compared_in_what_both_state()
    {
        var place = new Place();
        var differ = place with { Here = place.Here with { Collation = "C", TimeZone = "UTC", CharacterSet = "UTF8" }, There = place.There with { Collation = "C", TimeZone = "Europe/Oslo" } };
        var f = Assert.Single(differ.Found());
        Assert.Equal("sides-differ", f.Code);
        Assert.EndsWith("time zone UTC on here, Europe/Oslo on there", f.What, StringComparison.Ordinal);

        // Watched from a third site, or from where nobody says, it is as it should be.
        Assert.Empty((place with { Note = new ReplicaNote { WatchedFrom = new Id<Host>("third") } }).Found());
    }

    [Fact]
    public void A_database_of_a_group_that_has_no_replica_is_found_and_the_others_are_not()
    {
        var place = new Place { Others = [new Place().Database with { Id = new("other") }], Group = new(new("g"), "G", [new("d"), new("other")], []) };
        Assert.Equal("not-replicated", Assert.Single(place.Found("other")).Code);
        Assert.Empty(place.Found());
    }

    [Fact]
    public void A_log_volume_that_fills_is_found_with_the_date_at_the_replica_and_at_the_primary()
    {
        var replica = new Place { Replica = new Place().Replica with { LogRoomBytes = 10_000_000_000, Readable = ReplicaReadable.Never }, Lag = [Stretch(-600, 0, 0, 7200, 7_200_000_000)] };
        var full = Assert.Single(replica.Found());
        Assert.Equal(("log-room-fills", Now + Duration.FromSeconds(2800)), (full.Code, full.Since));
        var primary = new Place { Database = new Place().Database with { LogRoomBytes = 8_000_000_000 }, Lag = [Stretch(-600, -60)] };
        Assert.Equal(Now + Duration.FromSeconds(4400), Assert.Single(primary.Found(), f => f.Code == "primary-log-fills").Since);
        Assert.Equal(["primary-log-fills", "replica-cut-off"], primary.Found().Select(f => f.Code).Order());
    }

    [Fact]
    public void What_lies_between_the_sets_and_what_a_replica_still_holds_is_no_hole_in_the_log()
    {
        BackupSet log = Full(1) with
        {
            Id = new("log"),
            Kind = SetKind.Log,
            FromPosition = 1,
            ToPosition = 2,
            CoversFrom = Now - Duration.FromDays(1),
            CoversTo = Now - Duration.FromHours(1),
            FinishedAt = Now - Duration.FromHours(1),
            Copies = [new(new("s"), Now - Duration.FromHours(1), null, null, 1, CopyState.Good)],
        };
        var place = new Place { Replica = new Place().Replica with { RewindSeconds = 600 }, Sets = [Full(1), log] };
        Assert.Equal(2, Evaluator.RecoverableAt(place.Subject(), Loss.None, Now).Count);
        Assert.Empty(place.Found());
    }

    [Fact]
    public void Replicas_that_are_planned_or_have_ended_are_not_looked_at()
    {
        var trouble = Troubles["replica-behind"].Place;
        Assert.Empty((trouble with { Replica = trouble.Replica with { Since = Now + Duration.FromHours(1) } }).Found());
        Assert.Empty((trouble with { Replica = trouble.Replica with { Until = Now } }).Found());
    }

    [Fact]
    public void A_replica_left_on_a_branch_that_the_live_one_does_not_share_is_broken_and_says_why()
    {
        var branches = new Place { Database = new Place().Database with { Branches = [new Branch(2, 1, 5, Now - Duration.FromHours(2), Now - Duration.FromHours(1))] }, Sets = [Full(2)] };
        var f = Assert.Single(branches.Found());
        Assert.Equal("replica-broken", f.Code);
        Assert.Contains("than branch 2 began with", f.What, StringComparison.Ordinal);
    }
}
