using System.Text.Json;
using CsCheck;
using Imbrek.Core.Runs;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>For any graph of steps, any order of outcomes, any crash, any decisions of people.</summary>
public class RunProperties
{
    private static readonly JsonSerializerOptions Json = new JsonSerializerOptions().ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);
    private static readonly Instant Begin = Instant.FromUtc(2026, 3, 2, 6, 0);

    private static RunPlan RandomPlan(Random random)
    {
        var steps = new List<Step>();
        var count = random.Next(1, 12);
        for (var n = 1; n <= count; n++)
        {
            var holds = steps.Where(s => s.IsHold).ToArray();
            var guard = holds.Length > 0 && random.Next(3) == 0 ? holds[random.Next(holds.Length)] : null;
            var after = steps.Where(_ => random.Next(3) == 0).Select(s => s.Number).Union(guard is null ? [] : [guard.Number]).ToArray();
            var isHold = guard is null && random.Next(6) == 0;
            var undo = isHold ? Undo.Nothing : (Undo)random.Next(3);
            steps.Add(new Step
            {
                Number = n,
                Kind = "k",
                Title = $"step {n}",
                After = after,
                Choices = isHold ? ["on", "off"] : [],
                Only = guard is null ? null : new(guard.Number, guard.Choices[random.Next(2)]),
                Reopens = guard is not null && undo != Undo.Own && random.Next(3) == 0 ? guard.Number : null,
                NeedsApproval = !isHold && random.Next(8) == 0,
                NoWayBack = !isHold && random.Next(20) == 0,
                Undo = undo,
                Attempts = random.Next(1, 4),
                TimeLimitSeconds = random.Next(4) == 0 ? 60 : null,
            });
        }

        return new RunPlan(steps);
    }

    /// <summary>What a process finds that reads what another kept.</summary>
    private static Run ReadAgain(Run run)
    {
        var text = JsonSerializer.Serialize(run.Plan.Steps.Select(s => new Kept(s, run[s.Number])), Json);
        var kept = JsonSerializer.Deserialize<Kept[]>(text, Json)!;
        return new Run(new RunPlan([.. kept.Select(k => k.Step)]), kept.ToDictionary(k => k.Step.Number, k => k.Progress), run.CancelledBy);
    }

    private sealed record Kept(Step Step, StepProgress Progress);

    private static string Said(NextSteps n) => $"{string.Join(',', n.Start)}|{string.Join(',', n.Ask)}|{string.Join(',', n.Stop)}|{string.Join(',', n.Undo)}|{n.Wake}|{n.End?.State}|{n.End?.Failed}|{string.Join(',', n.End?.LeftBehind ?? [])}";

    /// <summary>Carries a run out as chance has it, and looks at every moment whether the rules hold.</summary>
    private static Run Play(Random random, RunPlan plan, List<(int Step, string What)> happened)
    {
        var (run, now, turns) = (Run.Of(plan), Begin, 0);
        var standing = new HashSet<int>();
        while (true)
        {
            Assert.True(++turns < 2000, "it goes on for ever");
            if (random.Next(8) == 0)
            {
                var again = ReadAgain(run);
                Assert.Equal(Said(run.Next(now)), Said(again.Next(now)));
                run = again.TakeUp("taken up again");
            }

            var next = run.Next(now);
            Assert.Equal(run.State(now), run.State(now));
            if (next.End is not null)
            {
                Assert.Empty(next.Start.Concat(next.Stop).Concat(next.Undo).Concat(next.Ask));
                return run;
            }

            if (run.CancelledBy is null && random.Next(60) == 0)
            {
                run = run.Hear([], "somebody");
                continue;
            }

            var running = run.Plan.Steps.Where(s => run[s.Number].State == StepState.Running && !s.IsHold).Select(s => s.Number).ToArray();
            var moves = next.Start.Select(s => (s, "begin")).Concat(next.Ask.Select(s => (s, "ask"))).Concat(next.Stop.Select(s => (s, "stop")))
                .Concat(next.Undo.Select(s => (s, "undo"))).Concat(next.Stop.Count > 0 ? [] : running.Select(s => (s, "end"))).ToArray();
            if (moves.Length == 0)
            {
                now = Assert.NotNull(next.Wake);
                continue;
            }

            now += Duration.FromSeconds(1);
            var (step, what) = moves[random.Next(moves.Length)];
            happened.Add((step, what));
            switch (what)
            {
                case "begin":
                    Assert.All(run.Plan[step].After, a => Assert.True(run[a].State is StepState.Done or StepState.Skipped or StepState.Stopped, $"{step} begins before {a}"));
                    Assert.False(run.GoesBack);
                    run = run.Begin(step, now);
                    break;
                case "ask":
                    var choice = run.Plan[step].IsHold ? run.Plan[step].Choices[random.Next(2)] : random.Next(4) == 0 ? Step.Refuse : Step.Approve;
                    run = run.Hear([new Decision(step, run[step].Round, choice, "ada", now), new Decision(step, run[step].Round, "nothing", "bob", now)], run.CancelledBy);
                    Assert.Equal(choice, run[step].Choice);
                    break;
                case "stop":
                    run = random.Next(3) switch
                    {
                        0 => run.Finish(step, now),
                        1 => run.Fail(step, now, "broke", canRetry: true),
                        _ => run.Stop(step, now),
                    };
                    break;
                case "undo":
                    Assert.True(run.GoesBack && run.Plan[step].Undo == Undo.Own);
                    Assert.DoesNotContain(step, standing);
                    if (random.Next(3) > 0)
                    {
                        run = run.Undid(step, now);
                        Assert.True(standing.Add(step));
                    }
                    else
                    {
                        run = run.UndoFailed(step, now, "will not go");
                    }

                    break;
                default:
                    run = random.Next(6) switch
                    {
                        0 => run.Fail(step, now, "broke", canRetry: random.Next(2) == 0),
                        1 => run.LookAgain(step, now, now + Duration.FromSeconds(20), "not there yet"),
                        _ => run.Finish(step, now),
                    };
                    break;
            }
        }
    }

    [Fact]
    public void Every_run_ends_once_and_what_it_began_is_finished_undone_or_named() => Gen.Int.Sample(
        seed =>
        {
            var random = new Random(seed);
            var happened = new List<(int Step, string What)>();
            var run = Play(random, RandomPlan(random), happened);
            var end = run.Next(Begin + Duration.FromDays(365)).End!;
            var closed = run.Close(Begin + Duration.FromDays(1));
            Assert.Equal(end.State, closed.Next(Begin + Duration.FromDays(365)).End!.State);
            foreach (var s in closed.Plan.Steps)
            {
                var p = closed[s.Number];
                Assert.True(p.StartedAt is not null || p.State is StepState.Skipped or StepState.Failed, $"{s.Number} is {p.State} and never began");
                Assert.DoesNotContain(p.State, new[] { StepState.Waiting, StepState.Running });
                if (closed.GoesBack && s.Undo == Undo.Own && p.StartedAt is not null)
                {
                    Assert.True(p.State is StepState.Undone or StepState.LeftBehind, $"{s.Number} was begun, and is {p.State}");
                }

                // What could not be taken back keeps the ground it stands on.
                Assert.True(p.State != StepState.LeftBehind || end.State != RunState.Failed || s.Undo == Undo.Covered || end.LeftBehind.Contains(s.Number));
                if (s.Undo == Undo.Own && p.State == StepState.LeftBehind)
                {
                    Assert.All(s.After.Where(a => closed.Plan[a].Undo == Undo.Own && closed[a].StartedAt is not null), a => Assert.Equal(StepState.LeftBehind, closed[a].State));
                }
            }

            if (end.State == RunState.Done)
            {
                Assert.All(closed.Plan.Steps, s => Assert.True(closed[s.Number].State is StepState.Done or StepState.Skipped or StepState.Stopped, $"{s.Number} is {closed[s.Number].State}"));
            }

            if (end.State == RunState.Cancelled)
            {
                Assert.NotNull(run.CancelledBy);
            }

            // Taken back in reverse: nothing before what stands on it.
            var undone = happened.Where(h => h.What == "undo").Select(h => h.Step).Distinct().ToList();
            Assert.All(undone, u => Assert.False(run.Plan[u].After.Any(a => undone.Contains(a) && happened.FindIndex(h => h == (a, "undo")) < happened.FindLastIndex(h => h == (u, "undo"))), string.Join(' ', happened)));
        },
        iter: 5000);

    [Fact]
    public void Steps_that_do_not_wait_for_each_other_go_side_by_side()
    {
        var run = Run.Of(new RunPlan([Of(1), Of(2), Of(3, 1), Of(4, 2, 3)])).Begin(1, Begin).Begin(2, Begin);
        Assert.Empty(run.Next(Begin).Start);
        Assert.Equal([3], run.Finish(1, Begin).Next(Begin).Start);
        Assert.Equal([4], run.Finish(1, Begin).Begin(3, Begin).Finish(3, Begin).Finish(2, Begin).Next(Begin).Start);
    }

    [Fact]
    public void A_step_is_tried_again_after_growing_pauses_and_then_fails()
    {
        var run = Run.Of(new RunPlan([Of(1) with { Attempts = 3, BackOffSeconds = 10 }]));
        var at = Begin;
        foreach (var pause in new[] { 10, 20 })
        {
            run = run.Begin(1, at).Fail(1, at, "no", canRetry: true);
            Assert.Equal(at + Duration.FromSeconds(pause), run.Next(at).Wake);
            Assert.Throws<InvalidOperationException>(() => run.Begin(1, at));
            at += Duration.FromSeconds(pause);
        }

        Assert.Equal(RunState.Failed, run.Begin(1, at).Fail(1, at, "no", canRetry: true).Next(at).End!.State);
        Assert.Equal(RunState.Failed, Run.Of(run.Plan).Begin(1, at).Fail(1, at, "never", canRetry: false).Next(at).End!.State);
    }

    [Fact]
    public void What_is_under_way_when_its_hold_opens_again_is_let_go_once_people_choose_otherwise()
    {
        var held = Run.Of(new RunPlan(
        [
            Of(1) with { Choices = ["release", "throw away"] },
            Of(2, 1) with { Only = new(1, "release"), Reopens = 1 },
            Of(3, 1) with { Only = new(1, "release"), Attempts = 3, Reopens = 1 },
            Of(4, 1) with { Only = new(1, "throw away") },
        ])).Begin(1, Begin).Hear([new Decision(1, 0, "release", "ada", Begin)], null).Begin(2, Begin).Begin(3, Begin)
            .Fail(2, Begin, "refused", canRetry: false).Hear([new Decision(1, 1, "throw away", "ada", Begin)], null).Begin(4, Begin).Finish(4, Begin);
        foreach (var after in new[] { held.Fail(3, Begin, "no", canRetry: true), held.Fail(3, Begin, "no", canRetry: false), held.LookAgain(3, Begin, Begin + Duration.FromSeconds(9), "not yet") })
        {
            Assert.Equal(StepState.Skipped, after[3].State);
            Assert.Equal(1, after[1].Round);
            Assert.Equal(RunState.Done, after.Next(Begin).End!.State);
        }
    }

    [Fact]
    public void What_cannot_be_done_after_a_decision_reopens_the_hold_and_an_old_decision_is_not_heard_again()
    {
        var run = Run.Of(new RunPlan(
        [
            Of(1) with { Choices = ["release", "throw away"] },
            Of(2, 1) with { Only = new(1, "release"), Reopens = 1 },
            Of(3, 1) with { Only = new(1, "throw away") },
        ])).Begin(1, Begin);
        var first = new Decision(1, 0, "release", "ada", Begin);
        run = run.Hear([first], null);
        Assert.Equal(StepState.Skipped, run[3].State);
        run = run.Begin(2, Begin).Fail(2, Begin, "refused", canRetry: false);
        Assert.Equal(RunState.Held, run.State(Begin));
        Assert.Equal([1], run.Next(Begin).Ask);
        Assert.Equal(1, run[1].Round);
        Assert.Equal([1], run.Hear([first], null).Next(Begin).Ask);
        run = run.Hear([first, new Decision(1, 1, "throw away", "bob", Begin)], null);
        Assert.Equal([3], run.Next(Begin).Start);
        Assert.Equal((StepState.Skipped, "bob"), (run[2].State, run[1].DecidedBy));
    }

    [Fact]
    public void An_approval_that_nobody_gives_in_its_time_is_refused_and_a_refusal_says_why()
    {
        var asks = Run.Of(new RunPlan([Of(1), Of(2, 1) with { NeedsApproval = true, DecideWithinSeconds = 60 }, Of(3, 2)])).Begin(1, Begin).Finish(1, Begin).Ask(Begin);
        var end = Begin + Duration.FromSeconds(60);
        Assert.Equal([2], asks.Next(Begin).Ask);
        Assert.Equal(end, asks.Next(Begin).Wake);
        Assert.Equal(Begin, asks.Ask(Begin + Duration.FromSeconds(30))[2].AskedAt);
        Assert.Null(asks.Ask(end - Duration.FromMilliseconds(1)).FailedStep);
        var late = asks.Ask(end);
        Assert.Equal((2, "nobody approved it within 1 min", RunState.Failed), (late.FailedStep!.Value, late[2].Note, late.State(end)));

        // What was said in time counts, whenever it is heard.
        var approved = asks.Hear([new(2, 0, Step.Approve, "second", Begin)], null).Ask(end + Duration.FromDays(1));
        Assert.Equal([2], approved.Next(end).Start);
        Assert.Equal("refused by second: not now", asks.Hear([new(2, 0, Step.Refuse, "second", Begin, "not now")], null)[2].Note);
        Assert.Null(late.Hear([new(2, 0, Step.Approve, "second", end)], null)[2].Choice);
    }

    [Fact]
    public void Where_there_is_no_way_back_a_cancellation_changes_nothing_and_the_rest_goes_on()
    {
        var run = Run.Of(new RunPlan([Of(1) with { NoWayBack = true, Undo = Undo.Own }, Of(2, 1), Of(3), Of(4, 3)])).Begin(1, Begin).Begin(3, Begin);
        Assert.False(run.CanTurnBack);
        run = run.Fail(1, Begin, "broke", canRetry: false).Hear([], "ada");
        Assert.Empty(run.Next(Begin).Undo);
        run = run.Finish(3, Begin);
        Assert.Equal([4], run.Next(Begin).Start);
        var end = run.Begin(4, Begin).Finish(4, Begin).Next(Begin).End!;
        Assert.Equal((RunState.Failed, 1), (end.State, end.Failed));
    }

    [Fact]
    public void Another_way_stands_in_for_a_failed_step_and_is_taken_back_with_the_rest()
    {
        var run = Run.Of(new RunPlan([Of(1) with { Undo = Undo.Own }, Of(2, 1) with { Undo = Undo.Covered }, Of(3, 2) with { Undo = Undo.Covered }, Of(4, 3)]));
        run = run.Begin(1, Begin).Finish(1, Begin).Begin(2, Begin).Finish(2, Begin).Begin(3, Begin).Fail(3, Begin, "damaged", canRetry: false);
        Assert.True(run.GoesBack);
        Assert.Throws<InvalidOperationException>(() => run.Amend(new Amendment(3, [1], [Of(5, 1) with { InsteadOf = 3 }])));
        run = run.Amend(new Amendment(3, [2], [Of(5, 1) with { InsteadOf = 3, Undo = Undo.Covered }, Of(6, 5)]));
        Assert.False(run.GoesBack);
        Assert.Equal((StepState.Undone, StepState.Skipped), (run[2].State, run[4].State));
        Assert.Equal([5], run.Next(Begin).Start);
        var back = run.Begin(5, Begin).Finish(5, Begin).Hear([], "ada");
        Assert.Equal([1], back.Next(Begin).Undo);
        back = back.Undid(1, Begin);
        Assert.Equal((RunState.Cancelled, StepState.Undone), (back.Next(Begin).End!.State, back[5].State));
        Assert.Equal(RunState.Done, run.Begin(5, Begin).Finish(5, Begin).Begin(6, Begin).Finish(6, Begin).Next(Begin).End!.State);
    }

    [Fact]
    public void A_plan_that_refers_to_what_does_not_stand_before_it_is_refused()
    {
        Assert.Contains("step 1 refers to step 2", Assert.Throws<ArgumentException>(() => new RunPlan([Of(1, 2), Of(2)])).Message, StringComparison.Ordinal);
        Assert.Contains("two steps 1", Assert.Throws<ArgumentException>(() => new RunPlan([Of(1), Of(1)])).Message, StringComparison.Ordinal);
        Assert.Contains("cannot be chosen", Assert.Throws<ArgumentException>(() => new RunPlan([Of(1) with { Choices = ["a"] }, Of(2) with { Only = new(1, "b") }])).Message, StringComparison.Ordinal);
    }

    private static Step Of(int number, params int[] after) => new() { Number = number, Kind = "k", Title = $"step {number}", After = after };
}
