using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>A move by dump and load, rehearsed and carried out: in which order, what can be taken back until when, and what is read off it.</summary>
public class MoveByDumpTests
{
    private static readonly Instant Begin = Instant.FromUtc(2026, 3, 2, 6, 0);

    private static MoveByDump.Order Order(bool settings)
    {
        var f = PlanWorlds.Harbour();
        var (d, host) = (f.Databases[0], f.Hosts[new("spare")]);
        return new(d, f.Engines[new("rows")], host, "x", Take(d, SetKind.Export), 100, 10, settings ? [new(host.Id, "loading", "on", "off")] : []);
    }

    private static TakeSpec Take(Database d, SetKind kind) => new(d.Id.Value, kind, "store", default, null, "", true, false, null);

    private static Run Plan(bool settings) => Run.Of(new RunPlan(MoveByDump.Rehearsed(Order(settings))));

    /// <summary>Carries a run out until a step, which is not begun, or to its end.</summary>
    private static Run Until(Run run, string? kind, string choice, ref Instant at)
    {
        while (true)
        {
            if (run.Next(at).Ask is [var hold])
            {
                run = run.Hear([new Decision(hold, run[hold].Round, choice, "ada", at)], null);
            }
            else if (run.Next(at).Start is [var next, ..] && run.Plan[next].Kind != kind)
            {
                run = run.Begin(next, at);
                if (!run.Plan[next].IsHold)
                {
                    at += Duration.FromSeconds(10);
                    run = run.Finish(next, at);
                }
            }
            else
            {
                return run;
            }
        }
    }

    [Fact]
    public void It_is_dumped_loaded_checked_and_thrown_away_with_its_dump_and_what_each_took_is_what_was_measured()
    {
        var run = Plan(settings: true);
        Assert.Equal(["set", "dump", "provision", "load", "set-back", "open", "check", "discard", "clear"], run.Plan.Steps.Select(s => s.Kind));
        Assert.Equal(["set", "provision"], run.Plan.Steps.Where(s => s.Undo == Undo.Own).Select(s => s.Kind));
        Assert.Equal(Enumerable.Range(0, 9), run.Plan.Steps.Select(s => s.After.SingleOrDefault()));
        Assert.Equal(["dump", "provision", "load", "open", "check", "discard", "clear"], Plan(settings: false).Plan.Steps.Select(s => s.Kind));
        Assert.Empty(Plan(settings: false).Plan[1].After);

        // A set's fixed second, 100 GB written at 400 MB a second and indexed at 50.
        Assert.Equal(1 + 250 + 2000, run.Plan.Steps.Single(s => s.Kind == MoveByDump.Load).ExpectedSeconds!.Value, 6);

        var at = Begin;
        while (run.Next(at).Start is [var next, ..])
        {
            Assert.Null(MoveByDump.MeasuredBy(run, 40));
            if (run.Plan[next].Kind == "discard")
            {
                break;
            }

            run = run.Begin(next, at);
            at += Duration.FromSeconds(10);
            run = run.Finish(next, at, measured: run.Plan[next].Kind switch
            {
                "dump" => RestoreAside.Write(new(7, 4_000)),
                "load" => RestoreAside.Write(new(30, 4_000)),
                "check" => RestoreAside.Write(new(0, 0, Checks: [new("a", true, ""), new("b", false, "a row is missing")])),
                _ => null,
            });
            if (run.Plan[next].Kind == "check")
            {
                break;
            }
        }

        var m = MoveByDump.MeasuredBy(run, 40)!;
        Assert.Equal((7, 30, 20, 4_000, 2, 97), (m.DumpSeconds, m.LoadSeconds, m.CheckSeconds, m.DumpBytes, m.Checks, m.DowntimeSeconds));
        Assert.Equal(["b: a row is missing"], m.Failed);
    }

    [Fact]
    public void Carried_out_everybody_is_kept_out_from_the_switch_on_and_let_in_where_it_was_if_it_fails_before_it_lives_there()
    {
        var order = Order(settings: true);
        var run = Run.Of(new RunPlan(MoveByDump.CarriedOut(order, Take(order.Database, SetKind.Log), null, 97)));
        Assert.Equal(["try", "set", "provision", "hold", "out", "save", "dump", "load", "open", "check", "place", "name", "set-back", "clear", "discard", "set-back"], run.Plan.Steps.Select(s => s.Kind));
        Assert.Contains($"about {PlainDuration.Of(97)} as rehearsed", run.Plan.Steps.Single(s => s.IsHold).Title, StringComparison.Ordinal);

        // Nobody is kept out before somebody has said so.
        var at = Begin;
        var held = Until(run, "out", MoveByRounds.Switch, ref at);
        Assert.Null(MoveByRounds.DowntimeOf(held));
        var began = at;
        var placed = Until(held, "name", "", ref at);
        Assert.Equal((at - began).TotalSeconds, MoveByRounds.DowntimeOf(placed));

        // Until then all is taken back, in the order opposite to how it was done; from then on nothing is.
        var checking = Until(held, "check", "", ref at);
        var check = checking.Plan.Steps.Single(s => s.Kind == "check").Number;
        var failed = checking.Begin(check, at).Fail(check, at, "a row is missing", canRetry: false);
        var undone = new List<string>();
        while (failed.Next(at).Undo is [var back, ..])
        {
            undone.Add(failed.Plan[back].Kind);
            failed = failed.Undid(back, at);
        }

        Assert.Equal(["out", "provision", "set"], undone);
        Assert.True(placed.Plan.Steps.Single(s => s.Kind == MoveByRounds.Place).NoWayBack);

        // Thrown away at the hold it is where it was, and nobody was kept out.
        var thrown = Until(run, null, RestoreAside.ThrowAway, ref at);
        Assert.Equal(["try", "set", "provision", "hold", "discard", "set-back"], thrown.Plan.Steps.Where(s => thrown[s.Number].State == StepState.Done).Select(s => s.Kind));
    }
}
