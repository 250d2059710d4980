using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Retention: examples by hand, and what must hold for any catalogue and any rule.</summary>
public class RetentionTests
{
    private static readonly Instant Start = Instant.FromUtc(2026, 3, 2, 0, 0);
    private static readonly Id<Store> Near = new("near"), Far = new("far");
    private static readonly Database One = new() { Id = new("d"), Name = "D", Engine = new("e"), Host = new("h"), SizeBytes = 1 };

    private static BackupSet Set(string id, SetKind kind, double hour, string? parent = null, double fromHour = 0, Id<Store>[]? stores = null, Instant? locked = null) => new()
    {
        Id = new(id),
        Database = new("d"),
        Kind = kind,
        Parent = parent is null ? null : new Id<BackupSet>(parent),
        FromPosition = kind == SetKind.Log ? (long)(fromHour * 1000) : null,
        ToPosition = (long)(hour * 1000),
        CoversFrom = kind == SetKind.Log ? Start + Duration.FromHours(fromHour) : null,
        CoversTo = Start + Duration.FromHours(hour),
        FinishedAt = Start + Duration.FromHours(hour),
        DataBytes = 10,
        Copies = [.. (stores ?? [Near]).Select(s => new BackupCopy(s, Start + Duration.FromHours(hour), null, locked, 10, CopyState.Good))],
    };

    /// <summary>A full each Monday, a differential each other day, a log each six hours, for some weeks.</summary>
    private static BackupSet[] Usual(int weeks, Id<Store>[]? stores = null) =>
    [
        .. from day in Enumerable.Range(0, weeks * 7)
           let full = $"full{day / 7}"
           from set in (BackupSet[])
           [
               day % 7 == 0 ? Set(full, SetKind.Full, day * 24, stores: stores) : Set($"diff{day}", SetKind.Differential, day * 24, full, stores: stores),
               .. Enumerable.Range(0, 4).Select(i => Set($"log{day}-{i}", SetKind.Log, (day * 24) + ((i + 1) * 6), null, (day * 24) + (i * 6), stores)),
           ]
           select set,
    ];

    private static Dictionary<string, RetentionDecision> Decide(IEnumerable<BackupSet> sets, Func<SetKind, Id<Store>, RetentionRule?> rule, double hour)
    {
        var lineage = Lineage.Of(One, new DatabaseCatalogue(new("d"), sets));
        return Retention.Decide(lineage, rule, Start + Duration.FromHours(hour), DateTimeZone.Utc).ToDictionary(d => $"{lineage.Catalogue.IdOf(d.Set)}@{d.Store}");
    }

    [Fact]
    public void A_full_stays_as_long_as_a_differential_or_log_that_builds_on_it()
    {
        var decided = Decide(Usual(4), (kind, _) => RetentionRule.For(Duration.FromDays(kind == SetKind.Log ? 8 : 1)), 28 * 24);
        Assert.True(decided["full3@near"].Stays);

        // The oldest log kept lies in the third week, on day 20: its nearest state is that day's differential, which needs that week's full.
        Assert.True(decided["log20-3@near"].Stays);
        Assert.True(decided["diff20@near"].Stays);
        Assert.Contains("needs it", decided["diff20@near"].Reason, StringComparison.Ordinal);
        Assert.True(decided["full2@near"].Stays);
        Assert.Contains("diff20 needs it", decided["full2@near"].Reason, StringComparison.Ordinal);
        Assert.False(decided["diff19@near"].Stays);
        Assert.False(decided["full1@near"].Stays);
    }

    [Fact]
    public void Newest_and_one_a_day_week_and_month_count_from_the_newest()
    {
        var fulls = Enumerable.Range(0, 120).Select(d => Set($"f{d:000}", SetKind.Full, (d * 24) + 3)).ToArray();
        string[] Kept(RetentionRule rule) => [.. Decide(fulls, (_, _) => rule, 120 * 24).Values.Where(v => v.Stays).Select(v => fulls[v.Set].Id.Value).Order(StringComparer.Ordinal)];
        Assert.Equal(["f117", "f118", "f119"], Kept(new RetentionRule(Newest: 3)));
        Assert.Equal(["f118", "f119"], Kept(new RetentionRule(Daily: 2)));

        // 2 March 2026 is a Monday, day 119 a Monday too: the last of each week is its Sunday.
        Assert.Equal(["f111", "f118", "f119"], Kept(new RetentionRule(Weekly: 3)));
        Assert.Equal(["f105", "f112", "f119"], Kept(new RetentionRule(Weekly: 3, LastOfPeriod: false)));
        Assert.Equal(["f090", "f119"], Kept(new RetentionRule(Monthly: 2)));
        Assert.Equal(["f119"], Kept(new RetentionRule(Yearly: 4)));
    }

    [Fact]
    public void To_go_back_continuously_keeps_the_base_before_and_everything_since()
    {
        var sets = Usual(6);
        var now = 42 * 24.0;
        var rule = new RetentionRule(Continuous: Duration.FromDays(10));
        var decided = Decide(sets, (kind, _) => kind == SetKind.Log ? rule : new RetentionRule(Newest: 1), now);
        var left = sets.Where(s => decided[$"{s.Id}@near"].Stays).ToArray();
        var cover = Evaluator.RecoverableAt(Subject(left), Loss.None, Start + Duration.FromHours(now));
        Assert.Contains(cover, c => c.From <= Start + Duration.FromDays(32) && c.To == Start + Duration.FromHours(now));
        Assert.True(left.Length < sets.Length / 2);
    }

    [Fact]
    public void Locked_copies_and_what_is_in_use_stay_and_so_does_what_no_rule_is_for()
    {
        var locked = Set("locked", SetKind.Full, 1, locked: Start + Duration.FromDays(100));
        var lineage = Lineage.Of(One, new DatabaseCatalogue(new("d"), [locked, Set("used", SetKind.Full, 2), Set("loose", SetKind.Full, 3), Set("other", SetKind.Full, 4, stores: [Far])]));
        var decided = Retention.Decide(
            lineage, (_, s) => s == Near ? new RetentionRule(Newest: 0, KeepFor: Duration.FromHours(1)) : null, Start + Duration.FromDays(50), DateTimeZone.Utc, id => id.Value == "used");
        Assert.Equal([true, true, false, true], decided.Select(d => d.Stays));
        Assert.StartsWith("locked until", decided[0].Reason, StringComparison.Ordinal);
    }

    [Fact]
    public void Each_place_keeps_what_it_needs_to_restore_alone_what_it_keeps()
    {
        var sets = Usual(4, [Near, Far]);
        var decided = Decide(sets, (kind, store) => RetentionRule.For(Duration.FromDays(kind == SetKind.Log && store == Far ? 10 : 1)), 28 * 24);
        var far = sets.Where(s => decided[$"{s.Id}@far"].Stays).Select(s => s with { Copies = [s.Copies[1]] }).ToArray();
        var cover = Evaluator.RecoverableAt(Subject(far), Loss.None, Start + Duration.FromDays(28));
        Assert.Contains(cover, c => c.From <= Start + Duration.FromDays(18.3) && c.To == Start + Duration.FromDays(28));
        Assert.False(decided["log20-3@near"].Stays);
    }

    [Fact]
    public void The_preview_says_what_goes_when_and_how_far_back_one_could_then_go()
    {
        var sets = Usual(4);
        var now = Start + Duration.FromDays(28);
        var preview = RetentionPreview.Of(Subject(sets), (_, _) => RetentionRule.For(Duration.FromDays(14)), now, 7, DateTimeZone.Utc);
        Assert.Equal(8, preview.Days.Count);
        Assert.Equal(preview.Today.Count(t => !t.Stays), preview.Days[0].Copies);
        Assert.Equal(Start, preview.Before[0].From);
        Assert.Equal(preview.Days[0].BackTo, preview.After[0].From);
        Assert.True(preview.After[0].From > Start + Duration.FromDays(12));
        Assert.All(preview.Days.Zip(preview.Days.Skip(1)), p => Assert.True(p.Second.BackTo >= p.First.BackTo));
    }

    private static RecoverySubject Subject(IEnumerable<BackupSet> sets)
    {
        var fleet = new FleetModel(
            [new(new("x"), "X", "UTC")], [], [], [new(new("h"), new("x"), null, 1e9, null, [], [], [])],
            [new(Near, new("x"), null, null, false, 1e9, 1e9), new(Far, new("x"), null, null, false, 1e9, 1e9)],
            [new(new("e"), "E", 1, 1, 1e9, 1e9, 1e9, 1)], [], [], [One with { RecoveryHosts = [new("h")] }]);
        return RecoverySubject.Of(fleet, fleet.Databases[0], new DatabaseCatalogue(new("d"), sets));
    }

    private static readonly Gen<RetentionRule> Rules =
        from age in Gen.Int[-1, 10]
        from newest in Gen.Int[0, 3]
        from daily in Gen.Int[0, 2]
        from weekly in Gen.Int[0, 2]
        from continuous in Gen.Int[-3, 6]
        from last in Gen.Bool
        select new RetentionRule(age < 0 ? null : Duration.FromHours(age), newest, daily, weekly, 0, 0, continuous < 0 ? null : Duration.FromHours(continuous), last);

    private static Func<SetKind, Id<Store>, RetentionRule?> RuleOf(RetentionRule[] rules) => (kind, store) => rules[((int)kind + store.Value.Length) % rules.Length];

    private static bool IsThere(BackupCopy c, Instant at) => c.AvailableAt <= at && (c.RemovedAt is not { } r || r > at);

    private static BackupSet[] Apply(IEnumerable<BackupSet> sets, DatabaseCatalogue catalogue, IEnumerable<RetentionDecision> decided, Instant at)
    {
        var go = decided.Where(d => !d.Stays).Select(d => (catalogue.IdOf(d.Set), d.Store)).ToHashSet();
        return [.. sets.Select(s => s with { Copies = [.. s.Copies.Select(c => IsThere(c, at) && go.Contains((s.Id, c.Store)) ? c with { RemovedAt = at } : c)] })];
    }

    [Fact]
    public void Every_kept_set_stays_restorable_as_before_and_a_second_clean_up_changes_nothing() => Gen.Select(Worlds.Gen, Rules.Array[2, 4]).Sample(
        (w, rules) =>
        {
            var lineage = Lineage.Of(w.Database, new DatabaseCatalogue(w.Database.Id, w.Sets));
            var decided = Retention.Decide(lineage, RuleOf(rules), w.At, DateTimeZone.Utc);
            var after = Apply(w.Sets, lineage.Catalogue, decided, w.At);
            var kept = decided.Where(d => d.Stays).Select(d => lineage.Catalogue.IdOf(d.Set)).ToHashSet();
            foreach (var id in kept)
            {
                Assert.Equal(Reaches(w, w.Sets, id, null), Reaches(w, after, id, null));
            }

            foreach (var d in decided.Where(d => d.Stays))
            {
                var id = lineage.Catalogue.IdOf(d.Set);
                Assert.Equal(Reaches(w, w.Sets, id, d.Store), Reaches(w, after, id, d.Store));
            }

            var again = Lineage.Of(w.Database, new DatabaseCatalogue(w.Database.Id, after));
            Assert.All(Retention.Decide(again, RuleOf(rules), w.At, DateTimeZone.Utc), d => Assert.True(d.Stays, $"{again.Catalogue.IdOf(d.Set)} in {d.Store}"));
        },
        iter: 1500);

    /// <summary>Whether a set can be restored, from all stores or from one alone: plainly, by asking each set what it needs.</summary>
    private static bool Reaches(Worlds.World w, IReadOnlyList<BackupSet> sets, Id<BackupSet> id, Id<Store>? alone)
    {
        var lineage = Lineage.Of(w.Database, new DatabaseCatalogue(w.Database.Id, sets));
        var c = lineage.Catalogue;
        var there = sets.ToDictionary(s => s.Id, s => s.Copies.Any(x => IsThere(x, w.At) && x.State != CopyState.Damaged && (alone is null || x.Store == alone)));
        var known = new Dictionary<int, bool>();
        return Can(c.IndexOf(id));

        bool Can(int node)
        {
            if (!known.TryGetValue(node, out var can))
            {
                known[node] = false;
                var set = lineage.SetOf(node);
                can = there[c.IdOf(set)] && (c.Kinds[set] == SetKind.Log
                    ? lineage.SourcesOf(node).ToArray().Any(Can)
                    : c.Parents[set] == DatabaseCatalogue.NoParent || (c.Parents[set] >= 0 && Can(c.Parents[set])));
                known[node] = can;
            }

            return can;
        }
    }

    [Fact]
    public void A_longer_rule_never_keeps_less() => Gen.Select(Worlds.Gen, Rules, Gen.Int[0, 5]).Sample(
        (w, rule, which) =>
        {
            var longer = which switch
            {
                0 => rule with { KeepFor = (rule.KeepFor ?? Duration.Zero) + Duration.FromHours(1) },
                1 => rule with { Newest = rule.Newest + 1 },
                2 => rule with { Daily = rule.Daily + 1 },
                3 => rule with { Weekly = rule.Weekly + 1 },
                4 => rule with { Monthly = rule.Monthly + 1 },
                _ => rule with { Continuous = (rule.Continuous ?? Duration.Zero) + Duration.FromHours(1) },
            };
            var lineage = Lineage.Of(w.Database, new DatabaseCatalogue(w.Database.Id, w.Sets));
            var less = Retention.Decide(lineage, (_, _) => rule, w.At, DateTimeZone.Utc);
            var more = Retention.Decide(lineage, (_, _) => longer, w.At, DateTimeZone.Utc);
            Assert.All(less.Zip(more), p => Assert.True(p.Second.Stays || !p.First.Stays, $"{lineage.Catalogue.IdOf(p.First.Set)} in {p.First.Store}: {rule} keeps it ({p.First.Reason}), {longer} does not"));
        },
        iter: 1500);
}
