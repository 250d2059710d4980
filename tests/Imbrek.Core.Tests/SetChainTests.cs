using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>What a set needs, what needs it, and why it cannot be restored.</summary>
public class SetChainTests
{
    private static readonly Instant Start = Instant.FromUtc(2026, 3, 1, 0, 0);
    private static readonly Database One = new() { Id = new("d"), Name = "D", Engine = new("e"), Host = new("h"), RecoveryHosts = [new("h")], SizeBytes = 1 };
    private static readonly FleetModel Fleet = new(
        [new(new("a"), "A", "UTC")], [], [], [new(new("h"), new("a"), null, 1e6, null, [], [], [])], [new(new("s"), new("a"), null, null, false, 1e6, 1e6)], [new(new("e"), "E", 30, 1, 1e6, 1e6, 1e6, 10)], [], [], [One]);

    private static BackupSet Set(string id, SetKind kind, int minute, string? parent = null, int? from = null) => new()
    {
        Id = new(id),
        Database = new("d"),
        Kind = kind,
        Parent = parent is null ? null : new Id<BackupSet>(parent),
        FromPosition = from,
        ToPosition = minute,
        CoversFrom = from is { } f ? Start + Duration.FromMinutes(f) : null,
        CoversTo = Start + Duration.FromMinutes(minute),
        FinishedAt = Start,
        DataBytes = 1,
        Copies = [new(new("s"), Start + Duration.FromMinutes(minute), null, null, 1, CopyState.Good)],
    };

    private static BackupSet Log(int number) => Set($"l{number}", SetKind.Log, number + 1, from: number);

    private static RecoverySubject Subject(params IEnumerable<BackupSet> sets) => RecoverySubject.Of(Fleet, One, new DatabaseCatalogue(One.Id, sets));

    private static SetChain Of(RecoverySubject subject, string set) => SetChain.Of(subject, Loss.None, Start + Duration.FromDays(1), new(set));

    [Fact]
    public void The_chain_of_a_log_goes_back_to_the_latest_base_and_a_full_is_needed_by_all_that_rests_on_it_alone()
    {
        var subject = Subject([Set("full", SetKind.Full, 0), .. Enumerable.Range(0, 5).Select(Log), Set("diff", SetKind.Differential, 3, "full")]);
        var chain = Of(subject, "l4");
        Assert.Equal(["l3", "diff", "full"], chain.Needs.Select(n => n.Value));
        Assert.Equal((0, null), (chain.NeededBy, chain.WhyUnusable));
        Assert.Equal(6, Of(subject, "full").NeededBy);
        Assert.Equal(0, Of(subject, "diff").NeededBy);
        Assert.Equal(2, Of(subject, "l0").NeededBy);
        Assert.Throws<ArgumentException>(() => Of(subject, "none"));
    }

    [Fact]
    public void A_log_that_no_base_leads_to_says_what_it_follows_and_what_is_wrong_with_that()
    {
        var early = Of(Subject(Log(0), Log(1), Set("full", SetKind.Full, 9)), "l1");
        Assert.Equal(["l0"], early.Needs.Select(n => n.Value));
        Assert.Equal("it follows l0, and nothing is known that this log could be applied to", early.WhyUnusable);
        Assert.StartsWith("nothing is known", Of(Subject(Log(0)), "l0").WhyUnusable, StringComparison.Ordinal);

        var damaged = Log(0) with { Copies = [Log(0).Copies[0] with { State = CopyState.Damaged }] };
        var behind = Subject(Set("full", SetKind.Full, 0), damaged, Log(1), Log(2));
        Assert.Equal("it follows l0: copy in s is damaged", Of(behind, "l2").WhyUnusable);
        Assert.Equal("copy in s is damaged", Of(behind, "l0").WhyUnusable);
        Assert.Equal((0, null), (Of(behind, "full").NeededBy, Of(behind, "full").WhyUnusable));

        // Also when the loss is the bare kind, which means what the database itself lies on.
        Assert.Equal("copy in s is lost with site:a", SetChain.Of(behind, Loss.OfKind(LossKind.Site), Start + Duration.FromDays(1), new("full")).WhyUnusable);

        // A differential bridges what is damaged, and the chain goes by way of it.
        var bridged = Of(Subject(Set("full", SetKind.Full, 0), damaged, Log(1), Log(2), Set("diff", SetKind.Differential, 2, "full")), "l2");
        Assert.Equal(["diff", "full"], bridged.Needs.Select(n => n.Value));
        Assert.Null(bridged.WhyUnusable);
    }

    [Fact]
    public void Sets_that_build_on_each_other_or_on_what_is_not_there_are_found_and_no_search_runs_in_circles()
    {
        var subject = Subject(Set("i1", SetKind.Incremental, 1, "i2"), Set("i2", SetKind.Incremental, 1, "i1"), Set("i3", SetKind.Incremental, 2, "i2"), Set("i4", SetKind.Incremental, 3, "gone"));
        var at = Start + Duration.FromDays(1);
        Assert.Equal("i2 builds on i1, which builds on it in turn", Of(subject, "i3").WhyUnusable);
        Assert.Equal("i4 builds on gone, which is not in the catalogue", Of(subject, "i4").WhyUnusable);
        var answer = PathFinder.Find(subject, new PathQuestion { Target = at, At = at });
        Assert.Null(answer.Best);
        Assert.Contains("i4 builds on gone", answer.Reason, StringComparison.Ordinal);
        Assert.Contains("which builds on it in turn", answer.Reason, StringComparison.Ordinal);
        var found = FindingRules.Of(subject, null, at, Duration.FromDays(2)).Where(f => f.Code == "parent-missing").ToArray();
        Assert.Equal(3, found.Length);
        Assert.Contains(found, f => f.What == "Incremental i2 and 1 more cannot be restored");
        Assert.Contains(found, f => f.Why == "i4 builds on gone, which is not in the catalogue");

        // Written out again, each still names its parent.
        Assert.Equal(["i2", "i1", "i2", "gone"], new[] { "i1", "i2", "i3", "i4" }.Select(i => subject.Catalogue[subject.Catalogue.IndexOf(new(i))].Parent?.Value));
    }

    [Fact]
    public void A_chain_of_many_thousand_incrementals_is_followed_to_its_end()
    {
        var sets = Enumerable.Range(1, 50_000).Select(i => Set($"i{i}", SetKind.Incremental, i, i == 1 ? "full" : $"i{i - 1}"));
        var subject = Subject([Set("full", SetKind.Full, 0), .. sets]);
        var at = Start + Duration.FromDays(60);
        var path = PathFinder.Find(subject, new PathQuestion { Target = at, At = at }).Best!;
        Assert.Equal(50_001, path.Steps.Count);
        Assert.Equal(30 + 10 + path.Steps.Sum(s => s.Seconds), path.Seconds, 6);
        var broken = Subject(sets);
        Assert.Equal("i1 builds on full, which is not in the catalogue", SetChain.Of(broken, Loss.None, at, new("i50000")).WhyUnusable);
        Assert.Null(PathFinder.Find(broken, new PathQuestion { Target = at, At = at }).Best);
        Assert.Equal("Incremental i1 and 49999 more cannot be restored", Assert.Single(FindingRules.Of(broken, null, at, Duration.FromDays(30)), f => f.Code == "parent-missing").What);
    }

    [Fact]
    public void A_database_may_lie_in_many_stores_under_many_keys_and_each_counts()
    {
        const int Many = 300;
        var fleet = new FleetModel(
            Fleet.SiteList, [], [], Fleet.HostList, [.. Enumerable.Range(0, Many).Select(i => new Store(new($"s{i}"), new("a"), null, null, false, 1e6, 1e6))], Fleet.EngineList, [], [], [One]);
        var sets = Enumerable.Range(0, Many).Select(i => Set($"f{i}", SetKind.Full, i) with { Key = $"k{i}", Copies = [new(new($"s{i}"), Start, null, null, 1, CopyState.Good)] }).ToArray();
        var catalogue = new DatabaseCatalogue(One.Id, sets);
        Assert.Equal(sets.Select(s => (s.Key, s.Copies[0].Store)), catalogue.Sets.Select(s => (s.Key, s.Copies[0].Store)));
        var at = Start + Duration.FromDays(1);
        var path = PathFinder.Find(RecoverySubject.Of(fleet, One, catalogue), new PathQuestion { Target = at, At = at });
        Assert.Equal("s299", path.Best!.Base.Store.Value);
        var decided = Planning.Retention.Decide(Lineage.Of(One, catalogue), (_, store) => store.Value == "s299" ? new(KeepFor: Duration.FromHours(1)) : null, at, DateTimeZone.Utc);
        Assert.Equal("s299", Assert.Single(decided, d => !d.Stays).Store.Value);
    }

    [Fact]
    public void For_any_catalogue_a_chain_alone_restores_its_set_and_what_needs_a_set_is_lost_with_it() => Worlds.Gen.Sample(
        w =>
        {
            SetChain ChainOf(IEnumerable<BackupSet> sets, Id<BackupSet> set) =>
                SetChain.Of(RecoverySubject.Of(w.Fleet, w.Database, new DatabaseCatalogue(w.Database.Id, sets)), w.Loss, w.At, set);
            var whole = w.Sets.ToDictionary(s => s.Id, s => ChainOf(w.Sets, s.Id));
            foreach (var set in w.Sets)
            {
                var chain = whole[set.Id];
                var alone = w.Sets.Where(s => s.Id == set.Id || chain.Needs.Contains(s.Id)).ToArray();
                var reached = NaiveEvaluator.Recoverable(w.Fleet, w.Database, alone, w.Loss, w.At);
                if (chain.WhyUnusable is null && set.CoversTo <= w.At && set.CoversTo >= w.Database.StartOf(set.Branch))
                {
                    Assert.Contains(reached, i => i.From <= set.CoversTo && set.CoversTo <= i.To);
                }

                var without = w.Sets.Where(s => s.Id != set.Id).ToArray();
                Assert.Equal(without.Count(s => whole[s.Id].WhyUnusable is null && ChainOf(without, s.Id).WhyUnusable is not null), chain.NeededBy);
            }
        },
        iter: 400);
}
