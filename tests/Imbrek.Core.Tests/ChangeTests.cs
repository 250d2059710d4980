using Imbrek.Core.Catalogue;
using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Changes: what is wrong with one, how long it is expected to take, what is different afterwards, and the steps of its day whatever people decide.</summary>
public class ChangeTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 28, 12, 0);

    private static readonly Change Move = new("To 15", new("e"), false, [new("move", "15", []), new("statistics", null, ["collect"])], [new("q", "select 1")]);

    private static Database Harbour => new() { Id = new("harbour"), Name = "Harbour", Engine = new("e"), Host = new("h"), SizeBytes = 1, CheckSeconds = 5 };

    [Theory]
    [InlineData("name", "")]
    [InlineData("name", "a\u0001")]
    [InlineData("parts", "none")]
    [InlineData("parts[1].name", "same")]
    [InlineData("parts[0]", "both")]
    [InlineData("parts[0]", "neither")]
    [InlineData("queries[1].name", "same query")]
    [InlineData("parts[0].statements[1]", "control")]
    public void What_is_wrong_is_named_by_its_member(string member, string how)
    {
        var part = new ChangePart("a", null, ["x"]);
        var change = Move with { Parts = [part], Queries = [] };
        change = how switch
        {
            "none" => change with { Parts = [] },
            "same" => change with { Parts = [part, part] },
            "both" => change with { Parts = [part with { UpgradesTo = "15" }] },
            "neither" => change with { Parts = [part with { Statements = [] }] },
            "same query" => change with { Queries = [new("q", "1"), new("q", "2")] },
            "control" => change with { Parts = [part with { Statements = ["x", "y\u0007"] }] },
            _ => change with { Name = how },
        };
        Assert.Equal(member, change.Fault()!.Value.Member);
        Assert.Null(Move.Fault());
    }

    [Fact]
    public void Expected_is_the_median_of_what_was_measured_and_scaled_in_a_band_that_is_wider_for_few()
    {
        Assert.Null(ChangeForecast.Of([]));
        var one = ChangeForecast.Of([new([100, 20], 1.5)])!;
        Assert.Equal((180d, 108d, 198d, true), (one.Seconds, one.From, Math.Round(one.To, 9), one.Scaled));
        Assert.Equal([150, 30], one.Parts);
        var three = ChangeForecast.Of([new([100], 1), new([140], 1), new([110], 1)])!;
        Assert.Equal((110d, 100d, 140d, false, 3), (three.Seconds, three.From, three.To, three.Scaled, three.Rehearsals));
    }

    [Fact]
    public void What_broke_comes_first_and_what_others_may_have_written_counts_only_where_nobody_wrote()
    {
        var before = new ChangeLook(Now, "14", [new("a", 10), new("b", 5)], [new("fast", "1", 0.1, null), new("works", "x", 0.01, null)], 1, 2);
        var after = new ChangeLook(Now, "15", [new("a", 12), new("c", 1)], [new("fast", "2", 0.3, null), new("works", null, 0.01, "no such table")], 5);
        var quiet = LookComparison.Of(before, after, others: false);
        Assert.Equal(["table b", "query fast", "query works", "log"], quiet.Where(d => d.Broke).Select(d => d.What));
        Assert.Equal(["table a", "table c", "query fast"], quiet.Where(d => !d.Broke).Select(d => d.What));
        Assert.Equal(quiet.Where(d => d.Broke), LookComparison.Of(before, after, others: true).Where(d => d.Broke));
        Assert.Equal(["table c"], LookComparison.Of(before, after, others: true).Where(d => !d.Broke).Select(d => d.What));
        Assert.Empty(LookComparison.Of(before, before, others: false));

        // What an engine estimates is different when it is by more than a tenth.
        ChangeLook About(long rows) => before with { Tables = [new("a", rows, Estimated: true)] };
        Assert.Empty(LookComparison.Of(About(1000), About(900), others: false));
        Assert.Equal("about 1,000 rows before, about 899 after", Assert.Single(LookComparison.Of(About(1000), About(899), others: false)).Detail);
    }

    [Theory]
    [InlineData(0.007, 0.034, 0.008, false)]
    [InlineData(0.007, 0.034, 0.026, false)]
    [InlineData(0.007, 0.034, 0.028, true)]
    [InlineData(0.100, 0.300, 0.199, false)]
    [InlineData(0.100, 0.300, 0.200, true)]
    public void A_busy_moment_is_no_slower_query_one_whose_quickest_time_is_twice_as_long_is(double before, double middle, double quickest, bool slower)
    {
        ChangeLook Took(double seconds, double least) => new(Now, "15", [], [new("q", "1", seconds, null, least)], null);
        Assert.Equal(slower, LookComparison.Of(Took(before, before / 2), Took(middle, quickest), others: true).Any(d => d.Broke));
    }

    [Theory]
    [InlineData("keep", RunState.Done, "look-before out point part name part look-after let-in base watch")]
    [InlineData("leave", RunState.Done, "look-before out point let-in")]
    [InlineData("turn", RunState.Done, "look-before out point part name part look-after turn-back")]
    [InlineData("fails, leave", RunState.Done, "look-before out point part name let-in")]
    [InlineData("fails, again, keep", RunState.Done, "look-before out point part name part look-after let-in base watch")]
    [InlineData("cancelled", RunState.Cancelled, "look-before")]
    public void On_its_day_each_way_ends_with_everybody_let_in_or_all_put_back(string how, RunState state, string done)
    {
        var steps = ChangeSteps.Day(Harbour, Move, new TakeSpec("harbour", SetKind.Log, "s", default, null, "n", false, false, null), new() { Kind = Planning.TaskKind.Full, Store = new("s"), Id = "f" }, null, 600, 7200);
        var run = Run.Of(new RunPlan(steps));
        int Hold(int which) => steps.Where(s => s.IsHold).ElementAt(which).Number;
        var fails = how.StartsWith("fails", StringComparison.Ordinal);
        for (var at = Now; run.Next(at).End is null; at += Duration.FromSeconds(1))
        {
            Assert.True(at < Now + Duration.FromHours(1), "it does not end");
            var next = run.Next(at);
            foreach (var undo in next.Undo)
            {
                run = run.Undid(undo, at);
            }

            foreach (var start in next.Start)
            {
                run = run.Begin(start, at);
                if (run.Plan[start].IsHold)
                {
                    continue;
                }

                if (how == "cancelled" && run.Plan[start].Kind == "point")
                {
                    run = run.Hear([], "somebody").Stop(start, at);
                }
                else if (fails && run.Plan[start] is { Kind: "part" } p && p.Title.StartsWith("statistics", StringComparison.Ordinal))
                {
                    (run, fails) = (run.Fail(start, at, "it cannot", canRetry: false), false);
                }
                else
                {
                    run = run.Finish(start, at);
                }
            }

            foreach (var ask in next.Ask)
            {
                var p = run.Plan[ask];
                var second = run[ask].Round > 0;
                var choice = !p.IsHold ? Step.Approve
                    : ask == Hold(0) ? how == "leave" || (how == "fails, leave" && second) ? ChangeSteps.LeaveIt : ChangeSteps.CarryOut
                    : how == "turn" ? ChangeSteps.TurnBack : ChangeSteps.Keep;
                run = run.Hear([new Decision(ask, run[ask].Round, choice, "somebody", at, null)], null);
            }
        }

        Assert.Equal(state, run.State(Instant.MaxValue));
        Assert.Equal(done.Split(' '), steps.Where(s => !s.IsHold && run[s.Number].State == StepState.Done).Select(s => s.Kind));
    }
}
