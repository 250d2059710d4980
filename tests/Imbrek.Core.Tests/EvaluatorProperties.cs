using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>For any catalogue: the fast evaluator says what the plain one says, and what the definitions imply holds.</summary>
public class EvaluatorProperties
{
    private const int Samples = 4000;

    private static RecoverySubject Subject(Worlds.World w) => RecoverySubject.Of(w.Fleet, w.Database, new DatabaseCatalogue(w.Database.Id, w.Sets));

    [Fact]
    public void What_is_observed_stays_true_until_a_copy_comes_goes_or_is_no_longer_locked_or_a_branch_starts() => Worlds.Gen.Sample(
        w =>
        {
            var subject = Subject(w);
            var next = subject.NextChange(w.At);
            var last = (next ?? Worlds.End + Duration.FromDays(400)) - Duration.FromMilliseconds(1);
            Assert.Equal(Evaluator.RecoverableAt(subject, w.Loss, w.At), Evaluator.RecoverableAt(subject, w.Loss, last));
            var times = w.Sets.SelectMany(s => s.Copies).SelectMany(c => new[] { c.AvailableAt, c.RemovedAt, c.LockedUntil })
                .Concat(w.Database.Branches.Select(b => (Instant?)b.StartsAt)).Where(t => t > w.At).ToArray();
            Assert.Equal(times.Length == 0 ? null : times.Min(), next);
        },
        iter: Samples);

    [Fact]
    public void Recoverable_set_is_that_of_the_plain_reading() => Worlds.Gen.Sample(
        w => Assert.Equal(
            NaiveEvaluator.Recoverable(w.Fleet, w.Database, w.Sets, w.Loss, w.At),
            Evaluator.RecoverableAt(Subject(w), w.Loss, w.At)),
        iter: Samples);

    [Fact]
    public void Window_figures_are_those_of_evaluating_at_every_event() => Worlds.Gen.Sample(
        w =>
        {
            var figures = Evaluator.Over(Subject(w), w.Loss, Worlds.Start, w.At);
            var (worst, unprotected, over) = NaiveEvaluator.Window(w.Fleet, w.Database, w.Sets, w.Loss, Worlds.Start, w.At);
            Assert.Equal(worst, figures.WorstExposureSeconds);
            Assert.Equal(unprotected, figures.SecondsUnprotected, 6);
            Assert.Equal(over!.Value, figures.SecondsOverRpo!.Value, 6);
        },
        iter: Samples);

    [Fact]
    public void Exposure_now_ends_the_curve_and_the_window() => Worlds.Gen.Sample(
        w =>
        {
            var e = Evaluator.Evaluate(Subject(w), w.Loss, w.At, Worlds.Start);
            var curve = Evaluator.Curve(Subject(w), w.Loss, Worlds.Start, w.At);
            Assert.Equal(e.Latest, curve[^1].Reach.LatestAt(w.At));
            Assert.True(e.ExposureSeconds is null || e.Window!.WorstExposureSeconds >= e.ExposureSeconds);
        },
        iter: Samples);

    [Fact]
    public void A_further_copy_never_takes_anything_away() => Worlds.Gen.Sample(
        drawn =>
        {
            // Of every world without what lies in one store, and of the same with a copy of everything there.
            var w = drawn with { Sets = [.. drawn.Sets.Select(s => s with { Copies = [.. s.Copies.Where(c => c.Store.Value != "s3")] })] };
            var more = w.Sets.Select(s => s with { Copies = [.. s.Copies, new BackupCopy(new("s3"), s.CoversTo, null, null, 1, CopyState.Good)] }).ToArray();
            var before = Evaluator.RecoverableAt(Subject(w), w.Loss, w.At);
            var after = Evaluator.RecoverableAt(Subject(w with { Sets = more }), w.Loss, w.At);
            Assert.All(before, i => Assert.Contains(after, a => a.From <= i.From && i.To <= a.To));
        },
        iter: Samples);

    private static void OfThose(Predicate<Worlds.World> about, Action<Worlds.World> holds) => Worlds.Gen.OfThose(about, holds, Samples);

    [Fact]
    public void Losing_something_never_recovers_more_than_losing_nothing() => Worlds.Gen.Sample(
        w =>
        {
            var nothing = Evaluator.RecoverableAt(Subject(w), Loss.None, w.At);
            Assert.All(
                Evaluator.RecoverableAt(Subject(w), w.Loss, w.At),
                i => Assert.Contains(nothing, n => n.From <= i.From && i.To <= n.To));
        },
        iter: Samples);

    [Fact]
    public void The_steps_of_a_path_are_the_same_however_they_are_looked_at_and_take_the_seconds_of_the_path() => OfThose(
        w => PathFinder.Find(Subject(w), new PathQuestion { Target = w.At, At = w.At, Loss = w.Loss }).Best is { Steps.Count: > 1 },
        w =>
        {
            // With every second store slower by what runs taught.
            LearnedPace? Learned(Id<Store> store, Id<Host> host) => store.Value == "s1" ? new LearnedPace(2, 3, 5) : null;
            var path = PathFinder.Find(Subject(w), new PathQuestion { Target = w.At, At = w.At, Loss = w.Loss, Learned = Learned }).Best!;
            Assert.Equal(path.Steps.ToArray(), Enumerable.Range(0, path.Steps.Count).Select(i => path.Steps[i]));
            Assert.Equal(path.Seconds, path.ProvisionSeconds + path.Steps.Sum(s => s.Seconds) + path.OpenSeconds, 9);
            Assert.Equal(path.Steps.Any(s => s.Learned is not null), path.UsesLearned);
            Assert.All(path.Steps, s => Assert.True(s.StopsAt is null || s.Kind == SetKind.Log));
            Assert.Equal(path.Onto, path.Steps.TakeWhile(s => s.Kind != SetKind.Log).Last());
        });

    private static (Loss, Loss)[] Alike(RecoverySubject subject)
    {
        var losses = Enum.GetValues<LossKind>().Select(k => Loss.OfKind(k).For(subject.Database, subject.Fleet)).Distinct().Select(l => (Loss: l, Left: Survival.Of(subject, l))).ToArray();
        return [.. from a in losses from b in losses where a.Loss != b.Loss && a.Left is not null && a.Left == b.Left select (a.Loss, b.Loss)];
    }

    [Fact]
    public void Losses_that_leave_the_same_stores_and_host_have_the_same_figures() => OfThose(
        w => Alike(Subject(w)).Length > 0,
        w =>
        {
            var subject = Subject(w);
            Assert.All(Alike(subject), pair =>
            {
                var (one, other) = (Observer.Observe(subject, pair.Item1, w.At, w.At - Worlds.Start, null), Observer.Observe(subject, pair.Item2, w.At, w.At - Worlds.Start, null));
                Assert.Equal((one.Latest, one.Window, one.NoPath is null, one.CautiousServiceSeconds), (other.Latest, other.Window, other.NoPath is null, other.CautiousServiceSeconds));
                Assert.Equal((one.Path as RestorePath)?.Steps ?? [], (other.Path as RestorePath)?.Steps ?? []);
                Assert.Equal(Evaluator.RecoverableAt(subject, pair.Item1, w.At), Evaluator.RecoverableAt(subject, pair.Item2, w.At));

                // Made of those of the other loss, the figures are what they are by themselves, and why there is no path names its own loss.
                var alone = Designer.FiguresOf(subject, pair.Item2, Worlds.Start, w.At, []);
                var shared = Designer.FiguresOf(subject, pair.Item2, Worlds.Start, w.At, [Designer.FiguresOf(subject, pair.Item1, Worlds.Start, w.At, [])]);
                Assert.Equal((alone.Loss, alone.Window, alone.NoPath, alone.LongestRestore?.ServiceSeconds), (shared.Loss, shared.Window, shared.NoPath, shared.LongestRestore?.ServiceSeconds));
            });
        });

    [Fact]
    public void Why_there_is_no_path_names_its_own_loss_though_another_leaves_the_same()
    {
        var fleet = FleetFile.Read(
            """
            {"format": "imbrek-fleet/1", "sites": [{"id": "quay"}], "arrays": [{"id": "shelf", "site": "quay"}],
             "hosts": [{"id": "h1", "site": "quay", "array": "shelf", "writeBytesPerSecond": 1000}, {"id": "h2", "site": "quay", "writeBytesPerSecond": 1000}],
             "stores": [{"id": "s", "site": "quay", "array": "shelf", "host": "h1", "readBytesPerSecond": 1000, "writeBytesPerSecond": 1000}],
             "engines": [{"id": "e", "provisionSeconds": 1, "perSetSeconds": 1, "restoreBytesPerSecond": 1000, "replayBytesPerSecond": 1000, "indexBytesPerSecond": 1000, "openSeconds": 1}],
             "databases": [{"id": "d", "engine": "e", "host": "h1", "recoveryHosts": ["h2"], "sizeBytes": 1}]}
            """u8.ToArray(),
            "f").Value!;
        var full = new BackupSet { Id = new("full"), Database = new("d"), Kind = SetKind.Full, ToPosition = 1, CoversTo = Worlds.Start, FinishedAt = Worlds.Start, DataBytes = 1, RollForward = true, Copies = [new(new("s"), Worlds.Start, null, null, 1, CopyState.Good)] };
        var subject = RecoverySubject.Of(fleet, fleet.Databases[0], new DatabaseCatalogue(new("d"), [full]));
        var (host, array) = (Loss.OfKind(LossKind.Host).For(subject.Database, fleet), Loss.OfKind(LossKind.Array).For(subject.Database, fleet));
        Assert.Equal(Survival.Of(subject, host), Survival.Of(subject, array));
        var first = Designer.FiguresOf(subject, host, Worlds.Start, Worlds.End, []);
        Assert.Contains(host.ToString(), first.NoPath, StringComparison.Ordinal);
        Assert.Contains(array.ToString(), Designer.FiguresOf(subject, array, Worlds.Start, Worlds.End, [first]).NoPath, StringComparison.Ordinal);
    }

    [Fact]
    public void A_path_reaches_the_latest_recoverable_instant_when_host_and_stores_do_not_limit_it() => OfThose(
        // Every store can be reached from either host, so only usableOn could limit a path more than R.
        w => w.Sets.All(s => s.UsableOn.Count == 0) && PathFinder.Find(Subject(w), new PathQuestion { Target = w.At, At = w.At, Loss = w.Loss }).Host is not null,
        w =>
        {
            var subject = Subject(w);
            var answer = PathFinder.Find(subject, new PathQuestion { Target = w.At, At = w.At, Loss = w.Loss }, 4);
            var cover = Evaluator.RecoverableAt(subject, w.Loss, w.At);
            Assert.Equal(cover.Count == 0 ? null : cover[^1].To, answer.Best?.Reaches);
            Assert.All(answer.Alternatives, a => Assert.True(a.Reaches <= answer.Best!.Reaches));
            if (answer.Best is { } best)
            {
                Assert.Equal(best.ProvisionSeconds + best.OpenSeconds + best.Steps.Sum(s => s.Seconds), best.Seconds, 6);
            }
        });

    [Fact]
    public void Each_way_offered_is_the_best_when_its_choice_is_made_and_keeps_to_it() => Worlds.Gen.Sample(
        w =>
        {
            var subject = Subject(w);
            var question = new PathQuestion { Target = w.At, At = w.At, Loss = w.Loss };
            var answer = PathFinder.Find(subject, question, 20);
            foreach (var way in answer.Alternatives)
            {
                var chosen = PathFinder.Find(subject, question with { Choice = way.Choice }, 20);
                Assert.Equal(way.Steps, chosen.Best!.Steps);
                Assert.Equal((way.Host, way.Reaches, way.Seconds), (chosen.Best.Host, chosen.Best.Reaches, chosen.Best.Seconds));
                Assert.True(way.Choice.Base is not { } onto || way.Onto.Set == onto);
                Assert.DoesNotContain(way.Steps, s => s.Store == way.Choice.Without);

                // And one can go back to what was best before; a host that is named is left by naming another.
                if (way.Choice.Host is null)
                {
                    Assert.Contains(chosen.Alternatives, a => a.Steps.SequenceEqual(answer.Best!.Steps));
                }
            }
        },
        iter: 2000);

    [Fact]
    public void A_choice_that_leaves_nothing_says_what_it_left()
    {
        var w = Worlds.Gen.Single();
        var full = new BackupSet
        {
            Id = new("f"),
            Database = w.Database.Id,
            Kind = SetKind.Full,
            ToPosition = 1,
            CoversTo = Worlds.Start,
            FinishedAt = Worlds.Start,
            DataBytes = 1,
            Copies = [new(new("s3"), Worlds.Start, null, null, 1, CopyState.Good)],
        };
        var subject = Subject(w with { Sets = [full, full with { Id = new("l"), Kind = SetKind.Log, FromPosition = 1, ToPosition = 2, CoversFrom = Worlds.Start, CoversTo = Worlds.Start + Duration.FromMinutes(1) }] });
        string? Why(PathChoice choice, int minute = 9) =>
            PathFinder.Find(subject, new PathQuestion { Target = Worlds.Start + Duration.FromMinutes(minute), At = Worlds.End, Choice = choice }).Reason;
        Assert.Null(Why(new()));
        Assert.Equal("no base can be read at host h2 (f: no copy within reach of the host outside s3)", Why(new(Without: new("s3"))));
        Assert.Equal("l is no set that log could be applied to", Why(new(Base: new("l"))));
        Assert.Equal("f is of an instant after the target", Why(new(Base: new("f")), -1));
    }

    [Fact]
    public void Every_gap_has_a_reason_and_gaps_and_cover_fill_the_window() => Worlds.Gen.Sample(
        w =>
        {
            var gaps = CoverExplainer.Gaps(Subject(w), w.Loss, w.At, Worlds.Start);
            var cover = Evaluator.RecoverableAt(Subject(w), w.Loss, w.At);
            Assert.All(gaps, g => Assert.NotEmpty(g.Reasons));
            var covered = cover.Sum(i => Math.Max(0, (i.To - Instant.Max(i.From, Worlds.Start)).TotalSeconds));
            Assert.Equal((w.At - Worlds.Start).TotalSeconds, covered + gaps.Sum(g => (g.Span.To - g.Span.From).TotalSeconds), 3);
        },
        iter: 1000);
}
