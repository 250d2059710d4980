using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>The rules of running, in a world that runs its plans by them: slots, pauses, retries, what follows, and a restart in the middle.</summary>
public sealed class RunRulesTests : IDisposable
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    private static readonly Id<Database> Sailings = new("harbour-sailings"), Berths = new("berth-plan"), Passes = new("passes");
    private readonly List<string> folders = [];

    public void Dispose() => folders.ForEach(f => Directory.Delete(f, recursive: true));

    private static Recurrence When(string words) =>
        RecurrenceWords.TryParse(words, DateTimeZone.Utc, new LocalDate(2026, 1, 1), out var recurrence, out var error) ? recurrence! : throw new InvalidOperationException(error);

    private static PlanTask Full(string when) => new()
    {
        Id = "full",
        Kind = TaskKind.Full,
        Recurrence = When(when),
        Store = new Id<Store>("quay-s2"),
        CopyTo = [new("hill-s1")],
    };

    private static PlanTask Log(string when) => new() { Id = "log", Kind = TaskKind.Log, Recurrence = When(when), Store = new Id<Store>("quay-s2") };

    /// <summary>A world of three databases on one host, a day old, under one plan.</summary>
    private static WorldScript Script(params PlanTask[] tasks)
    {
        var whole = TarnholtFerries.Create(Now);
        Id<Database>[] three = [Sailings, Berths, Passes];
        var plan = new Plan(new("p"), "P", new Selection { Databases = three }, tasks, TellRule.Nobody);
        return whole with
        {
            Fleet = whole.Fleet.WithPlans([plan]),
            Databases = [.. whole.Databases.Where(d => three.Contains(d.Id)).Select(d => d with { RehearsedDaysAgo = [] })],
            Troubles = [],
            Incidents = [],
            Begins = Now - Duration.FromDays(1),
        };
    }

    private World Lived(WorldScript script)
    {
        var folder = Directory.CreateTempSubdirectory("imbrek-plans").FullName;
        folders.Add(folder);
        using var history = new World(folder, script);
        history.Advance(Now);
        return new World(folder, script, history.Remember(), history.Sets);
    }

    private static List<TaskRun> RunsOf(World world) =>
        [.. world.TakeChanges().OfType<WorldChange.RunChanged>().GroupBy(c => c.Run.Id).Select(g => g.Last().Run)];

    /// <summary>Somebody asks for a run of the plan, now or at a time.</summary>
    private static Guid Ask(World world, string task, Id<Database> database, Instant? at = null, bool outsideChain = false)
    {
        var due = at ?? world.Now;
        world.Rules!.TakeUp(new OpenRun("p", task, nameof(TaskKind.Full), database.Value, due.ToUnixTimeMilliseconds(), 0, outsideChain, null, null, null, "somebody"));
        return TaskRun.IdOf(new("p"), task, database, due, null, "somebody");
    }

    [Fact]
    public void What_is_asked_for_a_time_starts_then_once_and_is_remembered_through_a_restart()
    {
        var script = Script(Full("daily 23:00"));
        using var first = Lived(script);
        var at = Now + Duration.FromMinutes(90);
        var run = Ask(first, "full", Sailings, at, outsideChain: true);
        Ask(first, "full", Sailings, at, outsideChain: true);
        first.Advance(Now + Duration.FromMinutes(60));
        Assert.DoesNotContain(RunsOf(first), r => r.Due > Now);

        using var second = new World(first.Folder, script, first.Remember(), first.Sets);
        second.Advance(Now + Duration.FromHours(4));
        var asked = Assert.Single(RunsOf(second), r => r.AskedBy is not null);
        Assert.Equal((run, RunState.Done, at, at), (asked.Id, asked.State, asked.Due, asked.Started!.Value));
        Assert.True(second.Sets.Single(s => s.Id == asked.Set).OutsideChain);
    }

    [Fact]
    public void What_is_asked_for_a_time_is_run_as_the_plan_then_says_or_told_that_its_task_is_gone()
    {
        using var world = Lived(Script(Full("daily 23:00")));
        var plan = world.Fleet.Plans[0];
        var (kept, gone) = (Ask(world, "full", Sailings, Now + Duration.FromHours(1)), Ask(world, "full", Berths, Now + Duration.FromHours(3)));
        world.SetPlans([plan with { Tasks = [Full("daily 23:00") with { CopyTo = [] }] }]);
        world.Advance(Now + Duration.FromHours(2));
        world.SetPlans([plan with { Tasks = [Full("daily 23:00") with { Id = "weekly" }] }]);
        world.Advance(Now + Duration.FromHours(4));
        var runs = RunsOf(world).ToDictionary(r => r.Id);
        Assert.Equal(RunState.Done, runs[kept].State);
        Assert.Single(world.Sets.Single(s => s.Id == runs[kept].Set).Copies);
        Assert.Equal((RunState.Cancelled, "its task is no longer in the plan"), (runs[gone].State, runs[gone].Note));
    }

    [Fact]
    public void What_waits_can_be_ended_whatever_it_waits_for()
    {
        var script = Script(Full("daily 14:30") with { Overlap = OverlapRule.Wait }, Log("every 30 minutes"));
        using var world = Lived(script);
        world.Rules!.Pause([new Blackout(Now, Now + Duration.FromHours(1), null, Passes, null, null, "test")]);
        var asked = Ask(world, "full", Sailings, Now + Duration.FromHours(2));
        world.Advance(Now + Duration.FromMinutes(31));
        var behind = Ask(world, "full", Berths);
        var runs = RunsOf(world);
        var held = runs.Single(r => r.Database == Passes && r.Task == "full" && r.State == RunState.Waiting);
        Assert.Equal(RunState.Waiting, runs.Single(r => r.Id == behind).State);
        Assert.All([asked, held.Id, behind], id => Assert.True(world.Rules!.Cancel(id, "ada")));
        Assert.All([asked, held.Id, behind], id => Assert.False(world.Rules!.Cancel(id, "ada")));
        world.Advance(Now + Duration.FromHours(5));
        runs = RunsOf(world);
        Assert.All([asked, held.Id, behind], id => Assert.Equal((RunState.Cancelled, "ended by ada"), (runs.Single(r => r.Id == id).State, runs.Single(r => r.Id == id).Note)));
        Assert.DoesNotContain(runs, r => r.Task == "full" && r.Database == Sailings && r.AskedBy is not null && r.State == RunState.Done);
    }

    [Fact]
    public void A_backup_that_hangs_is_overdue_until_its_time_limit_ends_it()
    {
        var limited = Full("daily 15:00") with { TimeLimit = Duration.FromHours(1), Attempts = 1 };
        using var world = Lived(Script(limited, Log("every 30 minutes") with { TimeLimit = Duration.FromMinutes(20) }));
        world.Faults.SetHanging(Sailings, true);
        world.Advance(Instant.FromUtc(2026, 11, 23, 15, 59));
        var hangs = RunsOf(world).Single(r => r.Task == "full" && r.Database == Sailings);
        Assert.Equal(RunState.Running, hangs.State);
        Assert.Contains("alone it takes", Overdue.Of(hangs, limited, world.Now), StringComparison.Ordinal);

        world.Faults.SetHanging(Sailings, false);
        world.Advance(Now + Duration.FromHours(3));
        var runs = RunsOf(world);
        var ended = runs.Single(r => r.Id == hangs.Id);
        Assert.Equal((RunState.Failed, "it took longer than its limit of 1 h"), (ended.State, ended.Note));
        Assert.Contains(runs, r => r.Task == "log" && r.Database == Sailings && r.State == RunState.Done);
        Assert.DoesNotContain(world.Sets, s => s.Kind == SetKind.Full && s.Database == Sailings && s.CoversTo > Now);
    }

    [Fact]
    public void How_far_data_compresses_is_learned_from_the_sets_and_makes_the_prediction_right()
    {
        var script = Script(Full("daily 15:00"), Log("every 30 minutes"));
        script = script with { Databases = [.. script.Databases.Select(d => d with { Packs = d.Id == Sailings ? 1.9 : 0.7 })] };
        using var world = Lived(script);
        world.Advance(Now + Duration.FromHours(3));
        foreach (var (id, packs) in new[] { (Sailings, 1.9), (Berths, 0.7) })
        {
            var catalogue = new DatabaseCatalogue(id, world.Sets.Where(s => s.Database == id));
            var load = DatabaseLoad.Learned(world.Fleet.DatabaseById[id], catalogue, world.Now, world.Fleet.Plans[0].Tasks);
            Assert.InRange(load.Packing[SetKind.Full], packs * 0.98, packs * 1.02);
            Assert.InRange(load.RatioOf(Full("daily 15:00") with { Compression = Compression.Strong }) / (Compression.Strong.Ratio() * packs), 0.98, 1.02);
            Assert.Equal(1, load.RatioOf(Full("daily 15:00") with { Compression = Compression.Off }));
        }
    }

    [Fact]
    public void Each_occurrence_is_one_run_and_each_set_has_its_run()
    {
        using var world = Lived(Script(Full("daily 16:00"), Log("every 10 minutes")));
        world.TakeChanges();
        var before = world.Sets.Select(s => s.Id).ToHashSet();
        world.Advance(Now + Duration.FromHours(6));
        var changes = world.TakeChanges();
        var runs = changes.OfType<WorldChange.RunChanged>().GroupBy(c => c.Run.Id).Select(g => g.Last().Run).ToArray();
        Assert.Equal(3 * (36 + 1), runs.Count(r => r.Due > Now));
        Assert.Equal(runs.Length, runs.DistinctBy(r => (r.Task, r.Database, r.Due)).Count());
        Assert.Equal(
            world.Sets.Select(s => s.Id).Where(id => !before.Contains(id)).Select(id => id.Value).Order(StringComparer.Ordinal),
            runs.Where(r => r.Set is not null).Select(r => r.Set!.Value.Value).Order(StringComparer.Ordinal));
        Assert.All(runs.Where(r => r.State == RunState.Done), r => Assert.InRange((r.Ended!.Value - r.Started!.Value).TotalSeconds / r.ExpectedSeconds, 0.4, 4));
    }

    [Fact]
    public void A_host_of_one_slot_takes_one_backup_at_a_time_and_logs_do_not_wait()
    {
        var script = Script(Full("daily 16:00"), Log("every minute"));
        var fleet = script.Fleet;
        var slots = new FleetModel(
            fleet.SiteList, fleet.Links, fleet.ArrayList, fleet.HostList.Select(h => h with { Slots = 1 }), fleet.StoreList, fleet.EngineList, fleet.ObjectiveList, fleet.ServiceList, fleet.Databases)
            .WithPlans(fleet.Plans);
        using var world = Lived(script with { Fleet = slots });
        world.Advance(Now + Duration.FromHours(4));
        var runs = RunsOf(world);
        var fulls = runs.Where(r => r.Kind == TaskKind.Full).OrderBy(r => r.Started).ToArray();
        Assert.Equal(3, fulls.Length);
        Assert.All(fulls.Zip(fulls.Skip(1)), p => Assert.True(p.Second.Started >= p.First.Ended));
        Assert.All(runs.Where(r => r.Kind == TaskKind.Log && r.State == RunState.Done), r => Assert.Equal(r.Due, r.Started));
    }

    [Fact]
    public void The_prediction_says_when_the_worlds_backups_will_be_done()
    {
        var script = Script(Full("daily 16:00"));
        using var world = Lived(script);
        var sink = new Ends();
        var series = Series.Of(script.Fleet);
        var sets = world.Sets.ToLookup(s => s.Database);
        Prediction.Run(
            new PredictionInput
            {
                Fleet = script.Fleet,
                Series = series,
                From = Now,
                To = Now + Duration.FromHours(8),
                LoadOf = d => DatabaseLoad.Learned(d, new DatabaseCatalogue(d.Id, sets[d.Id]), Now, script.Fleet.Plans[0].Tasks),
            },
            sink);
        world.Advance(Now + Duration.FromHours(8));
        foreach (var run in RunsOf(world))
        {
            var predicted = sink.All.Single(p => series[p.Series].Database.Id == run.Database);
            Assert.InRange((run.Ended!.Value - run.Started!.Value).TotalSeconds / ((predicted.Ended - predicted.Started) / 1000.0), 0.9, 1.1);
        }
    }

    private sealed class Ends : IPredictionSink
    {
        public List<PredictedRun> All { get; } = [];

        public void Add(in PredictedRun run) => All.Add(run);

        public void AddCopy(int series, long captured, int copier, long at) => Assert.Fail("nothing is copied later");
    }

    [Fact]
    public void What_fails_is_tried_again_after_a_longer_wait_each_time_and_then_sets_off_what_follows_a_failure()
    {
        using var world = Lived(Script(
            Full("daily 16:00") with { Attempts = 3, BackOff = Duration.FromMinutes(2) },
            new PlanTask { Id = "check", Kind = TaskKind.IntegrityCheck, After = [new("full", LinkOn.Failure)] },
            new PlanTask { Id = "read", Kind = TaskKind.Verify, After = [new("full", LinkOn.Success)] }));
        world.Faults.SetRefused(Sailings, true);
        world.Advance(Now + Duration.FromHours(5));
        var runs = RunsOf(world);
        var failed = Assert.Single(runs, r => r.State == RunState.Failed);
        Assert.Equal((Sailings, 3), (failed.Database, failed.Attempts));
        Assert.True(failed.Ended - failed.Started > Duration.FromMinutes(6));
        Assert.Contains("expired", failed.Note, StringComparison.Ordinal);
        Assert.Equal(failed.Id, Assert.Single(runs, r => r.Task == "check").After);
        Assert.Equal([Berths, Passes], runs.Where(r => r.Task == "read").Select(r => r.Database).OrderBy(d => d.Value, StringComparer.Ordinal));
        Assert.All(world.Sets.Where(s => s.Kind == SetKind.Full && s.CoversTo > Now), s => Assert.Equal(CopyState.Good, s.Copies[0].State));
    }

    [Fact]
    public void A_full_outside_the_chain_is_no_base_for_the_next_differential()
    {
        using var world = Lived(Script(
            Full("daily 16:00"), Full("daily 18:00") with { Id = "aside", OutsideChain = true }, Full("daily 20:00") with { Id = "differential", Kind = TaskKind.Differential }));
        world.Advance(Now + Duration.FromHours(8));
        var sets = world.Sets.Where(s => s.Database == Sailings && s.CoversTo > Now).ToArray();
        var aside = Assert.Single(sets, s => s.OutsideChain);
        var chain = Assert.Single(sets, s => s.Kind == SetKind.Full && !s.OutsideChain);
        Assert.Equal(chain.Id, Assert.Single(sets, s => s.Kind == SetKind.Differential).Parent);
        Assert.True(aside.CoversTo > chain.CoversTo);
    }

    [Fact]
    public void A_restart_in_the_middle_of_a_backup_takes_it_again_as_the_same_run()
    {
        var script = Script(Full("daily 16:00"));
        using var first = Lived(script);
        first.TakeChanges();
        first.Advance(Instant.FromUtc(2026, 11, 23, 16, 0, 20));
        var begun = RunsOf(first).Where(r => r.State == RunState.Running).Select(r => r.Id).Order().ToArray();
        Assert.Equal(3, begun.Length);
        using var second = new World(first.Folder, script, first.Remember(), first.Sets);
        second.Advance(Now + Duration.FromHours(6));
        var runs = RunsOf(second);
        Assert.Equal(begun, runs.Where(r => r.State == RunState.Done).Select(r => r.Id).Order());
        Assert.All(runs, r => Assert.Contains(second.Sets, s => s.Database == r.Database && s.Id == r.Set && s.Copies.Count == 2));
    }

    [Fact]
    public void A_restart_goes_on_by_the_plans_and_pauses_in_force_and_forgets_no_run()
    {
        var script = Script(Full("daily 16:00"));
        using var first = Lived(script);
        var plan = script.Fleet.Plans[0];
        first.SetPlans([plan with { Tasks = [.. plan.Tasks, Full("daily 16:00") with { Id = "added", Store = new Id<Store>("hill-s1"), CopyTo = [] }] }]);
        first.TakeChanges();
        first.Advance(Instant.FromUtc(2026, 11, 23, 16, 0, 20));
        var aside = Ask(first, "full", Berths, outsideChain: true);
        first.Advance(first.Now + Duration.FromSeconds(2));
        var open = RunsOf(first).Where(r => r.State is RunState.Running or RunState.Waiting).ToArray();
        Assert.Equal(7, open.Length);

        // The product's plan has lost a task meanwhile, and Passes is paused.
        var now = script with { Fleet = script.Fleet.WithPlans([plan]) };
        var pause = new Blackout(first.Now, first.Now + Duration.FromHours(2), null, Passes, null, null, "test");
        using var second = new World(first.Folder, now, first.Remember(), first.Sets, [pause]);
        second.Advance(Now + Duration.FromHours(8));
        var runs = RunsOf(second);
        Assert.Equal(open.Select(r => r.Id).Order(), runs.Select(r => r.Id).Order());
        Assert.All(runs.Where(r => r.Task == "added"), r => Assert.Equal(RunState.Cancelled, r.State));
        Assert.All(runs.Where(r => r.Task == "full"), r => Assert.Equal(RunState.Done, r.State));
        Assert.True(runs.Single(r => r.Task == "full" && r.Database == Passes).Started >= pause.To);
        Assert.True(second.Sets.Single(s => s.Id == runs.Single(r => r.Id == aside).Set).OutsideChain);
    }

    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    [InlineData(4)]
    public void Restarted_at_any_instants_the_same_runs_are_done_no_set_is_without_its_run_and_no_log_has_a_hole(int seed)
    {
        var script = Script(
            Full("daily 16:00") with { Attempts = 3 },
            Log("every 10 minutes"),
            new PlanTask { Id = "read", Kind = TaskKind.Verify, After = [new TaskLink("full", LinkOn.Success)] });
        var end = Now + Duration.FromHours(6);
        using var whole = Lived(script);
        whole.TakeChanges();
        whole.Advance(end);
        var expected = RunsOf(whole);

        var random = new Random(seed);
        var kept = new Dictionary<Guid, TaskRun>();
        var world = Lived(script);
        world.TakeChanges();
        while (world.Now < end)
        {
            // Around the fulls, where much is under way, more often.
            var next = world.Now + Duration.FromMilliseconds(random.Next(world.Now.InUtc().Hour == 16 ? 200_000 : 4_000_000));
            world.Advance(Instant.Min(end, next));
            foreach (var run in RunsOf(world))
            {
                kept[run.Id] = run;
            }

            var (state, sets) = (world.Remember(), world.Sets);
            world.Dispose();
            world = new World(world.Folder, script, state, sets);
        }

        using var last = world;
        TaskRun[] Due(IEnumerable<TaskRun> runs) => [.. runs.Where(r => r.After is null && r.Due < end - Duration.FromHours(1))];
        Assert.Equal(Due(expected).Select(r => (r.Id, r.State)).Order(), Due(kept.Values).Select(r => (r.Id, r.State)).Order());
        var made = last.Sets.Where(s => s.CoversTo > Now).ToArray();
        Assert.All(made, s => Assert.Contains(kept.Values, r => r.Database == s.Database && r.Set == s.Id));
        Assert.All(Due(kept.Values).Where(r => r.State == RunState.Done), r => Assert.Contains(last.Sets, s => s.Database == r.Database && s.Id == r.Set));
        Assert.Equal(3, kept.Values.Count(r => r is { Task: "read", State: RunState.Done, After: not null }));
        foreach (var logs in last.Sets.Where(s => s.Kind == SetKind.Log).GroupBy(s => s.Database))
        {
            var chain = logs.OrderBy(s => s.ToPosition).ToArray();
            Assert.All(chain.Zip(chain.Skip(1)), pair => Assert.Equal(pair.First.ToPosition, pair.Second.FromPosition));
        }
    }

    [Fact]
    public void A_changed_plan_is_followed_from_then_on_and_one_that_is_ended_by_hand_leaves_nothing()
    {
        var script = Script(Log("every 30 minutes"));
        using var world = Lived(script);
        world.Advance(Now + Duration.FromHours(1) + Duration.FromMinutes(1));
        var before = RunsOf(world).Count(r => r.Due > Now);
        world.SetPlans([script.Fleet.Plans[0] with { Tasks = [Log("every 5 minutes"), Full("daily 23:00")] }]);
        world.Advance(Now + Duration.FromHours(2) + Duration.FromMinutes(1));
        Assert.Equal((6, 36), (before, RunsOf(world).Count));

        var run = Ask(world, "full", Sailings);
        world.Advance(world.Now + Duration.FromSeconds(10));
        Assert.True(world.Rules!.Cancel(run, "somebody"));
        Assert.False(world.Rules!.Cancel(run, "somebody"));
        world.Advance(world.Now + Duration.FromMinutes(30));
        Assert.Equal(RunState.Cancelled, RunsOf(world).Single(r => r.Id == run).State);
        Assert.DoesNotContain(world.Sets, s => s.Kind == SetKind.Full && s.CoversTo > Now);
    }

    [Fact]
    public void Clean_up_keeps_what_a_kept_log_needs_and_frees_the_rest()
    {
        using var world = Lived(Script(
            Full("every 6 hours") with { Keep = RetentionRule.For(Duration.FromHours(1)), CopyTo = [] },
            Log("every 10 minutes") with { Keep = RetentionRule.For(Duration.FromHours(8)) },
            new PlanTask { Id = "clean", Kind = TaskKind.CleanUp, Recurrence = When("every hour at :05") }));
        world.TakeChanges();
        world.Advance(Now + Duration.FromHours(10));
        var cleaned = RunsOf(world).Where(r => r.Kind == TaskKind.CleanUp).ToArray();
        Assert.Contains(cleaned, r => r.StoredBytes > 0 && r.Note!.EndsWith("copies removed", StringComparison.Ordinal));
        var catalogue = new DatabaseCatalogue(Sailings, world.Sets.Where(s => s.Database == Sailings));
        var cover = Core.Recovery.Evaluator.RecoverableAt(
            Core.Recovery.RecoverySubject.Of(world.Fleet, world.Fleet.DatabaseById[Sailings], catalogue), Core.Objectives.Loss.None, world.Now);
        Assert.True(cover[0].From <= world.Now - Duration.FromHours(8));
        Assert.True(world.Now - cover[0].From < Duration.FromHours(16));
    }
}
