using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>What comes of having a replica take over, of having one at all, and of what is noted of it beside its lag.</summary>
public class PromotingTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 3, 2, 12, 0);

    private static readonly Replica Near = new()
    {
        Id = new("near"),
        Database = new("d"),
        Place = new ReplicaPlace.OnHost(new("there")),
        Mode = ReplicaMode.Async,
        PromoteSeconds = 30,
        ApplyBytesPerSecond = 1e6,
    };

    private static readonly Replica Far = Near with { Id = new("far"), Place = new ReplicaPlace.OnHost(new("beyond")) };

    private static LagStretch Lag(Replica r, double lag, double endedSecondsAgo = 0, long pending = 0) =>
        new(r.Id, 1, Now - Duration.FromHours(5), Now - Duration.FromSeconds(endedSecondsAgo), Duration.FromSeconds(lag), Duration.FromSeconds(lag + 10), Duration.FromSeconds(lag), pending, null);

    private static RecoverySubject Subject(IEnumerable<Replica> replicas, IEnumerable<LagStretch> lag, IEnumerable<ReplicaGroup>? groups = null, params Plan[] plans)
    {
        var database = new Database
        {
            Id = new("d"),
            Name = "D",
            Engine = new("e"),
            Host = new("here"),
            SizeBytes = 1_000_000_000,
            LogBytesPerSecond = 1000,
            DetectSeconds = 60,
            RecoveryHosts = [new("there")],
            Objective = new Id<Objective>("o"),
        };
        static Host Host(string id, string site) => new(new(id), new(site), null, 4e8, null, [], [], []);
        var fleet = new FleetModel(
            [new(new("a"), "A", "UTC"), new(new("b"), "B", "UTC")],
            [new(new("a"), new("b"), 100e6, 2)],
            [],
            [Host("here", "a"), Host("there", "b"), Host("beyond", "b")],
            [new(new("s"), new("b"), null, null, false, 1e8, 1e8)],
            [new(new("e"), "E", 60, 1, 4e8, 5e7, 1e8, 30)],
            [new(new("o"), "O", 60, 600, [LossKind.Host], 30)],
            [],
            [database, database with { Id = new("d2") }],
            replicas,
            groups).WithPlans(plans);
        BackupSet full = new()
        {
            Id = new("full"),
            Database = database.Id,
            Kind = SetKind.Full,
            ToPosition = 10,
            CoversTo = Now - Duration.FromHours(1),
            FinishedAt = Now - Duration.FromHours(1),
            DataBytes = 1_000_000_000,
            Copies = [new(new("s"), Now - Duration.FromHours(1), null, null, 1_000_000_000, CopyState.Good)],
        };
        return RecoverySubject.Of(fleet, database, new BackupCatalogue([full]).WithLag(fleet, lag).Of(database.Id));
    }

    private static Promoting Of(RecoverySubject subject, string replica = "near") => Promoting.Of(subject, subject.Replicas.Single(r => r.Replica.Id.Value == replica), Now);

    [Fact]
    public void What_was_not_received_may_be_lost_in_seconds_and_bytes_and_somebody_must_approve_it()
    {
        var p = Of(Subject([Near], [Lag(Near, 7, endedSecondsAgo: 20)]));
        Assert.Equal((null, 27.0, 27_000.0, true), (p.WhyNot, p.LostSeconds, p.LostBytes, p.NeedsApproval));
        Assert.Equal(30, p.Way!.Seconds);
    }

    [Theory]
    [InlineData(0, 5, 0)]
    [InlineData(0, 31, 31)]
    [InlineData(2, 5, 7)]
    public void One_that_every_commit_waits_for_loses_nothing_while_it_was_seen_in_step_a_moment_ago(double lag, double endedSecondsAgo, double lost)
    {
        var waiting = Near with { Mode = ReplicaMode.Sync };
        Assert.Equal((lost, lost > 0), Of(Subject([waiting], [Lag(waiting, lag, endedSecondsAgo)])) is var p ? (p.LostSeconds, p.NeedsApproval) : default);
    }

    [Fact]
    public void One_that_is_only_read_from_unknown_or_not_usable_cannot_take_over()
    {
        Assert.Equal("it is only read from", Of(Subject([Near with { TakesOver = TakesOver.Never }], [Lag(Near, 1)])).WhyNot);
        Assert.Equal(("nothing is known of it", (double?)null), Of(Subject([Near], [])) is var p ? (p.WhyNot, p.LostBytes) : default);
        var full = Subject([Near], [Lag(Near, 1)]).WithNotes(new Dictionary<Id<Replica>, ReplicaNote> { [Near.Id] = new() { Unusable = "its volume is full", Since = Now - Duration.FromHours(1) } });
        Assert.Equal("its volume is full", Of(full).WhyNot);
    }

    [Fact]
    public void Others_follow_that_have_no_more_than_it_and_the_first_base_is_a_full_before_a_snapshot()
    {
        static PlanTask Task(TaskKind kind) => new() { Id = kind.ToString(), Kind = kind, Store = new Id<Store>("s") };
        var plan = new Plan(new("p"), "P", new Selection { Databases = [new("d")] }, [Task(TaskKind.Log), Task(TaskKind.Snapshot), Task(TaskKind.Full)], TellRule.Nobody);
        var subject = Subject([Near, Far], [Lag(Near, 10), Lag(Far, 4)], plans: plan);
        Assert.Contains("6 s more", Assert.Single(Of(subject).Others).WhyNot, StringComparison.Ordinal);
        Assert.Null(Assert.Single(Of(subject, "far").Others).WhyNot);
        Assert.Equal(TaskKind.Full, Of(subject).FirstBase!.Kind);
        Assert.Null(Of(Subject([Near], [Lag(Near, 1)])).FirstBase);
    }

    [Fact]
    public void What_is_not_usable_counts_from_then_on_and_not_before()
    {
        var subject = Subject([Near], [Lag(Near, 1)]);
        var noted = subject.WithNotes(new Dictionary<Id<Replica>, ReplicaNote> { [Near.Id] = new() { Unusable = "full", Since = Now - Duration.FromMinutes(30) } });
        var loss = Loss.Of(new Id<Host>("here"));
        Assert.True(noted.Replicas[0].Counts(loss, Now - Duration.FromMinutes(31)));
        Assert.False(noted.Replicas[0].Counts(loss, Now - Duration.FromMinutes(30)));
        Assert.Equal(ReplicaState.Broken, Watch.Of(noted, noted.Replicas[0], Now).State);
        Assert.Equal(ReplicaState.InStep, Watch.Of(noted, noted.Replicas[0], Now - Duration.FromMinutes(31)).State);

        // More lag does not make it forget what was noted.
        var more = noted.With([Lag(Near, 1) with { From = Now, To = Now + Duration.FromMinutes(1) }]);
        Assert.False(more.Replicas[0].Counts(loss, Now));
    }

    [Theory]
    [InlineData(true, null, ReplicaState.Seeding)]
    [InlineData(true, "ada", ReplicaState.Seeding)]
    [InlineData(false, "ada", ReplicaState.Held)]
    public void A_run_that_seeds_it_is_told_before_who_holds_it_and_both_before_how_it_stands(bool seeding, string? heldBy, ReplicaState state)
    {
        var subject = Subject([Near], [Lag(Near, 1, endedSecondsAgo: 4000)]).WithNotes(new Dictionary<Id<Replica>, ReplicaNote> { [Near.Id] = new() { Seeding = seeding, HeldBy = heldBy } });
        Assert.Equal(state, Watch.Of(subject, subject.Replicas[0], Now).State);
    }

    [Fact]
    public void Each_loss_is_compared_as_it_is_and_as_it_would_be_and_one_that_cannot_befall_it_is_left_out()
    {
        var with = Subject([Near], [Lag(Near, 1)]);
        var changes = LossChange.Each(with, with with { Replicas = [] }, Now);
        Assert.Equal([LossKind.None, LossKind.Host, LossKind.Site, LossKind.Hostile], changes.Select(c => c.Kind));
        var host = changes.Single(c => c.Kind == LossKind.Host);
        Assert.Equal((1.0, 3600.0, true), (host.Now!.LostSeconds, host.Then!.LostSeconds, host.Agreed));
        Assert.False(changes.Single(c => c.Kind == LossKind.Site).Agreed);
    }

    [Fact]
    public void Those_of_a_group_in_one_site_stand_together_and_one_in_no_group_by_itself()
    {
        var other = Near with { Id = new("other"), Database = new("d2"), Place = Far.Place };
        var here = Near with { Id = new("here"), Place = new ReplicaPlace.OnHost(new("here")) };
        var grouped = Subject([Near, other, here], [], [new(new("g"), "G", [new("d"), new("d2")], [])]).Fleet;
        Assert.Equal(["near", "other"], Near.TogetherIn(grouped, Now).Select(r => r.Id.Value));

        // One that has ended is held with nobody any more.
        var ended = grouped.With(replicas: grouped.ReplicaList.Select(r => r.Id.Value == "other" ? r with { Until = Now } : r));
        Assert.Equal(["near"], Near.TogetherIn(ended, Now).Select(r => r.Id.Value));
        Assert.Equal(["near"], Near.TogetherIn(Subject([Near, other], []).Fleet, Now).Select(r => r.Id.Value));
        Assert.Equal(["x", "y"], new ReplicaPlace.OnArray(new("a"), [new("x"), new("y")]).Hosts.Select(h => h.Value));
    }
}
