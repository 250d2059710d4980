using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Verdicts, proofs, findings and prechecks of one small fleet, case by case.</summary>
public class JudgementTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 3, 10, 12, 0);
    private static readonly Database Tickets = new()
    {
        Id = new("tickets"),
        Name = "Tickets",
        Engine = new("e"),
        Host = new("h1"),
        RecoveryHosts = [new("h2")],
        Objective = new Id<Objective>("o"),
        SizeBytes = 1_000_000_000,
        Version = "14",
        CheckSeconds = 60,
    };

    private static FleetModel FleetOf(Database d, double rpo = 3600, double rto = 600) => new(
        [new(new("a"), "A", "UTC"), new(new("b"), "B", "UTC")],
        [new(new("a"), new("b"), 1e8, 1)],
        [new(new("arr"), new("a"))],
        [new(new("h1"), new("a"), new Id<StorageArray>("arr"), 1e8, null, [], [], []), new(new("h2"), new("b"), null, 1e8, 2_000_000_000, [], ["14"], ["k"])],
        [new(new("s1"), new("a"), new Id<StorageArray>("arr"), null, false, 1e8, 1e8), new(new("s2"), new("b"), null, null, false, 1e8, 1e8)],
        [new(new("e"), "E", 30, 1, 1e8, 1e7, 1e7, 10)],
        [new(new("o"), "O", rpo, rto, [LossKind.None, LossKind.Site], 30)],
        [],
        [d]);

    private static BackupSet Full(Instant at, params string[] stores) => new()
    {
        Id = new($"full-{at.ToUnixTimeSeconds()}"),
        Database = Tickets.Id,
        Kind = SetKind.Full,
        ToPosition = at.ToUnixTimeSeconds(),
        CoversTo = at,
        FinishedAt = at,
        DataBytes = 1_000_000_000,
        Copies = [.. stores.Select(s => new BackupCopy(new(s), at, null, null, 400_000_000, CopyState.Good))],
    };

    private static RecoverySubject Subject(Database d, double rpo, double rto, params BackupSet[] sets) =>
        RecoverySubject.Of(FleetOf(d, rpo, rto), d, new DatabaseCatalogue(d.Id, sets));

    private static Judgement Judge(RecoverySubject s, params Proof?[] proofs) => Judgement.Of(
        s.Database, s.Fleet, s.Objective, s.Objective!.Against.Select(k => Observer.Observe(s, Loss.OfKind(k), Now, Duration.FromDays(1), null)), Proofs.Of(proofs.OfType<Proof>()), Now);

    private static Proof ProofOf(double daysAgo, double service = 100, double lost = 0, bool passed = true, long size = 1_000_000_000, string version = "14", LossKind loss = LossKind.Site, bool tookOver = false) =>
        new(Now - Duration.FromDays(daysAgo), lost, service, passed, size, version, loss, tookOver);

    private static BackupSet[] Hourly(params string[] stores) => [.. Enumerable.Range(0, 40).Select(i => Full(Now - Duration.FromMinutes(50 * i), stores))];

    [Fact]
    public void Proven_when_within_everything_and_a_proof_counts() =>
        Assert.Equal(Verdict.Proven, Judge(Subject(Tickets, 3600, 600, Hourly("s1", "s2")), ProofOf(3)).Verdict);

    [Fact]
    public void The_loss_of_its_site_was_that_of_the_site_it_ran_on_then()
    {
        // All its sets lie on the site it runs on now; until six hours ago it ran on the other.
        var moved = Tickets with { Branches = [new Branch(2, 1, 5, Now - Duration.FromHours(6), Now - Duration.FromHours(6), new Id<Host>("h2"))] };
        double Unprotected(Database d, Loss loss) => Observer.Observe(Subject(d, 3600, 600, Hourly("s1")), loss, Now, Duration.FromDays(1), null).Window.SecondsUnprotected;
        Assert.Equal(6 * 3600, Unprotected(moved, Loss.OfKind(LossKind.Site)));
        Assert.Equal(24 * 3600, Unprotected(Tickets, Loss.OfKind(LossKind.Site)));
        Assert.Equal(24 * 3600, Unprotected(moved with { Branches = [moved.Branches[0] with { LeftHost = null }] }, Loss.OfKind(LossKind.Site)));
        Assert.Equal(0, Unprotected(moved, Loss.Of(new Id<Site>("b"))));

        // The curve of the same window says the same.
        var curve = Evaluator.Curve(Subject(moved, 3600, 600, Hourly("s1")), Loss.OfKind(LossKind.Site), Now - Duration.FromDays(1), Now);
        Assert.Equal(Now - Duration.FromHours(6), curve.First(s => s.Reach.IsNothing).At);
    }

    public static TheoryData<Proof?, string> Void() => new()
    {
        { null, "never restored" },
        { ProofOf(31), "31 days old" },
        { ProofOf(3, passed: false), "did not pass" },
        { ProofOf(3, size: 500_000_000), "size has changed" },
        { ProofOf(3, version: "13"), "runs version 14" },
        { ProofOf(3, service: 700), "took 11 min 40 s" },
        { ProofOf(3, lost: 7200), "lost 2 h" },
    };

    [Theory]
    [MemberData(nameof(Void))]
    public void Unproven_says_why_the_proof_does_not_count(Proof? proof, string why)
    {
        var judgement = Judge(Subject(Tickets, 3600, 600, Hourly("s1", "s2")), proof);
        Assert.Equal(Verdict.Unproven, judgement.Verdict);
        Assert.Contains(why, Assert.Single(judgement.Reasons), StringComparison.Ordinal);
    }

    [Fact]
    public void Each_loss_needs_a_proof_that_stands_for_it()
    {
        var s = Subject(Tickets, 3600, 600, Hourly("s1", "s2"));

        // A restore under nothing shows nothing of a lost site; one under the lost site shows both.
        var judgement = Judge(s, ProofOf(3, loss: LossKind.None));
        Assert.Equal(Verdict.Unproven, judgement.Verdict);
        Assert.Equal("if site a is lost nothing has shown it: no restore and no drill supposed it", Assert.Single(judgement.Reasons));
        Assert.Equal(Verdict.Proven, Judge(s, ProofOf(3, loss: LossKind.Site)).Verdict);
        Assert.Equal(Verdict.Unproven, Judge(s, ProofOf(3, loss: LossKind.Hostile)).Verdict);

        // A replica that took over counts beside sets that were restored, whichever was later; of a bad change it shows nothing.
        var tookTooLong = ProofOf(1, service: 700, loss: LossKind.Site);
        var tookOver = ProofOf(5, loss: LossKind.Site, tookOver: true);
        Assert.Equal("after a bad change", Judge(s, tookTooLong, tookOver).Reasons.Single()[..18]);
        Assert.Equal(Verdict.Proven, Judge(s, tookTooLong, tookOver, ProofOf(9, loss: LossKind.None)).Verdict);

        // Of the same way the newest counts, and one that failed under a harder loss says nothing of an easier.
        Assert.Equal(Verdict.Unproven, Judge(s, ProofOf(5, loss: LossKind.Site), tookTooLong).Verdict);
        judgement = Judge(s, tookTooLong, ProofOf(5, loss: LossKind.None));
        Assert.Equal("if site a is lost the last restore took " + PlainDuration.Beyond(700, 600), Assert.Single(judgement.Reasons));
        Assert.Equal(Now + Duration.FromDays(25), Proofs.Of(tookTooLong, ProofOf(5, loss: LossKind.None)).Standing(s.Database, s.Fleet, s.Objective!, LossKind.None, Now).DueAt);
    }

    [Fact]
    public void A_restore_test_supposes_the_loss_that_must_be_proved_first_and_stands_for_most()
    {
        var s = Subject(Tickets, 3600, 600, Hourly("s1", "s2"));
        Assert.Equal("site:a", RestoreTest.Next(s, Proofs.None, Now).Loss.ToString());
        Assert.Equal("site:a", RestoreTest.Next(s, Proofs.Of(ProofOf(1, loss: LossKind.None)), Now).Loss.ToString());
        Assert.Equal("site:a", RestoreTest.Next(s, Proofs.Of(ProofOf(1, loss: LossKind.None), ProofOf(2, loss: LossKind.Site)), Now).Loss.ToString());

        // One that could not pass under a loss is held where it can: copies in the other site are of yesterday.
        var s2 = Subject(Tickets, 3600, 600, [.. Hourly("s1"), Full(Now - Duration.FromDays(1), "s2")]);
        Assert.Equal("none", RestoreTest.Next(s2, Proofs.None, Now).Loss.ToString());
        var none = RestoreTest.Next(Subject(Tickets, 3600, 600), Proofs.None, Now);
        Assert.Null(none.Path);
        Assert.NotEmpty(none.WhyNot!);
    }

    [Fact]
    public void At_risk_when_over_its_rpo_at_some_time_in_the_window()
    {
        var sets = Hourly("s1", "s2").Where(s => s.CoversTo > Now - Duration.FromHours(2) || s.CoversTo < Now - Duration.FromHours(6)).ToArray();
        var judgement = Judge(Subject(Tickets, 3600, 600, sets), ProofOf(3));
        Assert.Equal(Verdict.AtRisk, judgement.Verdict);
        Assert.Contains("over its RPO", judgement.Reasons[0], StringComparison.Ordinal);
    }

    [Fact]
    public void Breached_when_too_much_would_be_lost_now_or_it_takes_too_long()
    {
        Assert.Equal(Verdict.Breached, Judge(Subject(Tickets, 60, 600, [.. Hourly("s1", "s2").Skip(1)]), ProofOf(3)).Verdict);
        Assert.Equal(Verdict.Breached, Judge(Subject(Tickets, 3600, 50, Hourly("s1", "s2")), ProofOf(3)).Verdict);
    }

    [Fact]
    public void Unprotected_when_one_of_its_losses_leaves_nothing() =>
        Assert.Equal(Verdict.Unprotected, Judge(Subject(Tickets, 3600, 600, Hourly("s1")), ProofOf(3)).Verdict);

    [Fact]
    public void At_risk_by_the_cautious_figure_alone()
    {
        var s = Subject(Tickets, 3600, 600, Hourly("s1", "s2"));
        var figures = Observer.Observe(s, Loss.None, Now, Duration.FromDays(1), (_, _) => new LearnedPace(1, 60, 5));
        var judgement = Judgement.Of(Tickets, s.Fleet, s.Objective, [figures], Proofs.Of(ProofOf(3)), Now);
        Assert.Equal(Verdict.AtRisk, judgement.Verdict);
        Assert.Contains("cautious", judgement.Reasons[0], StringComparison.Ordinal);
    }

    [Fact]
    public void What_was_learned_changes_the_seconds_and_says_so()
    {
        var s = Subject(Tickets, 3600, 600, Hourly("s1", "s2"));
        var question = new PathQuestion { Target = Now, At = Now };
        var profile = PathFinder.Find(s, question).Best!;
        var learned = PathFinder.Find(s, question with { Learned = (_, _) => LearnedPace.From([2, 2, 4]) }).Best!;
        Assert.False(profile.UsesLearned);
        Assert.True(learned.UsesLearned);
        Assert.Equal(2 * profile.Base.Seconds, learned.Base.Seconds, 6);
        Assert.Equal((2.0, 3.6, 3), (learned.Base.Learned!.Median, Math.Round(learned.Base.Learned.Cautious, 6), learned.Base.Learned.Runs));
    }

    [Fact]
    public void A_fleet_counts_each_database_once_by_its_first_reason()
    {
        RecoverySubject[] subjects =
        [
            Subject(Tickets, 3600, 600, Hourly("s1", "s2")),
            Subject(Tickets, 60, 50, [.. Hourly("s1", "s2").Skip(1)]),
            Subject(Tickets, 3600, 50, Hourly("s1", "s2")),
            Subject(Tickets, 3600, 600),
        ];
        var answer = subjects.Aggregate(FleetAnswer.Empty, (sum, s) => sum.With(s.Objective, Observer.Observe(s, Loss.None, Now, Duration.FromDays(1), null), Now));
        Assert.Equal(new FleetAnswer(4, 1, 1, 1, 1), answer);
        Assert.Equal(1, FleetAnswer.Empty.With(null, Observer.Observe(subjects[0], Loss.None, Now, Duration.FromDays(1), null), Now).Hold);
    }

    [Fact]
    public void Copies_in_the_failure_domain_of_their_database_are_found() => Assert.Contains(
        FindingRules.Of(Subject(Tickets, 3600, 600, Hourly("s1")), Proofs.Of(ProofOf(1)), Now, Duration.FromDays(1)), f => f.Code == "same-failure-domain" && f.What.Contains("array:arr", StringComparison.Ordinal));

    [Fact]
    public void Nothing_is_found_where_nothing_is_wrong() =>
        Assert.Empty(FindingRules.Of(Subject(Tickets, 3600, 600, Hourly("s1", "s2")), Proofs.Of(ProofOf(1)), Now, Duration.FromDays(1)));

    [Fact]
    public void Prechecks_fail_on_room_and_version()
    {
        var large = Tickets with { SizeBytes = 3_000_000_000, Version = "16" };
        var s = Subject(large, 3600, 600, Hourly("s1", "s2"));
        var outcomes = Prechecks.Of(s, s.Fleet.Hosts[new("h2")], null, Loss.None, Now).ToDictionary(p => p.Name, p => p.Outcome);
        Assert.All(["room", "major version", "chain"], name => Assert.Equal(PrecheckOutcome.Failed, outcomes[name]));
        var fine = Subject(Tickets, 3600, 600, Hourly("s1", "s2"));
        var path = PathFinder.Find(fine, new PathQuestion { Target = Now, At = Now }).Best;
        Assert.All(Prechecks.Of(fine, fine.Fleet.Hosts[new("h2")], path, Loss.None, Now), p => Assert.Equal(PrecheckOutcome.Passed, p.Outcome));
    }

    [Theory]
    [InlineData(null, "h2", PrecheckOutcome.Passed, "not encrypted")]
    [InlineData("k", "h2", PrecheckOutcome.Passed, "key k is present")]
    [InlineData("other", "h2", PrecheckOutcome.Failed, "key other is not on h2")]
    [InlineData("k", "h1", PrecheckOutcome.Warned, "which keys h1 has is not known")]
    public void The_key_is_looked_for_that_the_sets_of_the_path_are_encrypted_with(string? key, string host, PrecheckOutcome outcome, string detail)
    {
        var s = Subject(Tickets, 3600, 600, [.. Hourly("s1", "s2").Select(f => f with { Key = f.CoversTo > Now - Duration.FromHours(1) ? key : "older" })]);
        var path = PathFinder.Find(s, new PathQuestion { Target = Now, At = Now }).Best;
        var check = Prechecks.Of(s, s.Fleet.Hosts[new(host)], path, Loss.None, Now).Single(c => c.Name == "key");
        Assert.Equal(outcome, check.Outcome);
        Assert.Contains(detail, check.Detail, StringComparison.Ordinal);
    }

    private static BackupSet Log(long from, long to, Duration comesAfter) => Full(Now - Duration.FromHours(10), "s1") with
    {
        Id = new($"log-{from}"),
        Kind = SetKind.Log,
        FromPosition = from,
        ToPosition = to,
        CoversFrom = Now - Duration.FromHours(10) + Duration.FromMinutes(from),
        CoversTo = Now - Duration.FromHours(10) + Duration.FromMinutes(to),
        Copies = [new(new("s1"), Now - Duration.FromHours(10) + Duration.FromMinutes(to) + comesAfter, null, null, 1, CopyState.Good)],
    };

    [Fact]
    public void A_gap_is_explained_by_what_is_missing_and_by_what_is_on_its_way_only_when_nothing_else_is()
    {
        var full = Full(Now - Duration.FromHours(10), "s1") with { ToPosition = 0 };
        Duration soon = Duration.FromMinutes(1), late = Duration.FromHours(20);
        static string Why(params BackupSet[] sets) => Assert.Single(Assert.Single(CoverExplainer.Gaps(Subject(Tickets, 3600, 600, sets), Loss.None, Now, Now - Duration.FromHours(10))).Reasons);
        Assert.Equal("nothing has been backed up since", Why(full, Log(0, 60, soon)));
        Assert.StartsWith("log log-60: copy in s1 is there only from ", Why(full, Log(0, 60, soon), Log(60, 120, late)), StringComparison.Ordinal);
        const string Hole = "the log from position 60 to 90 is in no set; log-90 cannot follow";
        Assert.Equal(Hole, Why(full, Log(0, 60, soon), Log(90, 120, soon)));
        Assert.Equal(Hole, Why(full, Log(0, 60, soon), Log(90, 120, soon), Log(120, 180, late)));
        var damaged = Log(60, 120, soon);
        damaged = damaged with { Copies = [damaged.Copies[0] with { State = CopyState.Damaged }] };
        Assert.Equal("log log-60: copy in s1 is damaged", Why(full, Log(0, 60, soon), damaged, Log(120, 180, late)));
    }

    [Fact]
    public void No_path_says_why()
    {
        var s = Subject(Tickets with { SizeBytes = 3_000_000_000 }, 3600, 600, Hourly("s1", "s2"));
        Assert.Contains("3000000000 are needed", PathFinder.Find(s, new PathQuestion { Target = Now, At = Now }).Reason, StringComparison.Ordinal);
        var lost = Subject(Tickets, 3600, 600, Hourly("s1"));
        Assert.Contains("is lost with site:a", PathFinder.Find(lost, new PathQuestion { Target = Now, At = Now, Loss = Loss.OfKind(LossKind.Site) }).Reason, StringComparison.Ordinal);
        Assert.Throws<ArgumentException>(() => PathFinder.Find(lost, new PathQuestion { Target = Now + Duration.FromSeconds(1), At = Now }));
    }

    [Theory]
    [InlineData(0, "0 s")]
    [InlineData(250, "4 min 10 s")]
    [InlineData(93_600, "1 d 2 h")]
    public void Durations_are_in_plain_words(double seconds, string words) => Assert.Equal(words, PlainDuration.Of(seconds));

    [Theory]
    [InlineData("none:x")]
    [InlineData("volcano")]
    [InlineData("site:nowhere")]
    [InlineData("hostile:")]
    public void A_loss_that_names_nothing_known_is_refused(string text)
    {
        Assert.False(Loss.TryParse(text, FleetOf(Tickets), out _, out var error));
        Assert.Contains(text, error, StringComparison.Ordinal);
    }

    [Fact]
    public void One_trouble_is_said_once_by_the_sets_there_are()
    {
        static Finding Of(string code) => new(code, new("a"), Urgency.Soon, "what", "why", "remedy");
        var said = FindingRules.SaidOnce([Of("no-sets"), Of("hole")], [Of("no-plan"), Of("never-test-restored"), Of("never-fires")]);
        Assert.Equal(["no-sets", "hole", "never-test-restored", "never-fires"], said.Select(f => f.Code));
    }
}
