using CsCheck;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>A second database of one: names that clash are mapped before anything is done, and until it is kept nothing of it need stay.</summary>
public class SecondDatabaseTests
{
    private static readonly Instant Begin = Instant.FromUtc(2026, 3, 2, 6, 0);
    private static readonly RestorePath Way = new(new("host"), Begin, 0, 10, 10, 5, 5, [new PathStep(new("base"), Core.Catalogue.SetKind.Full, new("store"), 900, null, null)], new());
    private static readonly MoveQuestion Figures = SecondDatabase.FiguresOf(new(100e9, 1e6, 60e6, 20, 300, 10, 30), Way);

    private static Run Plan(bool follows, bool keeps = false)
    {
        var d = PlanWorlds.Harbour(1).Databases[0];
        var path = Way with { Host = d.Host };
        var log = new TakeSpec(d.Id.Value, Core.Catalogue.SetKind.Log, "store", default, null, "", false, false, null);
        MappedName[] names = [new(NameKind.File, "a", "b"), new(NameKind.Account, "x", "x")];
        return Run.Of(new RunPlan(SecondDatabase.Steps(d, d with { Id = new("second") }, path, "made", names, follows ? new(log, MoveForecast.Of(Figures), 15, keeps ? LogKept.NeedsOf(d with { LogMode = LogMode.Discarded }) : [], keeps ? new(log with { Kind = Core.Catalogue.SetKind.Full }, 60) : null) : null, "nightly", null)));
    }

    private static Run Until(Run run, Instant at, string kind)
    {
        while (run.Next(at).Start is [var next, ..] && run.Plan[next].Kind != kind)
        {
            run = run.Begin(next, at);
            if (!run.Plan[next].IsHold)
            {
                run = run.Finish(next, at, measured: RestoreAside.Write(new RestoreAside.Measured(5, 1_000)));
            }
        }

        return run;
    }

    private static Run Held(bool follows, string choice)
    {
        var run = Until(Plan(follows), Begin, "");
        return run.Hear([new Decision(run.Next(Begin).Ask.Single(), 0, choice, "ada", Begin)], null);
    }

    [Fact]
    public void A_copy_elsewhere_follows_in_rounds_until_it_has_caught_up_and_is_only_then_opened()
    {
        var run = Until(Plan(follows: true), Begin, "open");
        var forecast = MoveForecast.Of(Figures);
        Assert.Equal(forecast.Rounds.Count + 1, LogRounds.MeasuredBy(run).Count);
        Assert.Equal(new MoveForecast.Round(100e9, 905), forecast.Rounds[0]);
        Assert.True(forecast.Last.Seconds <= SecondDatabase.CaughtUpSeconds);
        Assert.Equal(SecondDatabase.Try, run.Plan[1].Kind);
        Assert.Contains("1 of them others than before", run.Plan[1].Title, StringComparison.Ordinal);

        // One that never catches up is not followed for ever.
        Assert.InRange(MoveForecast.Of(Figures with { Change = 59e6 }).Rounds.Count, 1, LogRounds.Most);
    }

    [Fact]
    public void Log_that_is_discarded_is_kept_from_before_its_full_until_it_has_caught_up()
    {
        var steps = Plan(follows: true, keeps: true).Plan.Steps;
        Assert.Equal([SecondDatabase.Try, NeededSetting.Set, LogRounds.Save, "provision"], steps.Take(4).Select(s => s.Kind));
        Assert.Equal([NeededSetting.SetBack, "open"], steps.Skip(steps.Last(x => x.Kind == LogRounds.Round).Number).Take(2).Select(x => x.Kind));
        Assert.All(steps.Skip(1), s => Assert.True(s.Only is not null || s.After.SequenceEqual([s.Number - 1]), s.Title));

        // Where it fails on the way, it is set back by what takes the first step back.
        var run = Until(Plan(follows: true, keeps: true), Begin, "provision").Hear([], "ada");
        Assert.Equal([2], run.Next(Begin).Undo);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Released_it_is_made_named_and_kept_thrown_away_nothing_of_it_is_made(bool follows)
    {
        var released = Until(Held(follows, RestoreAside.Release), Begin, "");
        Assert.Equal(RunState.Done, released.Next(Begin).End!.State);
        Assert.Equal([SecondDatabase.Make, SecondDatabase.Name, SecondDatabase.Keep], released.Plan.Steps.Where(s => s.Only is not null && released[s.Number].State == StepState.Done).Select(s => s.Kind));

        var thrown = Until(Held(follows, RestoreAside.ThrowAway), Begin, "");
        Assert.Equal(["discard"], thrown.Plan.Steps.Where(s => s.Only is not null && thrown[s.Number].State == StepState.Done).Select(s => s.Kind));
    }

    [Fact]
    public void Until_it_is_kept_it_is_taken_back_whole_and_where_it_cannot_be_made_people_are_asked_again()
    {
        var run = Until(Held(false, RestoreAside.Release), Begin, SecondDatabase.Keep);
        var name = run.Plan.Steps.Single(s => s.Kind == SecondDatabase.Name).Number;
        Assert.True(run.CanTurnBack);
        run = run.Hear([], "ada");
        var undone = new List<string>();
        while (run.Next(Begin).Undo is [var next, ..])
        {
            undone.Add(run.Plan[next].Kind);
            run = run.Undid(next, Begin);
        }

        Assert.Equal([SecondDatabase.Name, "provision"], undone);

        run = Until(Held(false, RestoreAside.Release), Begin, SecondDatabase.Make);
        run = run.Begin(name - 1, Begin).Fail(name - 1, Begin, "a name is taken meanwhile", canRetry: false);
        Assert.True(run.Plan[run.Next(Begin).Ask.Single()].IsHold);
        Assert.False(Until(Held(false, RestoreAside.Release), Begin, "base").CanTurnBack);
    }

    private static readonly Gen<string> AName = Gen.Char["abAB-"].Array[1, 4].Select(c => new string(c));
    private static readonly Gen<NameKind> AKind = Gen.Bool.Select(b => b ? NameKind.File : NameKind.Account);

    [Fact]
    public void All_names_get_one_that_nobody_has_and_those_that_nobody_has_stay() => Gen.Select(
        Gen.Select(AKind, AName, (k, n) => new HeldName(k, n)).Array[0, 8],
        Gen.Select(AKind, AName, (k, n) => new TakenName(k, n, "somebody")).Array[0, 12],
        AName,
        AName).Sample((held, taken, source, made) =>
        {
            held = [.. held.DistinctBy(h => (h.Kind, h.Name.ToUpperInvariant()))];
            var (rows, fault) = NameMapping.Of(new(held, taken), source, made, []);
            Assert.Null(fault);
            Assert.Equal(held, rows.Select(r => new HeldName(r.Kind, r.From)));
            Assert.Equal(rows.Count, rows.Select(r => (r.Kind, r.To.ToUpperInvariant())).Distinct().Count());
            bool Taken(NameKind kind, string name) => taken.Any(t => t.Kind == kind && string.Equals(t.Name, name, StringComparison.OrdinalIgnoreCase));
            Assert.All(rows, r => Assert.False(Taken(r.Kind, r.To)));
            Assert.All(rows, r => Assert.Equal(Taken(r.Kind, r.From), r.TakenBy is not null));
            Assert.All(rows, r => Assert.Equal(r.TakenBy is null, r.To == r.From));

            // What was proposed is accepted when it is asked for, and comes to the same.
            var (again, none) = NameMapping.Of(new(held, taken), source, made, [.. rows.Select(r => new MappedName(r.Kind, r.From, r.To))]);
            Assert.Null(none);
            Assert.Equal(rows, again);
        });

    [Fact]
    public void What_is_wanted_is_held_against_what_is_taken_and_against_itself()
    {
        var names = new NamesAt([new(NameKind.File, "tickets.pages"), new(NameKind.File, "tickets.log"), new(NameKind.Account, "clients")], [new(NameKind.File, "Fares.Pages", "fares"), new(NameKind.Account, "clients", "fares")]);
        NameMapping.Fault? Fault(params MappedName[] wanted) => NameMapping.Of(names, "tickets", "tickets-2", wanted).Fault;
        Assert.Equal((0, "to"), (Fault(new MappedName(NameKind.File, "tickets.pages", "FARES.pages"))!.Index, Fault(new MappedName(NameKind.File, "tickets.pages", "FARES.pages"))!.Member));
        Assert.Equal("from", Fault(new MappedName(NameKind.Account, "tickets.pages", "x"))!.Member);
        Assert.Equal((1, "to"), (Fault(new(NameKind.File, "tickets.pages", "x"), new(NameKind.File, "tickets.log", "X"))!.Index, Fault(new(NameKind.File, "tickets.pages", "x"), new(NameKind.File, "tickets.log", "X"))!.Member));
        Assert.Equal((1, "from"), (Fault(new(NameKind.File, "tickets.log", "x"), new(NameKind.File, "tickets.log", "y"))!.Index, Fault(new(NameKind.File, "tickets.log", "x"), new(NameKind.File, "tickets.log", "y"))!.Member));
        Assert.All(["", " ", " x", "x\n", new string('x', 201)], bad => Assert.Equal("to", Fault(new MappedName(NameKind.Account, "clients", bad))?.Member));

        // An account of that name is no file; a name given to another is not kept by its own.
        Assert.Equal(
            ["clients", "tickets.log", "clients-tickets-2"],
            NameMapping.Of(names, "tickets", "tickets-2", [new(NameKind.File, "tickets.pages", "clients")]).Rows.Select(r => r.To));
        Assert.Equal(
            ["tickets.log", "tickets-2.log", "clients-tickets-2"],
            NameMapping.Of(names, "tickets", "tickets-2", [new(NameKind.File, "tickets.pages", "tickets.log")]).Rows.Select(r => r.To));
    }
}
