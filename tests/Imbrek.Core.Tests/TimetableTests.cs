using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.Core.Recovery;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>Prediction, designed figures, chances, proposal, ways: against what can be computed by hand.</summary>
public class TimetableTests
{
    private sealed class Runs : IPredictionSink
    {
        public List<PredictedRun> All { get; } = [];

        public List<(int Series, long Captured, int Copier, long At)> Copies { get; } = [];

        public void Add(in PredictedRun run) => All.Add(run);

        public void AddCopy(int series, long captured, int copier, long at) => Copies.Add((series, captured, copier, at));
    }

    private static (Runs Sink, IReadOnlyList<Series> Series, PredictionFigures Figures) Predict(FleetModel fleet, Plan plan, double days = 2, Func<PredictionInput, PredictionInput>? with = null)
    {
        var all = fleet.WithPlans([plan]);
        var series = Series.Of(all);
        var sink = new Runs();
        var input = new PredictionInput { Fleet = all, Series = series, From = Monday, To = Monday + Duration.FromDays(days) };
        return (sink, series, Prediction.Run(with is null ? input : with(input), sink));
    }

    private static double Seconds(long a, long b) => (b - a) / 1000.0;

    [Fact]
    public void A_full_alone_takes_its_overhead_and_its_bytes_at_the_slowest_of_host_processor_and_store_then_the_link()
    {
        var (sink, _, _) = Predict(Harbour(), Plan(Task(TaskKind.Full, "daily 01:00")));
        var run = sink.All[0];
        Assert.Equal(100e9, run.DataBytes, 1);
        Assert.Equal(40e9, run.StoredBytes, 1);

        // Compression light is at most 0.4 × 900 MB/s of stored bytes; the link carries 200 MB/s.
        Assert.Equal(3.5 + (40e9 / 360e6), Seconds(run.Started, run.Available), 0.01);
        Assert.Equal(40e9 / 200e6, Seconds(run.Available, run.Ended), 0.01);
        Assert.Equal(RunPace.Alone(Harbour(), Harbour().Databases[0], Task(TaskKind.Full, "daily 01:00"), 40e9), Seconds(run.Started, run.Ended), 0.01);
    }

    [Fact]
    public void Stages_of_a_shipped_replica_take_what_they_state_each_after_the_one_before()
    {
        var fleet = Harbour().With(replicas:
        [
            new() { Id = new("r"), Database = new("d0"), Place = new ReplicaPlace.OnHost(new("spare")), Mode = ReplicaMode.Shipped, Stages = new(new(300, 5), new(300, 8), new(300, 20), null, null) },
        ]);
        var (sink, _, _) = Predict(fleet, Plan(
            Task(TaskKind.ShipBackup, "every 5 minutes", "b"),
            Task(TaskKind.ShipCopy, null, "c") with { After = [new("b", LinkOn.Success)] },
            Task(TaskKind.ShipApply, null, "a") with { After = [new("c", LinkOn.Success)] }));
        var due = sink.All.Min(r => r.Due);
        Assert.Equal([(0, 5), (5, 13), (13, 33)], sink.All.OrderBy(r => r.Started).Take(3).Select(r => ((int)Seconds(due, r.Started), (int)Seconds(due, r.Ended))));
        Assert.All(sink.All, r => Assert.Equal(0, r.StoredBytes));
    }

    [Fact]
    public void Two_that_run_at_once_share_what_they_use()
    {
        var plan = Plan(Task(TaskKind.Full, "daily 01:00") with { Compression = Compression.Off, CopyTo = [] });
        var (alone, _, _) = Predict(Harbour(1), plan);
        var (both, _, _) = Predict(Harbour(2), plan);
        Assert.Equal(3.5 + (100e9 / 400e6), Seconds(alone.All[0].Started, alone.All[0].Ended), 0.01);
        Assert.All(both.All.Take(2), r => Assert.Equal(3.5 + (100e9 / 200e6), Seconds(r.Started, r.Ended), 0.01));
    }

    [Fact]
    public void A_slot_makes_the_second_wait_and_the_clash_says_how_long()
    {
        var plan = Plan(Task(TaskKind.Full, "daily 01:00") with { CopyTo = [], Window = Duration.FromSeconds(200) });
        var (sink, _, figures) = Predict(Harbour(8, slots: 1), plan, 1);
        var ordered = sink.All.OrderBy(r => r.Started).ToArray();
        Assert.All(ordered.Zip(ordered.Skip(1)), p => Assert.True(p.Second.Started >= p.First.Available));
        var queue = Assert.Single(figures.Clashes, c => c.Kind == ClashKind.Queue);
        Assert.Equal(("host", ordered[^1].Started - ordered[^1].Due), (queue.Place, (long)(queue.WorstSeconds * 1000)));
        Assert.Equal(7, Assert.Single(figures.Clashes, c => c.Kind == ClashKind.WindowMissed).Count);
    }

    [Fact]
    public void Log_backups_follow_one_another_without_a_hole_and_wait_for_no_slot()
    {
        var (sink, series, _) = Predict(Harbour(1, slots: 1), Usual());
        var logs = sink.All.Where(r => series[r.Series].Task.Kind == TaskKind.Log).ToArray();
        Assert.Equal(192, logs.Length);
        Assert.All(logs.Zip(logs.Skip(1)), p => Assert.Equal(p.First.Captured, p.Second.CoversFrom));
        Assert.All(logs, l => Assert.Equal(l.Due, l.Started));
        Assert.All(logs.Skip(1), l => Assert.Equal(200_000 * 900, l.DataBytes, 1.0));
    }

    [Fact]
    public void Nothing_is_drawn_to_move_more_than_it_can_and_no_byte_of_the_log_is_lost_for_it()
    {
        var fleet = Harbour(8).Changed((d, _) => d with { LogBytesPerSecond = 2_000_000 });
        float[] Curve(PredictionFigures f) => f.Curves!.Of(f.ResourceOf(Routes.Of(new Id<Host>("host")))).ToArray();
        float[] Of(params PlanTask[] tasks) => Curve(Predict(fleet, Plan(tasks), with: i => i with { Curves = true }).Figures);
        var (full, log) = (Task(TaskKind.Full, "daily 01:00"), Task(TaskKind.Log, "every 5 minutes"));
        var (both, fulls, logs) = (Of(full, log), Of(full), Of(log));
        var most = 400e6 * LoadCurves.Slice / 1000;
        Assert.Contains(fulls.Zip(logs), b => b.First + b.Second > most * 1.01);
        Assert.All(both, b => Assert.InRange(b, 0, most * 1.000001));
        Assert.Equal(1, both.Sum(b => (double)b) / (fulls.Sum(b => (double)b) + logs.Sum(b => (double)b)), 5);
    }

    [Fact]
    public void What_follows_runs_after_the_right_end()
    {
        var plan = Plan(
            Task(TaskKind.Full, "daily 01:00"),
            Task(TaskKind.Verify, null) with { After = [new("Full", LinkOn.Success)] },
            Task(TaskKind.CleanUp, null) with { After = [new("Verify", LinkOn.Always)] },
            Task(TaskKind.IntegrityCheck, null) with { After = [new("Full", LinkOn.Failure)] });
        var (sink, series, _) = Predict(Harbour(), plan, 1);
        Assert.Equal([TaskKind.Full, TaskKind.Verify, TaskKind.CleanUp], sink.All.OrderBy(r => r.Started).Select(r => series[r.Series].Task.Kind));
        var failing = Predict(Harbour(), plan, 1, i => i with { Chance = new Chance(1, k => k == TaskKind.Full ? 1 : 0, 0) });
        Assert.Equal([TaskKind.Full, TaskKind.IntegrityCheck], failing.Sink.All.OrderBy(r => r.Started).Select(r => failing.Series[r.Series].Task.Kind));
        Assert.Equal((RunEnd.Failed, 2), (failing.Sink.All[0].End, failing.Sink.All[0].Attempts));
    }

    [Fact]
    public void A_pause_holds_what_is_due_back_and_one_run_makes_up_for_all()
    {
        var pause = new Blackout(Monday + Duration.FromHours(1), Monday + Duration.FromHours(3), null, null, new Id<Host>("host"), null, "maintenance");
        var catching = Predict(Harbour(), Plan(Task(TaskKind.Log, "every 15 minutes")), 0.25, i => i with { Blackouts = [pause] });
        Assert.DoesNotContain(catching.Sink.All, r => r.End == RunEnd.Done && r.Started >= pause.From.ToUnixTimeMilliseconds() && r.Started < pause.To!.Value.ToUnixTimeMilliseconds());
        Assert.Equal(7, catching.Sink.All.Count(r => r.End == RunEnd.Held));
        var at = pause.To!.Value.ToUnixTimeMilliseconds();
        Assert.Contains(catching.Sink.All, r => r.End == RunEnd.Done && r.Started == at);
        var skipping = Predict(Harbour(), Plan(Task(TaskKind.Log, "every 15 minutes") with { Missed = MissedRule.Skip }), 0.25, i => i with { Blackouts = [pause] });
        Assert.Equal(8, skipping.Sink.All.Count(r => r.End == RunEnd.Held));
    }

    [Fact]
    public void Copying_later_takes_all_sets_that_are_not_there_yet()
    {
        var plan = Plan(Task(TaskKind.Log, "every hour") with { CopyTo = [] }, Task(TaskKind.CopyElsewhere, "daily 20:00") with { Store = Far });
        var (sink, series, _) = Predict(Harbour(), plan, 1);
        Assert.Equal(8, sink.Copies.Count);
        Assert.All(sink.Copies, c => Assert.Equal(TaskKind.Log, series[c.Series].Task.Kind));
    }

    [Fact]
    public void The_same_seed_gives_the_same_prediction_and_another_gives_another()
    {
        string Of(ulong seed) => string.Join(';', Predict(Harbour(3), Usual(), 2, i => i with { Chance = new Chance(seed, _ => 0.05, 0.3) }).Sink.All.Select(r => $"{r.Series} {r.Started} {r.Ended} {r.Attempts}"));
        Assert.Equal(Of(7), Of(7));
        Assert.NotEqual(Of(7), Of(8));
    }

    [Fact]
    public void A_store_that_holds_no_more_says_on_which_day()
    {
        var (_, _, figures) = Predict(Harbour(farCapacity: 130_000_000_000), Plan(Task(TaskKind.Full, "daily 01:00")), 10);
        var full = Assert.Single(figures.Clashes, c => c.Kind == ClashKind.StoreFull);
        Assert.Equal((Far.Value, Monday + Duration.FromDays(4)), (full.Place, full.At));
    }

    [Theory]
    //          log of an interval at 200 kB/s   packed to 40 %, packed and written in, with 3.5 s   and over the link (200 MB/s)
    [InlineData("every 15 minutes", 903.70, 903.90, 904.06, 904.78)] // 180 MB: 72 MB: 0.20 s, 0.36 s
    [InlineData("every 5 minutes", 303.566, 303.634, 303.686, 303.927)] // 60 MB: 24 MB: 0.067 s, 0.12 s
    [InlineData("every hour", 3604.30, 3605.10, 3605.74, 3608.62)] // 720 MB: 288 MB: 0.80 s, 1.44 s
    public void The_designed_exposure_is_the_interval_and_the_time_until_the_copy_is_there(string log, double least, double most, double leastFar, double mostFar)
    {
        var fleet = Harbour().WithPlans([Usual(log)]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        var figures = answer.ByDatabase[new("d0")];
        Assert.Equal([LossKind.None, LossKind.Site], figures.Select(f => f.Loss.Kind));

        // A full under way at the time takes a share of the host; for the rest it is as alone.
        Assert.InRange(figures[0].Window.WorstExposureSeconds!.Value, least - 0.01, most + 0.01);
        Assert.InRange(figures[1].Window.WorstExposureSeconds!.Value, leastFar - 0.01, mostFar + 0.01);
        Assert.All(figures, f => Assert.Equal(0, f.Window.SecondsUnprotected));
        Assert.Equal(log == "every 5 minutes", figures[0].KeepsRpo(fleet.ObjectiveList[0]));
    }

    [Fact]
    public void Designed_figures_are_told_of_each_database_as_they_are_made()
    {
        var fleet = Harbour(3).WithPlans([Usual()]);
        var told = new System.Collections.Concurrent.ConcurrentDictionary<Id<Database>, IReadOnlyList<DesignedFigures>>();
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday, Threads = 1, Made = (s, figures) => Assert.True(told.TryAdd(s.Database.Id, figures)) });
        Assert.Equal(fleet.Databases.Select(d => d.Id.Value).Order(), told.Keys.Select(d => d.Value).Order());
        Assert.All(told, t => Assert.Equal(answer.ByDatabase[t.Key], t.Value));
        Assert.All(told, t => Assert.All(t.Value, f => Assert.Equal(f with { LongestRestore = null }, Designer.FiguresOf(answer.Subjects[t.Key], f.Loss, answer.From, answer.To, []) with { LongestRestore = null })));
    }

    [Fact]
    public void The_designed_restore_is_the_path_just_before_the_next_state_with_all_its_log()
    {
        var fleet = Harbour().WithPlans([Plan(Task(TaskKind.Full, "daily 01:00"), Task(TaskKind.Log, "every 15 minutes"))]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        var steps = Steps(answer.ByDatabase[new("d0")][0]);
        Assert.InRange(steps.Count, 95, 98);
        Assert.Equal(SetKind.Full, steps[0].Kind);
    }

    private static IReadOnlyList<PathStep> Steps(DesignedFigures figures) => ((RestorePath)figures.LongestRestore!).Steps;

    [Fact]
    public void Designed_figures_are_those_of_the_evaluator_over_the_predicted_catalogue()
    {
        var fleet = Harbour(3).WithPlans([Usual()]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        foreach (var (id, figures) in answer.ByDatabase)
        {
            foreach (var f in figures)
            {
                Assert.Equal(Evaluator.Over(answer.Subjects[id], f.Loss, answer.From, answer.To), f.Window);
            }
        }
    }

    [Fact]
    public void A_log_that_is_discarded_cannot_be_designed_away()
    {
        var whole = Harbour();
        var fleet = new FleetModel(
            whole.SiteList, whole.Links, whole.ArrayList, whole.HostList, whole.StoreList, whole.EngineList, whole.ObjectiveList, whole.ServiceList,
            [whole.Databases[0] with { LogMode = LogMode.Discarded }]).WithPlans([Usual()]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        Assert.True(answer.ByDatabase[new("d0")][0].Window.WorstExposureSeconds > 86_400);
    }

    [Fact]
    public void Chances_fall_with_failures_and_a_week_without_any_is_certain()
    {
        var fleet = Harbour(rpo: 1000).WithPlans([Usual()]);
        Chances Of(double share) => Chances.Of(
            new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday, WithRestore = false, Chance = new Chance(3, _ => share, 0.1) }, 12)
            .Single(c => c.Loss.Kind == LossKind.None);
        Assert.Equal(1, Of(0).KeepsRpoForMonth);
        Assert.True(Of(0.1).KeepsRpoForMonth < 0.5);
        Assert.True(Of(0.1).Exposure95 > Of(0).Exposure95);
    }

    [Fact]
    public void A_plan_made_today_is_judged_as_if_it_had_always_been_in_force()
    {
        static Plan Begun(int year, int month, int day) => Usual() is var p ? p with
        {
            Tasks = [.. p.Tasks.Select(t => t.Recurrence is { } r ? t with { Recurrence = new Recurrence(r.Rule, new LocalDate(year, month, day) + r.Start.TimeOfDay, r.Zone) } : t)],
        } : p;
        IReadOnlyList<DesignedFigures> Figures(Plan plan)
        {
            var fleet = Harbour().WithPlans([plan]);
            return Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday }).ByDatabase[new("d0")];
        }

        var today = Figures(Begun(2026, 3, 2));
        Assert.All(today, f => Assert.Equal(0, f.Window.SecondsUnprotected));
        Assert.Equal(Figures(Begun(2025, 1, 6)).Select(f => (f.Window, f.LongestRestore?.Seconds)), today.Select(f => (f.Window, f.LongestRestore?.Seconds)));
    }

    [Fact]
    public void Where_only_fulls_are_copied_elsewhere_log_since_the_full_counts_when_the_site_is_lost()
    {
        var plan = Usual();
        plan = plan with { Tasks = [.. plan.Tasks.Select(t => t.Kind == TaskKind.Differential ? t with { CopyTo = [] } : t)] };
        var fleet = Harbour().WithPlans([plan]);
        var figures = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday + Duration.FromDays(3) }).ByDatabase[new("d0")];
        var (none, site) = (figures.Single(f => f.Loss.Kind == LossKind.None), figures.Single(f => f.Loss.Kind == LossKind.Site));
        Assert.InRange(site.Window.WorstExposureSeconds!.Value, none.Window.WorstExposureSeconds!.Value, none.Window.WorstExposureSeconds.Value + 120);
        Assert.True(Steps(site).Count > Steps(none).Count + 96, "log of days is applied to the full");

        // The slowest is just before the next full is there: a week of log.
        Assert.InRange(Steps(site).Count(s => s.Kind == SetKind.Log), 6.9 * 96, 7.1 * 96);
    }

    [Fact]
    public void Log_that_goes_where_no_full_does_counts_since_the_full_all_the_same()
    {
        var plan = Usual();
        plan = plan with { Tasks = [.. plan.Tasks.Where(t => t.Kind != TaskKind.Differential).Select(t => t.Kind == TaskKind.Full ? t with { Store = Far, CopyTo = [] } : t.Kind == TaskKind.Log ? t with { CopyTo = [] } : t)] };
        var fleet = Harbour().WithPlans([plan]);
        var figures = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday + Duration.FromDays(4) }).ByDatabase[new("d0")];
        Assert.InRange(figures.Single(f => f.Loss.Kind == LossKind.None).Window.WorstExposureSeconds!.Value, 900, 1020);
    }

    [Fact]
    public void A_proposal_beats_all_at_one_minute_and_breaks_nothing()
    {
        var plan = Plan(Task(TaskKind.Full, "daily 01:00") with { Window = Duration.FromHours(1) }, Task(TaskKind.Log, "every 5 minutes") with { SpreadOver = Duration.FromMinutes(4) });
        var fleet = Harbour(8, slots: 3, rto: 3 * 3600).WithPlans([plan]);
        var question = new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday };
        var proposal = Proposal.For(question);
        Assert.NotEmpty(proposal.Moves);
        Assert.True(proposal.After.WindowsMissed <= proposal.Before.WindowsMissed);
        Assert.True(proposal.After.WaitingSeconds + proposal.After.Stretch < (proposal.Before.WaitingSeconds + proposal.Before.Stretch) / 2, $"{proposal.Before} {proposal.After}");

        var accepted = fleet.WithPlans(Proposal.Accept(fleet.Plans, proposal.Moves));
        var after = Proposal.MeasureOf(question with { Fleet = accepted, Series = Series.Of(accepted) });
        Assert.Equal(proposal.After, after.Crowd);
        Assert.Empty(after.Broken(Proposal.MeasureOf(question)));
        Assert.All(Series.Of(accepted).Where(s => s.Task.Kind == TaskKind.Full), s => Assert.InRange(s.Offset, Duration.Zero, Duration.FromHours(1)));
    }

    [Fact]
    public void A_proposal_says_what_it_cannot_move()
    {
        var plan = Plan(Task(TaskKind.Full, "daily 01:00") with { Window = Duration.FromSeconds(330), CopyTo = [Far] });
        var fleet = Harbour(2).WithPlans([plan]);
        var proposal = Proposal.For(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        Assert.Contains(proposal.Forced, f => f.Reason.Contains("window", StringComparison.Ordinal));
    }

    [Fact]
    public void Ways_are_only_those_the_family_knows_and_show_what_they_cost()
    {
        var ways = Way.Of(Harbour(), Harbour().Databases[0], Near, Monday);
        Assert.Contains(ways, w => w.Kinds.SequenceEqual([SetKind.Full, SetKind.Differential, SetKind.Log]));
        Assert.DoesNotContain(ways, w => w.Kinds.Contains(SetKind.Export) || w.Kinds.Contains(SetKind.Snapshot));
        var nightly = ways.Single(w => w.Kinds.SequenceEqual([SetKind.Full]));
        var withLog = ways.Single(w => w.Kinds.SequenceEqual([SetKind.Full, SetKind.Log]) && w.Name.StartsWith("full every", StringComparison.Ordinal));
        Assert.True(nightly.WorstExposureSeconds > 80_000 && withLog.WorstExposureSeconds < 1000);
        Assert.True(nightly.RestoreSeconds < withLog.RestoreSeconds);
        Assert.Equal(7 * 40e9, nightly.StoredBytesPerWeek, 1e6);

        // A copy kept all the time stands beside them: usable at once, with the same mistakes.
        var kept = Harbour().With(replicas: [new() { Id = new("r"), Database = Harbour().Databases[0].Id, Place = new ReplicaPlace.OnHost(Harbour().Databases[0].Host), Mode = ReplicaMode.Sync, PromoteSeconds = 45 }]);
        var live = Way.Of(kept, kept.Databases[0], Near, Monday)[^1];
        Assert.Equal((0, kept.Databases[0].ServiceSeconds(45)), (live.WorstExposureSeconds, live.RestoreSeconds));
        Assert.True(live.RestoreSeconds < nightly.RestoreSeconds && live.DoesNotKeep[0].Contains("by mistake", StringComparison.Ordinal));
        Assert.Contains(Way.Of(Harbour(tracks: false), Harbour(tracks: false).Databases[0], Near, Monday), w => w.DoesNotKeep.Any(d => d.Contains("change tracking", StringComparison.Ordinal)));
    }

    [Fact]
    public void Members_are_spread_evenly_and_an_own_time_wins()
    {
        var task = Task(TaskKind.Full, "daily 01:00") with { SpreadOver = Duration.FromMinutes(30), Offsets = new Dictionary<string, Duration> { ["d1"] = Duration.FromMinutes(7) } };
        var fleet = Harbour(4).WithPlans([Plan(task)]);
        Assert.Equal([0, 7, 20, 30], Series.Of(fleet).Select(s => s.Offset.TotalMinutes));
    }

    [Fact]
    public void What_is_learned_from_sets_is_how_they_were()
    {
        var fleet = Harbour().WithPlans([Usual()]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        var learned = DatabaseLoad.Learned(fleet.Databases[0] with { LogBytesPerSecond = null, ChangeBytesPerDay = null }, answer.Subjects[new("d0")].Catalogue, answer.To);
        Assert.True(learned.FromRuns);
        Assert.Equal(200_000, learned.LogBytesPerSecond, 2000.0);
        Assert.Equal(10e9, learned.ChangeBytesPerDay, 0.2e9);
        Assert.Equal(100e9, learned.SizeBytes, 1e6);
    }

    [Theory]
    [InlineData(100, null)]
    [InlineData(10, "10 times smaller than usual")]
    [InlineData(400, "4 times larger than usual")]
    [InlineData(120, null)]
    public void A_size_unlike_its_like_stands_out(double bytes, string? said)
    {
        double[] like = [98, 99, 100, 100, 101, 102, 97, 103, 100, 100];
        Assert.Equal(said, OutlierTest.Of(bytes, 10, like, [.. like.Select(_ => 10.0)]));
    }

    [Fact]
    public void Too_few_runs_tell_nothing_and_a_few_odd_ones_hide_nothing()
    {
        Assert.Null(OutlierTest.Distance(1, [100, 100, 100, 100, 100, 100, 100]));
        Assert.NotNull(OutlierTest.Distance(1, [100, 1, 101, 99, 100, 5000, 100, 98, 102]));
        Assert.Equal("3 times longer than usual", OutlierTest.Of(100, 30, [.. Enumerable.Repeat(100.0, 9)], [9, 10, 10, 10, 11, 10, 10, 9, 11]));
    }

    [Fact]
    public void A_forecast_adds_what_comes_and_takes_off_what_is_no_longer_kept()
    {
        var plan = Plan(Task(TaskKind.Full, "daily 01:00") with { CopyTo = [], Keep = RetentionRule.For(Duration.FromDays(10)) });
        var fleet = Harbour().WithPlans([plan]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        var now = answer.To;
        var live = answer.Subjects[new("d0")].Catalogue;
        var forecast = StoreForecast.Of(fleet, _ => live, now)[Near];
        Assert.Equal(live.StoredIn(Near, now.ToUnixTimeMilliseconds()), forecast.NowBytes, 1);

        // Steady: ten fulls of 40 GB.
        Assert.Equal(400e9, forecast.ByDay[60], 41e9);
        Assert.Null(forecast.FullOn);
    }

    [Fact]
    public void What_grows_fills_a_store_and_the_faster_the_sooner()
    {
        Instant? FullOn(double growth, double days)
        {
            var plan = Plan(Task(TaskKind.Full, "daily 01:00") with { Keep = RetentionRule.For(Duration.FromDays(days)), KeepCopies = RetentionRule.For(Duration.FromDays(days)) });
            var fleet = Harbour(farCapacity: 900_000_000_000).Changed((d, _) => d with { GrowthBytesPerDay = growth }).WithPlans([plan]);
            var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
            var live = answer.Subjects[new("d0")].Catalogue;
            var all = StoreForecast.Of(fleet, _ => live, answer.To);
            Assert.Null(all[Near].FullOn);
            Assert.All(all.Values, f => Assert.All(f.ByDay, b => Assert.True(b >= 0)));
            return all[Far].FullOn;
        }

        Assert.Null(FullOn(0, 10));
        var slow = FullOn(2e9, 10);
        var fast = FullOn(4e9, 10);
        Assert.True(fast < slow, $"{fast} before {slow}");
        Assert.True(FullOn(0, 30) is not null, "thirty fulls of 40 GB are more than it holds");
    }
}

/// <summary>Bandwidth shared fairly.</summary>
public class FairShareTests
{
    [Fact]
    public void Two_flows_on_one_store_share_it_fairly()
    {
        var network = new FairShare();
        var store = network.SetCapacity("store", 100);
        var done = new List<string>();
        network.Start([store], 1000, double.MaxValue, () => done.Add("large"));
        network.Start([store], 500, double.MaxValue, () => done.Add("small"));
        Assert.Equal(10_000, network.NextDone(), 1);
        network.Advance(10_000);
        Assert.Equal(["small"], done);
        Assert.Equal(15_000, network.NextDone(), 1);
        network.Advance(15_000);
        Assert.Equal(["small", "large"], done);
    }

    [Fact]
    public void A_resource_without_bandwidth_holds_its_flows_still_and_one_that_comes_back_lets_them_go()
    {
        var network = new FairShare();
        var link = network.SetCapacity("link", 0);
        var done = 0;
        network.Start([link], 10, 5, () => done++);
        Assert.Equal(double.PositiveInfinity, network.NextDone());
        network.Advance(1000);
        network.SetCapacity("link", 100);
        Assert.Equal(3000, network.NextDone(), 1);
        network.Advance(3000);
        Assert.Equal(1, done);
    }

    [Fact]
    public void What_is_set_aside_is_taken_from_what_moves_in_bulk_and_given_back()
    {
        var network = new FairShare();
        var link = network.SetCapacity("link", 100);
        var flow = network.Start([link], 1000, double.MaxValue, () => { });
        network.Reserve(link, 60);
        network.Advance(5000);
        Assert.Equal(800, network.Left(flow), 1);
        Assert.Equal(1, network.UsersOf(link));
        network.Reserve(link, -60);
        Assert.Equal(13_000, network.NextDone(), 1);
        network.Reserve(link, 500);
        Assert.Equal(double.PositiveInfinity, network.NextDone());
        Assert.Equal(100, network.CapacityOf(link));
    }

    [Fact]
    public void What_moved_is_told_and_adds_up()
    {
        var network = new FairShare();
        var (a, b) = (network.SetCapacity("a", 100), network.SetCapacity("b", 50));
        var moved = new double[2];
        network.Moved = (r, bytes, _, _) => moved[r] += bytes;
        network.Start([a, b], 500, double.MaxValue, () => { });
        network.Start([a], 300, double.MaxValue, () => { });
        while (!double.IsPositiveInfinity(network.NextDone()))
        {
            network.Advance(network.NextDone());
        }

        Assert.Equal(800, moved[a], 0.5);
        Assert.Equal(500, moved[b], 0.5);
    }
}
