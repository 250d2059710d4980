using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>Plans: who they catch, how they are written, and each finding about them.</summary>
public class PlanTests
{
    private static readonly Proofs Proven = Proofs.Of(new Proof(Monday - Duration.FromDays(1), 0, 600, true, 100_000_000_000, null));

    private static IReadOnlyList<Finding> Findings(FleetModel fleet, params Plan[] plans)
    {
        var with = fleet.WithPlans(plans);
        var answer = Designer.Design(new DesignQuestion { Fleet = with, Series = Series.Of(with), Databases = [.. with.Databases.Where(d => with.PlansOf(d).Count > 0)], From = Monday });
        var d = with.Databases[0];
        return PlanFindings.Of(with, d, answer.ByDatabase.GetValueOrDefault(d.Id), answer.Prediction.Clashes, Proven, Monday);
    }

    private static FleetModel With(FleetModel f, Func<Database, Database> change) => new(
        f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, f.EngineList, f.ObjectiveList, f.ServiceList, [.. f.Databases.Select(change)]);

    private static PlanTask Of(Plan plan, TaskKind kind) => plan.Tasks.Single(t => t.Kind == kind);

    private static Plan Change(Plan plan, TaskKind kind, Func<PlanTask, PlanTask> change) => plan with { Tasks = [.. plan.Tasks.Select(t => t.Kind == kind ? change(t) : t)] };

    [Fact]
    public void A_good_plan_has_no_finding() => Assert.Empty(Findings(Harbour(rpo: 1000), Usual()));

    /// <summary>The harbour with a replica that log is shipped to, every five minutes and kept for twelve hours and four.</summary>
    private static FleetModel Shipped => Harbour(rpo: 1000).With(replicas:
    [
        new Replica { Id = new("r"), Database = new("d0"), Place = new ReplicaPlace.OnHost(new("spare")), Mode = ReplicaMode.Shipped, Stages = new(new(300, 5), new(300, 8), new(300, 20), 12 * 3600, 4 * 3600) },
    ]);

    /// <summary>A good plan that ships log too, each stage after the one before it.</summary>
    private static Plan Shipping(string when = "every 5 minutes") => Usual() is var p ? p with
    {
        Tasks =
        [
            .. p.Tasks,
            Task(TaskKind.ShipBackup, when) with { Keep = RetentionRule.For(Duration.FromHours(12)) },
            Task(TaskKind.ShipCopy, null) with { After = [new(nameof(TaskKind.ShipBackup), LinkOn.Success)], Keep = RetentionRule.For(Duration.FromHours(4)) },
            Task(TaskKind.ShipApply, null) with { After = [new(nameof(TaskKind.ShipCopy), LinkOn.Success)] },
        ],
    } : p;

    [Fact]
    public void A_plan_that_ships_log_as_its_replica_states_has_no_finding()
    {
        Assert.DoesNotContain(Findings(Shipped, Shipping()), f => f.Code.StartsWith("ship", StringComparison.Ordinal));
        Assert.Equal(Duration.FromMinutes(5), Shipping().LongestGap(Of(Shipping(), TaskKind.ShipApply), Monday));
        var byDay = Shipping("every 5 minutes between 06:00 and 21:00");
        Assert.Equal(Duration.FromMinutes((9 * 60) + 5), byDay.LongestGap(Of(byDay, TaskKind.ShipApply), Monday));
    }

    /// <summary>Each finding, from the least change to a good plan that causes it.</summary>
    public static TheoryData<string> Codes =>
    [
        "no-plan", "log-task-without-log", "copies-in-failure-domain", "base-removed-first", "downstream-kept-shorter", "source-keeps-log-too-short", "window-missed", "rpo-missed-by-design",
        "rto-missed-by-design", "no-verification", "key-not-at-recovery", "key-not-at-source", "reads-everything", "never-fires", "fires-in-clock-change", "two-plans", "store-will-be-full", "no-base-in-chain",
        "compression-short-of-processor", "export-with-short-rpo", "nobody-is-told", "kind-not-possible", "store-unreachable", "never-test-restored",
        "ships-to-nobody", "shipped-less-often", "shipped-kept-less",
    ];

    [Theory]
    [MemberData(nameof(Codes))]
    public void Each_trouble_is_found_and_only_by_what_causes_it(string code)
    {
        var good = Usual();
        var fleet = Harbour(rpo: 1000);
        Assert.DoesNotContain(Findings(fleet, good), f => f.Code == code);
        var found = code switch
        {
            "no-plan" => Findings(fleet),
            "two-plans" => Findings(fleet, good, good with { Id = new("q"), Name = "Q" }),
            "log-task-without-log" => Findings(With(fleet, d => d with { LogMode = LogMode.Discarded }), good),
            "copies-in-failure-domain" => Findings(fleet, good with { Tasks = [.. good.Tasks.Select(t => t.Store is null ? t : t with { Store = new Id<Store>("beside"), CopyTo = [] })] }),
            "base-removed-first" => Findings(fleet, Change(good, TaskKind.Full, t => t with { Keep = RetentionRule.For(Duration.FromDays(7)) })),
            "downstream-kept-shorter" => Findings(fleet, Change(good, TaskKind.Log, t => t with { KeepCopies = RetentionRule.For(Duration.FromDays(3)) })),
            "source-keeps-log-too-short" => Findings(fleet, Change(good, TaskKind.Log, t => t with { Keep = RetentionRule.For(Duration.FromDays(1)) }) is var p
                ? p with { Tasks = [.. p.Tasks, Task(TaskKind.CopyElsewhere, "daily 05:00") with { Store = Far }] } : p),
            "window-missed" => Findings(fleet, Change(good, TaskKind.Full, t => t with { Window = Duration.FromMinutes(2) })),
            "rpo-missed-by-design" => Findings(fleet, Change(good, TaskKind.Log, t => t with { Recurrence = When("every hour") })),
            "rto-missed-by-design" => Findings(Harbour(rpo: 1000, rto: 60), good),
            "no-verification" => Findings(fleet, good with { Tasks = [.. good.Tasks.Where(t => t.Kind is not (TaskKind.Verify or TaskKind.CleanUp))] }),
            "key-not-at-recovery" => Findings(fleet, Change(good, TaskKind.Full, t => t with { Key = "east-key" })),
            "key-not-at-source" => Findings(fleet, Change(good, TaskKind.Full, t => t with { Key = "west-key" })),
            "reads-everything" => Findings(Harbour(rpo: 1000, tracks: false), good),
            "never-fires" => Findings(fleet, Change(good, TaskKind.Differential, t => t with { Recurrence = When("Sundays 01:00 until 2025-12-31") })),
            "fires-in-clock-change" => Findings(fleet, Change(good, TaskKind.Full, t => t with { Recurrence = When("Sundays 02:30") })),
            "store-will-be-full" => Findings(Harbour(rpo: 1000, farCapacity: 45_000_000_000), good),
            "no-base-in-chain" => Findings(fleet, Change(good, TaskKind.Full, t => t with { OutsideChain = true })),
            "compression-short-of-processor" => Findings(fleet, Change(good, TaskKind.Full, t => t with { Compression = Compression.Strong })),
            "export-with-short-rpo" => Findings(With(fleet, d => d with { Engine = new("rows") }), Plan(Task(TaskKind.Export, "daily 01:00"))),
            "nobody-is-told" => Findings(fleet, good with { Tell = TellRule.Nobody }),
            "kind-not-possible" => Findings(fleet, good with { Tasks = [.. good.Tasks, Task(TaskKind.Snapshot, "daily 05:00")] }),
            "store-unreachable" => Findings(
                new FleetModel(
                    [.. fleet.SiteList, new(new("north"), "North", "UTC")], fleet.Links, fleet.ArrayList, fleet.HostList, [.. fleet.StoreList, new(new("island"), new("north"), null, null, false, 1e8, 1e8)],
                    fleet.EngineList, fleet.ObjectiveList, fleet.ServiceList, fleet.Databases),
                Change(good, TaskKind.Full, t => t with { Store = new Id<Store>("island"), CopyTo = [] })),
            "never-test-restored" => PlanFindings.Of(
                fleet.WithPlans([good with { Tasks = [.. good.Tasks.Where(t => t.Kind != TaskKind.TestRestore)] }]), fleet.Databases[0], null, [], Proofs.None, Monday),
            "ships-to-nobody" => Findings(fleet, Shipping()),
            "shipped-less-often" => Findings(Shipped, Shipping("every 6 minutes")),
            "shipped-kept-less" => Findings(Shipped, Change(Shipping(), TaskKind.ShipCopy, t => t with { Keep = RetentionRule.For(Duration.FromHours(3)) })),
            _ => [],
        };
        var finding = found.FirstOrDefault(f => f.Code == code);
        Assert.NotNull(finding);
        Assert.All([finding.What, finding.Why, finding.Remedy], Assert.NotEmpty);
    }

    [Fact]
    public void A_log_that_has_not_come_three_times_over_is_silent_and_one_that_came_is_not()
    {
        var fleet = Harbour().WithPlans([Usual()]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        var catalogue = answer.Subjects[new("d0")].Catalogue;
        Assert.Empty(PlanFindings.Silence(fleet, fleet.Databases[0], catalogue, answer.To));
        Assert.Empty(PlanFindings.Silence(fleet, fleet.Databases[0], catalogue, answer.To + Duration.FromMinutes(29)));
        var silent = Assert.Single(PlanFindings.Silence(fleet, fleet.Databases[0], catalogue, answer.To + Duration.FromMinutes(50)));
        Assert.Equal(("silent", Urgency.Now), (silent.Code, silent.Urgency));
        Assert.Contains("\"Log\"", silent.What, StringComparison.Ordinal);
    }

    [Fact]
    public void A_rule_catches_what_fits_all_its_criteria_and_a_name_always_does()
    {
        var d = Harbour().Databases[0];
        Assert.True(new Selection { Services = [new("s")], Tags = ["x", "t"] }.Catches(d));
        Assert.False(new Selection { Services = [new("s")], Tags = ["x"] }.Catches(d));
        Assert.False(new Selection().Catches(d));
        Assert.True(new Selection { Databases = [d.Id] }.Catches(d));
        Assert.False(new Selection { Databases = [d.Id], Except = [d.Id] }.Catches(d));
        Assert.True(new Selection { Engines = [new("chain")], Objectives = [new("o")] }.Catches(d));
    }

    [Fact]
    public void A_plan_is_written_and_read_back_as_it_was_by_itself_and_in_the_fleet_file()
    {
        var rich = Usual() with
        {
            Members = new Selection { Tags = ["t"], Except = [new("d0")], Databases = [new("d0")] },
            Tell = new TellRule(["a", "b"], false, true, Duration.FromHours(3), false),
            Tasks =
            [
                .. Usual().Tasks,
                Task(TaskKind.Full, "last Friday of the month 22:00", "aside") with
                {
                    OutsideChain = true, Window = Duration.FromHours(3), SpreadOver = Duration.FromMinutes(5), Offsets = new Dictionary<string, Duration> { ["d0"] = Duration.FromMinutes(3) },
                    Key = "k", VerifyAfterWriting = true, Checksum = false, Attempts = 4, BackOff = Duration.FromSeconds(30), TimeLimit = Duration.FromHours(9), Lock = Duration.FromDays(7),
                    Compression = Compression.Strong, Missed = MissedRule.Report, Overlap = OverlapRule.Wait,
                    Keep = new RetentionRule(Duration.FromDays(3), 1, 2, 3, 4, 5, Duration.FromDays(6), false), KeepCopies = RetentionRule.For(Duration.FromDays(2)),
                },
            ],
        };
        var fleet = Harbour(2).WithPlans([rich]);
        var text = PlanFile.Write(rich).ToJsonString();
        var read = PlanFile.Read(Encoding.UTF8.GetBytes(text), fleet, default);
        Assert.Empty(read.Faults);
        Assert.Empty(read.Warnings);
        Assert.Equal(text, PlanFile.Write(read.Value!).ToJsonString());
        var again = FleetFile.Read(Encoding.UTF8.GetBytes(FleetFile.Write(fleet)), "f");
        Assert.Empty(again.Faults);
        Assert.Equal(text, PlanFile.Write(again.Value!.Plans.Single()).ToJsonString());
        Assert.Equal(FleetFile.Write(fleet), FleetFile.Write(again.Value!));
    }

    [Theory]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","recurrence":{"words":"sometimes"},"store":"near"}]}""", "tasks[0].recurrence.words")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","recurrence":{"words":"daily 01:00"}}]}""", "tasks[0].store")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"nowhere","recurrence":{"words":"daily 01:00"}}]}""", "tasks[0].store")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near"}]}""", "tasks[0].recurrence")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"shipCopy","store":"near","recurrence":{"words":"every 5 minutes"}}]}""", "tasks[0].store")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"shipApply","copyTo":["near"],"recurrence":{"words":"every 5 minutes"}}]}""", "tasks[0].copyTo")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"shipBackup","keep":{"daily":3},"recurrence":{"words":"every 5 minutes"}}]}""", "tasks[0].keep")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"fulll","store":"near","recurrence":{"words":"daily 01:00"}}]}""", "tasks[0].kind")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","copyTo":["near"],"recurrence":{"words":"daily 01:00"}}]}""", "tasks[0].copyTo")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","naming":"{database}","recurrence":{"words":"daily 01:00"}}]}""", "tasks[0].naming")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","keep":{},"recurrence":{"words":"daily 01:00"}}]}""", "tasks[0].keep")]
    [InlineData("""{"id":"p","tasks":[{"id":"a","kind":"verify","after":[{"task":"b"}]},{"id":"b","kind":"verify","after":[{"task":"a"}]}]}""", "tasks[0].after")]
    [InlineData("""{"id":"p","tasks":[{"id":"a","kind":"verify","after":[{"task":"x"}]}]}""", "tasks[0].after")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","recurrence":{"rule":"FREQ=DAILY;BYHOUR=99"}}]}""", "tasks[0].recurrence.rule")]
    [InlineData("""{"id":"p","members":{"services":["nobody"]}}""", "members.services")]
    [InlineData("""{"id":"a b"}""", "id")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","recurrence":{"words":"daily 01:00"},"offsets":[{"database":"d0","seconds":1},{"database":"d0","seconds":2}]}]}""", "tasks[0].offsets[1].database")]
    [InlineData("""{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","recurrence":{"words":"daily 01:00"},"offsets":[{"database":"d0","seconds":700000}]}]}""", "tasks[0].offsets[0].seconds")]
    public void A_fault_names_the_member(string json, string member)
    {
        var read = PlanFile.Read(Encoding.UTF8.GetBytes(json), Harbour(), new LocalDate(2026, 1, 1));
        Assert.Null(read.Value);
        Assert.Contains(read.Faults, f => f.Member == member);
    }

    [Fact]
    public void Names_of_sets_come_once_even_when_the_clock_is_put_back()
    {
        var first = SetNaming.Of(SetNaming.Default, new("d"), SetKind.Log, Instant.FromUtc(2026, 10, 25, 0, 30), Oslo);
        var second = SetNaming.Of(SetNaming.Default, new("d"), SetKind.Log, Instant.FromUtc(2026, 10, 25, 1, 30), Oslo);
        Assert.Equal("d-log-20261025T023000", first.Value);
        Assert.NotEqual(first, second);
        Assert.NotNull(SetNaming.WhatIsWrong("{database}-{hour}-{kind}-{date}-{time}"));
        Assert.NotNull(SetNaming.WhatIsWrong("../{database}-{kind}-{date}-{time}"));
        Assert.Null(SetNaming.WhatIsWrong(SetNaming.Default));
    }
}
