using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>For any replicas: what the fast evaluator says is what the plain one says, and what the definitions imply holds.</summary>
public class ReplicationProperties
{
    private const int Samples = 3000;
    private static readonly Duration Tick = Duration.FromMilliseconds(1);

    private static void OfThose(Predicate<ReplicaWorlds.World> about, Action<ReplicaWorlds.World> holds, int samples = Samples) => ReplicaWorlds.Gen.OfThose(about, holds, samples);

    private static bool SomeAdds(ReplicaWorlds.World w) => w.Subject.Replicas.Any(r => r.IntervalAt(w.Loss, w.At) is not null);

    [Fact]
    public void Recoverable_set_is_that_of_the_plain_reading() => OfThose(
        SomeAdds,
        w => Assert.Equal(NaiveReplicas.Recoverable(w.Subject, w.Stretches, w.Loss, w.At), Evaluator.RecoverableAt(w.Subject, w.Loss, w.At)));

    [Fact]
    public void Window_figures_are_those_of_evaluating_at_every_instant_at_which_something_could_change() => OfThose(
        SomeAdds,
        w =>
        {
            var from = w.At - Duration.FromMinutes(120);
            var (exposures, unprotected, over) = NaiveReplicas.Window(w.Subject, w.Stretches, w.Loss, from, w.At);
            var figures = Evaluator.Over(w.Subject, w.Loss, from, w.At);

            // Where a rise ends between two milliseconds it may be told a millisecond apart.
            var worst = exposures.Max(e => e.Seconds);
            Assert.Equal(worst is null, figures.WorstExposureSeconds is null);
            Assert.Equal(worst ?? 0, figures.WorstExposureSeconds ?? 0, 0.0021);
            Assert.All(exposures.Where(e => e.At < figures.WorstAt - Duration.FromMilliseconds(3)), e => Assert.False(e.Seconds >= figures.WorstExposureSeconds));
            Assert.True(worst is null || exposures.Any(e => e.Seconds > worst - 0.003 && e.At >= figures.WorstAt - (Tick * 3) && e.At <= figures.WorstAt + (Tick * 3)));
            Assert.Equal(unprotected, figures.SecondsUnprotected, 0.1);
            Assert.Equal(over, figures.SecondsOverRpo!.Value, 0.1);
        },
        2000);

    [Fact]
    public void Exposure_now_ends_the_curve_and_the_window() => OfThose(
        SomeAdds,
        w =>
        {
            var e = Evaluator.Evaluate(w.Subject, w.Loss, w.At, Worlds.Start);
            var curve = Evaluator.Curve(w.Subject, w.Loss, Worlds.Start, w.At);
            Assert.Equal(e.Latest, curve[^1].Reach.LatestAt(w.At));
            Assert.True(e.Window!.WorstExposureSeconds >= e.ExposureSeconds);
            var folded = ExposureColumn.Fold(curve, Worlds.Start, w.At, 40);
            Assert.Equal(e.Window.WorstExposureSeconds!.Value, folded.Max(c => c.WorstSeconds)!.Value, 3);
            Assert.All(folded, c => Assert.True(c.WorstSeconds is null || c.LeastSeconds <= c.WorstSeconds));
        });

    [Fact]
    public void A_replica_never_makes_anything_worse_and_without_replicas_all_is_as_it_was() => OfThose(
        SomeAdds,
        w =>
        {
            var (with, without) = (Evaluator.Evaluate(w.Subject, w.Loss, w.At, Worlds.Start), Evaluator.Evaluate(w.Subject.WithoutReplicas, w.Loss, w.At, Worlds.Start));
            Assert.True(!(with.ExposureSeconds > without.ExposureSeconds));
            Assert.True(with.Window!.SecondsUnprotected <= without.Window!.SecondsUnprotected);
            Assert.True(with.Window.SecondsOverRpo <= without.Window.SecondsOverRpo + 1e-6);
            Assert.All(without.Recoverable, i => Assert.Contains(with.Recoverable, x => x.From <= i.From && i.To <= x.To));

            var f = w.Subject.Fleet;
            var bare = new FleetModel(f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, f.EngineList, f.ObjectiveList, [], f.Databases);
            var plain = RecoverySubject.Of(bare, w.Subject.Database, new DatabaseCatalogue(new("d"), w.Subject.Catalogue.Sets));
            var sets = Evaluator.Evaluate(plain, w.Loss, w.At, Worlds.Start);
            Assert.Equal((sets.Window, sets.Latest), (without.Window, without.Latest));
            Assert.Equal(sets.Recoverable, without.Recoverable);
        });

    [Fact]
    public void The_latest_instant_stays_as_it_is_until_the_next_change() => OfThose(
        SomeAdds,
        w =>
        {
            var next = w.Subject.NextChange(w.At);
            var last = (next ?? Worlds.End + Duration.FromDays(400)) - Tick;
            Assert.True(last >= w.At);
            Assert.Equal(Evaluator.RecoverableAt(w.Subject, w.Loss, w.At)[^1].To, Evaluator.RecoverableAt(w.Subject, w.Loss, last)[^1].To);
        });

    [Fact]
    public void Received_stands_still_after_a_stretch_and_moves_with_time_during_it() => OfThose(
        SomeAdds,
        w => Assert.All(w.Subject.Replicas.Where(r => r.At(w.At) is not null), r =>
        {
            var (now, then) = (r.At(w.At)!.Value, r.At(w.At + Tick)!.Value);
            if (now.Until == then.Until)
            {
                Assert.Equal(then.Covers ? Tick : Duration.Zero, then.ReceivedTo - now.ReceivedTo);
                Assert.True(then.Earliest >= now.Earliest);
            }
        }));

    [Fact]
    public void Losses_that_leave_the_same_have_the_same_figures() => OfThose(
        w => Alike(w.Subject).Length > 0,
        w => Assert.All(Alike(w.Subject), pair =>
        {
            var (one, other) = (Observer.Observe(w.Subject, pair.Item1, w.At, w.At - Worlds.Start, null), Observer.Observe(w.Subject, pair.Item2, w.At, w.At - Worlds.Start, null));
            Assert.Equal((one.Latest, one.Window, one.NoPath is null, one.CautiousServiceSeconds), (other.Latest, other.Window, other.NoPath is null, other.CautiousServiceSeconds));
            Assert.Equal((one.Path?.Host, one.Path?.Reaches, one.Path as TakeOver), (other.Path?.Host, other.Path?.Reaches, other.Path as TakeOver));
        }),
        1500);

    private static (Loss, Loss)[] Alike(RecoverySubject subject)
    {
        var losses = Enum.GetValues<LossKind>().Select(k => Loss.OfKind(k).For(subject.Database, subject.Fleet)).Append(Loss.Of(new Id<Site>("b"))).Distinct()
            .Select(l => (Loss: l, Left: Survival.Of(subject, l))).ToArray();
        return [.. from a in losses from b in losses where a.Loss != b.Loss && a.Left is not null && a.Left == b.Left select (a.Loss, b.Loss)];
    }

    [Fact]
    public void The_best_way_is_the_latest_and_then_fastest_of_sets_and_replicas_and_every_other_is_offered() => OfThose(
        SomeAdds,
        w =>
        {
            var question = new PathQuestion { Target = w.At, At = w.At, Loss = w.Loss };
            var all = WayFinder.Find(w.Subject, question, 20);
            var sets = PathFinder.Find(w.Subject, question, 20);
            var adding = w.Subject.Replicas.Where(r => r.IntervalAt(w.Loss, w.At) is not null).Select(r => r.Replica.Id).ToHashSet();
            WayBack[] ways = [all.Best!, .. all.Alternatives];
            Assert.Equal(adding, ways.OfType<TakeOver>().Select(t => t.Replica).ToHashSet());
            Assert.Equal(all.Alternatives.OrderByDescending(x => x.Reaches).ThenBy(x => x.Seconds), all.Alternatives);
            Assert.All(ways.Where(x => x is TakeOver || x == sets.Best), x => Assert.True(x.Reaches < all.Best!.Reaches || (x.Reaches == all.Best.Reaches && x.Seconds >= all.Best.Seconds)));
            Assert.Equal(sets.Best is null ? 0 : 1 + sets.Alternatives.Count, ways.OfType<RestorePath>().Count());
            Assert.All(ways.OfType<TakeOver>(), t =>
            {
                var chosen = WayFinder.Find(w.Subject, question with { Choice = t.Choice }).Best;
                Assert.Equal(t, chosen);
                Assert.True(t.Seconds >= t.PromoteSeconds && t.ByItself == (t.ServiceSeconds < w.Subject.Database.ServiceSeconds(t.Seconds)));
            });

            // What was decided for sets is not overridden by a replica.
            if (sets.Best is { } path)
            {
                Assert.IsType<RestorePath>(WayFinder.Find(w.Subject, question with { Choice = new PathChoice(Base: path.Onto.Set) }).Best);
            }
        });

    [Fact]
    public void A_replica_takes_over_by_itself_only_where_nothing_is_lost_and_most_voters_are_left() => OfThose(
        w => w.Subject.Fleet.GroupList.Count > 0 && w.Subject.Replicas.Any(r => r.Replica.TakesOver == TakesOver.ByItself),
        w =>
        {
            foreach (var loss in new[] { w.Loss, Loss.Of(new Id<Host>("h1")), Loss.Of(new Id<Site>("a")) })
            {
                if (Voters.WhoTakesOverByItself(w.Subject, loss, w.At) is { } one)
                {
                    var voters = w.Subject.Fleet.GroupList[0].Voters;
                    Assert.True(voters.Count(v => loss.Spares(w.Subject.Fleet.Hosts[v])) * 2 > voters.Count);
                    Assert.False(loss.Spares(w.Subject.Fleet.Hosts[w.Subject.Database.Host]));
                    Assert.True(one.Replica.LosesNothing && one.Replica.TakesOver == TakesOver.ByItself);
                    Assert.Equal(w.At, one.At(w.At)!.Value.ReceivedTo);
                }
            }
        });

    [Fact]
    public void Designed_figures_count_what_replicas_come_to() => OfThose(
        w => ByDesign.Lag(w.Subject.Fleet, w.Subject.Database, Worlds.Start, Worlds.End).Count > 0 && Counting(w).Length > 0,
        w =>
        {
            var lag = ByDesign.Lag(w.Subject.Fleet, w.Subject.Database, Worlds.Start, Worlds.End);
            Assert.All(lag, l => Assert.Equal(ByDesign.LossSeconds(w.Subject.Fleet, w.Subject.Fleet.Replicas[l.Replica])!.Value, l[0].ReceivedLag.TotalSeconds, 0.001));
            Assert.All(lag, l => Assert.True(l[0].AppliedLag >= l[0].ReceivedLag));
            var subject = RecoverySubject.Of(w.Subject.Fleet, w.Subject.Database, new DatabaseCatalogue(new("d"), []).WithLag(lag));
            var window = Evaluator.Over(subject, w.Loss, Worlds.Start + Duration.FromMinutes(300), Worlds.End);
            var least = Counting(w).Select(r => lag.FirstOrDefault(l => l.Replica == r.Id)).OfType<LagHistory>().Select(l => l[0].ReceivedLag.TotalSeconds).DefaultIfEmpty(double.NaN).Min();
            Assert.True(double.IsNaN(least) || window.WorstExposureSeconds is null || window.WorstExposureSeconds >= least);
        },
        2000);

    private static Replica[] Counting(ReplicaWorlds.World w) => [.. w.Subject.Replicas.Where(r => r.CountsUnder(w.Loss)).Select(r => r.Replica)];

    private static Database Writing(double rate, double[] hours) => new()
    {
        Id = new("d"),
        Name = "D",
        Engine = new("e"),
        Host = new("h"),
        SizeBytes = 1,
        LogBytesPerSecond = rate,
        LogByHour = hours,
    };

    private static readonly Gen<double[]> Hours = Gen.Int[0, 40].Select(i => i / 10.0).Array[24];

    [Fact]
    public void Bytes_between_two_instants_are_those_of_counting_seconds() => Gen.Select(Hours, Gen.Int[0, 200_000], Gen.Int[-90_000, 90_000]).Sample(
        (hours, at, length) =>
        {
            var flow = LogFlow.Of(Writing(1000, hours))!;
            var start = Worlds.Start + Duration.FromSeconds(at);
            var (from, to) = (Math.Min(0, length), Math.Max(0, length));
            var counted = Enumerable.Range(from, to - from).Sum(s => 1000 * hours[(start + Duration.FromSeconds(s)).InUtc().Hour]);
            Assert.Equal(counted, flow.Between(start, from, to), 1e-3);
        },
        iter: 60);

    [Fact]
    public void Catching_up_ends_at_the_first_instant_at_which_nothing_is_left() => Gen.Select(Hours, Gen.Int[0, 86_400], Gen.Double[0, 5e8], Gen.Double[500, 4000]).Sample(
        (hours, at, backlog, rate) =>
        {
            var flow = LogFlow.Of(Writing(1000, hours))!;
            var start = Worlds.Start + Duration.FromSeconds(at);
            double LeftAfter(double c) => backlog + flow.Between(start, 0, c) - (rate * c);
            if (flow.CatchUp(start, 0, backlog, rate) is not { } c)
            {
                Assert.True(Enumerable.Range(0, 30 * 24).All(h => LeftAfter(h * 3600.0) > 0));
                return;
            }

            Assert.True(c == 0 || Math.Abs(LeftAfter(c)) < 1);
            Assert.True(Enumerable.Range(0, 200).All(i => LeftAfter(c * i / 200) > -1));
            var later = flow.CatchUp(start, 0, backlog, rate, c + 5000);
            Assert.True(later is null || later >= c + 5000);
        },
        iter: 400);

    [Fact]
    public void A_limit_is_reached_when_that_much_is_written_and_not_before() => Gen.Select(Hours, Gen.Int[0, 86_400], Gen.Double[0, 1e9]).Sample(
        (hours, at, limit) =>
        {
            var flow = LogFlow.Of(Writing(1000, hours))!;
            var start = Worlds.Start + Duration.FromSeconds(at);
            var c = flow.SecondsUntil(start, limit);
            if (double.IsPositiveInfinity(c))
            {
                Assert.Equal(0, hours.Sum());
                return;
            }

            Assert.Equal(limit, flow.Between(start, 0, c), 1.0);
            Assert.True(flow.Between(start, 0, c + 90_000) > limit);
        },
        iter: 400);

    [Theory]
    [InlineData(1e-300, 4e15)]
    [InlineData(0, 5)]
    [InlineData(1e-9, 4e15)]
    public void A_limit_that_is_never_reached_is_told_at_once(double rate, double limit) =>
        Assert.True(double.IsPositiveInfinity(LogFlow.Of(Writing(rate, []))!.SecondsUntil(Worlds.Start, limit)));

    [Fact]
    public void The_longest_queue_is_that_of_a_second_day_counted_in_seconds() => Gen.Select(Hours, Gen.Double[600, 4000]).Sample(
        (hours, rate) =>
        {
            var flow = LogFlow.Of(Writing(1000, hours))!;
            double queue = 0, most = 0;
            for (var second = 0; second < 2 * 86_400; second++)
            {
                most = second >= 86_400 ? Math.Max(most, queue) : most;
                queue = Math.Max(0, queue + (1000 * hours[second / 3600 % 24]) - rate);
            }

            var found = flow.LongestQueue(rate);
            Assert.Equal(hours.Average() * 1000 >= rate, found is null);
            Assert.True(found is null || Math.Abs(found.Value - Math.Max(most, queue)) < 1e-3 * Math.Max(1, most));
        },
        iter: 60);

    [Fact]
    public void Figures_of_watching_agree_with_each_other() => OfThose(
        SomeAdds,
        w => Assert.All(w.Subject.Replicas, r =>
        {
            var f = Watch.Of(w.Subject, r, w.At);
            Assert.True(f.AppliedLagSeconds is null || f.AppliedLagSeconds >= f.ReceivedLagSeconds);
            Assert.True(f.ReadCatchUpSeconds is null || f.ReadCatchUpSeconds >= f.CatchUpSeconds);
            Assert.True(f.ToleratedOutageSeconds is null or >= 0 && f.RoomSeconds is null or >= 0);
            Assert.True(f.State != ReplicaState.Broken || f.WhyBroken is not null);
            Assert.True(f.ReadByDesignSeconds is null || f.ReadByDesignSeconds >= f.ByDesignSeconds);
            Assert.True(f.Seed?.ByBackup != true || f.Seed.Path is not null);

            // Who receives nothing for as long as is tolerated has nothing left; a second less, and it has.
            if (f.ToleratedOutageSeconds is > 1 && r.At(w.At) is { } known)
            {
                var gone = new LagHistory(r.Replica.Id, [new(r.Replica.Id, known.Branch, known.ReceivedTo, known.ReceivedTo, Duration.Zero, Duration.FromHours(9), Duration.FromHours(9), 0, null)]);
                var alone = new ReplicaSource(w.Subject.Fleet, w.Subject.Database, r.Replica with { Since = null, Until = null }, gone);
                double? LeftAfter(double seconds) => Watch.Of(w.Subject, alone, w.At + Duration.FromSeconds(seconds), withSeed: false).ToleratedOutageSeconds;
                Assert.Equal(0, LeftAfter(f.ToleratedOutageSeconds.Value + 0.01)!.Value, 6);
                Assert.True(LeftAfter(f.ToleratedOutageSeconds.Value - 1) > 0);
            }
        }),
        1000);
}
