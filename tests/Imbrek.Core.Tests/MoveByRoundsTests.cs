using Imbrek.Core.Drivers;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>A move as steps: nobody is kept out before people say so and a round that is open has gone before; called off, it is where it was.</summary>
public class MoveByRoundsTests
{
    private static readonly Instant Begin = Instant.FromUtc(2026, 3, 2, 6, 0);
    private static readonly MoveQuestion Figures = new(100e9, 1e6, 60e6, 20, 300, 10, 30);

    private static RunPlan Plan()
    {
        var fleet = PlanWorlds.Harbour(1);
        var d = fleet.Databases[0];
        var path = new RestorePath(d.Host, Begin, 0, 10, 10, 5, 5, [new PathStep(new("base"), Core.Catalogue.SetKind.Full, new("store"), 100, null, null)], new());
        return new RunPlan(MoveByRounds.Steps(d, path, "moved", new TakeSpec(d.Id.Value, Core.Catalogue.SetKind.Log, "store", default, null, "", false, false, null), MoveForecast.Of(Figures), 15, null, []));
    }

    private static Run Until(Run run, string kind, ref Instant at, long bytes = 1_000)
    {
        while (run.Next(at).Start is [var next, ..] && run.Plan[next].Kind != kind)
        {
            run = run.Begin(next, at);
            if (run.Plan[next].IsHold)
            {
                return run;
            }

            at += Duration.FromSeconds(10);
            run = run.Finish(next, at, measured: RestoreAside.Write(new RestoreAside.Measured(5, bytes)));
        }

        return run;
    }

    [Fact]
    public void Nobody_is_kept_out_before_people_say_so_and_one_more_round_has_followed()
    {
        var at = Begin;
        var run = Until(Run.Of(Plan()), MoveByRounds.Out, ref at);
        var hold = run.Next(at).Ask.Single();
        Assert.Equal([MoveByRounds.Switch, RestoreAside.ThrowAway], run.Plan[hold].Choices);
        Assert.All(run.Plan.Steps.Where(s => s.Number < hold), s => Assert.Equal(StepState.Done, run[s.Number].State));
        var forecast = MoveForecast.Of(Figures);
        Assert.Equal(forecast.Rounds.Count, MoveByRounds.MeasuredBy(run).Open.Count);
        Assert.Null(MoveByRounds.MeasuredBy(run).DowntimeSeconds);

        run = run.Hear([new Decision(hold, 0, MoveByRounds.Switch, "ada", at)], null);
        run = Until(run, MoveByRounds.Out, ref at);
        Assert.Equal([LogRounds.Round, LogRounds.Save], run.Plan.Steps.Where(s => s.Number > hold && run[s.Number].State == StepState.Done).Select(s => s.Kind).Reverse());
        Assert.True(run.CanTurnBack);
        Assert.All(run.Plan.Steps.Where(s => s.Number > hold), s => Assert.InRange(s.TimeLimitSeconds!.Value, 1, 3_600));

        run = Until(run, "name", ref at);
        var (open, last, downtime) = MoveByRounds.MeasuredBy(run);
        Assert.Equal((forecast.Rounds.Count + 1, 1_000.0, 20.0), (open.Count, last!.Data, last.Seconds));
        Assert.Equal(60, downtime);
        Assert.False(run.CanTurnBack);
    }

    [Fact]
    public void Of_one_that_discards_its_log_that_is_kept_a_full_is_taken_then_and_what_follows_begins_with_it()
    {
        var fleet = PlanWorlds.Harbour(1);
        var d = fleet.Databases[0] with { LogMode = Fleet.LogMode.Discarded };
        var kept = new LogKept(new TakeSpec(d.Id.Value, Core.Catalogue.SetKind.Full, fleet.Stores.Keys.First().Value, default, null, "", true, false, null), 60);
        var before = RecoverySubject.Of(fleet, d, new Core.Catalogue.DatabaseCatalogue(d.Id, []));
        var path = PathFinder.Unopened(kept.After(before, 1e9, Begin), Begin, fleet.Hosts[d.Host])!;
        Assert.Null(PathFinder.Unopened(before, Begin, fleet.Hosts[d.Host]));
        var plan = new RunPlan(MoveByRounds.Steps(d, path, "moved", kept.Take with { Kind = Core.Catalogue.SetKind.Log }, MoveForecast.Of(Figures), 15, null, LogKept.NeedsOf(d), kept));
        Assert.Equal([NeededSetting.Set, LogRounds.Save, "provision", "restore"], plan.Steps.Take(4).Select(s => s.Kind));
        Assert.Equal($"on {d.Host} log of {d.Id} is discarded, and must be kept", Assert.Single(NeededSetting.ChangedBy(plan.Steps)).Said);
        Assert.Equal([4], plan.Steps.Where(LogKept.Restores).Select(s => s.Number));
        Assert.Equal("taken", Assert.Single(RestoreAside.PiecesOf(LogKept.With(plan[4], new("taken")))).Set);

        // Thrown away or switched over, it is discarded again; where it fails that is taken back.
        Assert.Equal([MoveByRounds.Switch, RestoreAside.ThrowAway], plan.Steps.Where(s => s.Kind == NeededSetting.SetBack).Select(s => s.Only!.Choice));
        Assert.Equal(Undo.Own, plan[1].Undo);
        Assert.Empty(LogKept.NeedsOf(fleet.Databases[0]));
        Assert.Null(LogKept.FullOf(fleet, fleet.Databases[0]));
    }

    [Fact]
    public void Called_off_while_nobody_may_write_everybody_is_let_in_before_what_was_brought_up_goes()
    {
        var at = Begin;
        var run = Until(Run.Of(Plan()), MoveByRounds.Out, ref at);
        run = Until(run.Hear([new Decision(run.Next(at).Ask.Single(), 0, MoveByRounds.Switch, "ada", at)], null), MoveByRounds.Place, ref at).Hear([], "ada");
        var undone = new List<string>();
        while (run.Next(at).Undo is [var next, ..])
        {
            undone.Add(run.Plan[next].Kind);
            run = run.Undid(next, at);
        }

        Assert.Equal([MoveByRounds.Out, "provision"], undone);
        Assert.Equal(RunState.Cancelled, run.Next(at).End!.State);
    }

    [Fact]
    public void Refused_at_the_last_step_people_are_asked_again_and_may_still_throw_it_away()
    {
        var at = Begin;
        var run = Until(Run.Of(Plan()), MoveByRounds.Out, ref at);
        var hold = run.Next(at).Ask.Single();
        run = Until(run.Hear([new Decision(hold, 0, MoveByRounds.Switch, "ada", at)], null), MoveByRounds.Place, ref at);
        var place = run.Next(at).Start.Single();
        run = run.Begin(place, at).Fail(place, at, "somebody writes", canRetry: false);
        Assert.Equal(hold, run.Next(at).Ask.Single());
        run = Until(run.Hear([new Decision(hold, 1, RestoreAside.ThrowAway, "ada", at)], null), "", ref at);
        Assert.Equal(StepState.Done, run[run.Plan.Steps.Single(s => s.Kind == "discard").Number].State);
        Assert.Equal(RunState.Done, run.Next(at).End!.State);
    }

    [Fact]
    public void The_next_round_is_forecast_from_what_the_last_one_took()
    {
        Assert.Equal(MoveForecast.Of(Figures).Last, MoveForecast.Following(Figures, MoveForecast.Of(Figures).Rounds[^1].Seconds));
        Assert.True(MoveForecast.Following(Figures, 100).Seconds < MoveForecast.Following(Figures, 1_000).Seconds);
    }
}
