using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>A database put back in place: what is done in which order, what may be taken back until when, and how it goes on where a copy fails.</summary>
public class RestoreInPlaceTests
{
    private static readonly FleetModel Fleet = Harbour().WithPlans([Usual()]);
    private static readonly Database D = Fleet.Databases[0];

    private static (RestorePath Path, IReadOnlyList<Step> Steps, Instant Now) Asked()
    {
        var answer = Designer.Design(new DesignQuestion { Fleet = Fleet, Series = Series.Of(Fleet), Databases = Fleet.Databases, From = Monday });
        var (subject, now) = (answer.Subjects[D.Id], answer.To);
        var path = PathFinder.Find(subject, new PathQuestion { Target = now - Duration.FromHours(3), At = now, Choice = new(D.Host) }).Best!;
        return (path, RestoreInPlace.Steps(D, path, "back", RestoreInPlace.Saves(Fleet, D)!, Promoting.FirstBaseOf(Fleet, D), now), now);
    }

    [Fact]
    public void A_second_person_agrees_all_are_kept_out_what_is_there_is_saved_and_only_then_restored_and_put_in_place()
    {
        var (path, steps, _) = Asked();
        Assert.Equal("host", path.Host.Value);
        Assert.Equal(["out", "save", "provision"], steps.Take(3).Select(s => s.Kind));
        Assert.Equal(["open", "check", "hold", "place", "name", "discard", "let-in", "base"], steps.SkipWhile(s => s.Kind != "open").Select(s => s.Kind));
        Step One(string kind) => Assert.Single(steps, s => s.Kind == kind);
        Assert.True(One("out").NeedsApproval);
        Assert.Contains("3 h", One("out").Title, StringComparison.Ordinal);
        Assert.Equal([One("out").Number], One("save").After);
        Assert.Equal([One("save").Number], One("provision").After);

        // What cannot be taken back is the one step after which it is the database.
        Assert.Equal([One("place")], steps.Where(s => s.NoWayBack));
        Assert.Equal([Undo.Own, Undo.Own], [One("out").Undo, One("provision").Undo]);
        Assert.All(["place", "name", "base"], k => Assert.Equal(RestoreInPlace.Place, One(k).Only!.Choice));
        Assert.All(["discard", "let-in"], k => Assert.Equal(RestoreAside.ThrowAway, One(k).Only!.Choice));
        Assert.Equal(SetKind.Full, RunJson.Read<TakeSpec>(One("base").Work).Kind);
    }

    [Fact]
    public void What_is_saved_is_the_log_or_a_full_that_stands_aside_where_none_is_backed_up()
    {
        Assert.Equal((SetKind.Log, false), (RestoreInPlace.Saves(Fleet, D)!.Kind, RestoreInPlace.Saves(Fleet, D)!.OutsideChain));
        var without = Harbour().WithPlans([PlanWorlds.Plan(PlanWorlds.Task(TaskKind.Full, "daily 01:00"))]);
        Assert.Equal((SetKind.Full, true), (RestoreInPlace.Saves(without, without.Databases[0])!.Kind, RestoreInPlace.Saves(without, without.Databases[0])!.OutsideChain));
        Assert.Null(RestoreInPlace.Saves(Harbour(), Harbour().Databases[0]));
    }

    [Fact]
    public void Where_a_copy_fails_it_goes_on_from_another_and_is_held_and_put_in_place_as_before()
    {
        var (path, steps, now) = Asked();
        var run = Run.Of(new RunPlan(steps));
        var reading = steps.First(s => s.Kind == "restore");
        foreach (var s in steps.TakeWhile(s => s.Number < reading.Number))
        {
            run = s.NeedsApproval ? run.Ask(now).Hear([new Decision(s.Number, run[s.Number].Round, Step.Approve, "ada", now)], null) : run;
            run = run.Begin(s.Number, now).Finish(s.Number, now);
        }

        run = run.Begin(reading.Number, now).Fail(reading.Number, now, "damaged", canRetry: false);
        var piece = RestoreAside.PiecesOf(reading)[0];
        var amended = run.Amend(RestoreAside.GoOn(D, run, path, new SetCopy(new(piece.Set), new(piece.Store))));
        var tail = amended.Plan.Steps.Where(s => s.Number > steps.Max(x => x.Number)).ToArray();
        Assert.Equal(["open", "check", "hold", "place", "name", "discard", "let-in", "base"], tail.SkipWhile(s => s.Kind != "open").Select(s => s.Kind));
        int N(string kind) => tail.Single(s => s.Kind == kind).Number;
        Assert.All(["place", "name", "base"], k => Assert.Equal(new Step.Guard(N("hold"), RestoreInPlace.Place), tail.Single(s => s.Kind == k).Only));
        foreach (var (kind, after) in new[] { ("hold", "check"), ("place", "hold"), ("base", "name"), ("let-in", "discard") })
        {
            Assert.Equal([N(after)], tail.Single(s => s.Kind == kind).After);
        }
    }
}
