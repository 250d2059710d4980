using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>All ways of a database side by side, copies that end among them: opened where their sets lie, they move log alone.</summary>
public class WaysComparedTests
{
    private static readonly WaysCompared.Abilities All = new(false, null, null, null, null, null), None = new(false, "no", "no", "no", "no", "no");

    private static (RecoverySubject Subject, Instant Now) Harboured(bool mounts)
    {
        var fleet = Changed(Harbour(), e => e with { MountsSets = mounts }, h => h).WithPlans([Usual()]);
        var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday });
        return (answer.Subjects[fleet.Databases[0].Id], answer.To);
    }

    private static FleetModel Changed(FleetModel f, Func<EngineProfile, EngineProfile> engine, Func<Host, Host> host) => new(
        f.SiteList, f.Links, f.ArrayList, [.. f.HostList.Select(host)], f.StoreList, [.. f.EngineList.Select(engine)], f.ObjectiveList, f.ServiceList, f.Databases);

    [Fact]
    public void Opened_where_they_lie_sets_cost_their_fixed_seconds_log_is_moved_and_no_room_is_needed()
    {
        var (subject, now) = Harboured(mounts: true);
        var question = new PathQuestion { Target = now - Duration.FromMinutes(20), At = now };
        var (whole, there) = (PathFinder.Find(subject, question).Best!, PathFinder.Find(subject, question with { Mounted = true }).Best!);
        var engine = subject.Fleet.Engines[subject.Database.Engine];
        Assert.Equal(whole.Reaches, there.Reaches);
        Assert.All(there.Steps.Where(s => s.Kind != SetKind.Log), s => Assert.Equal(engine.PerSetSeconds, s.Seconds));
        Assert.True(there.Seconds < whole.Seconds);

        // A host that is full takes no restore, and can be looked from all the same.
        var tight = subject with { Fleet = Changed(subject.Fleet, e => e, h => h with { FreeBytes = 1 }) };
        Assert.Null(PathFinder.Find(tight, question).Best);
        Assert.Equal(there.Reaches, PathFinder.Find(tight, question with { Mounted = true }).Best!.Reaches);

        // Where the family opens none, asking for it changes nothing.
        var (plain, at) = Harboured(mounts: false);
        Assert.Equal(
            PathFinder.Find(plain, question with { At = at, Target = at }).Best!.Seconds,
            PathFinder.Find(plain, question with { At = at, Target = at, Mounted = true }).Best!.Seconds);
    }

    [Fact]
    public void What_is_out_of_reach_of_credentials_or_an_export_is_not_opened_where_it_lies() => Worlds.Gen.Sample(world =>
    {
        var fleet = Changed(world.Fleet, e => e with { MountsSets = true }, h => h with { FreeBytes = null });
        var subject = RecoverySubject.Of(fleet, world.Database, new DatabaseCatalogue(world.Database.Id, world.Sets));
        var question = new PathQuestion { Target = world.At, At = world.At, Loss = world.Loss };
        var whole = PathFinder.Find(subject, question).Best;
        if (PathFinder.Find(subject, question with { Mounted = true }).Best is { } path)
        {
            Assert.All(path.Steps.Where(s => s.Kind != SetKind.Log), s => Assert.True(s.Kind != SetKind.Export && !fleet.Stores[s.Store].Offline && s.Seconds == fleet.Engines[world.Database.Engine].PerSetSeconds));

            // It never reaches later than when everything may be moved.
            Assert.True(whole!.Reaches >= path.Reaches);
        }
    });

    [Fact]
    public void Each_way_says_what_it_moves_takes_and_leaves_and_those_that_give_service_come_first()
    {
        var (subject, now) = Harboured(mounts: true);
        var question = new PathQuestion { Target = now - Duration.FromMinutes(20), At = now };
        var ways = WaysCompared.Of(subject, question, Loss.None, All);
        var by = ways.ToDictionary(w => w.Way);
        Assert.Equal(["aside", "clone", "inPlace", "openForLog", "underAnotherName", "view"], by.Keys.Order(StringComparer.Ordinal));
        Assert.Equal(ways.Select(w => w.GivesService), ways.Select(w => w.GivesService).OrderDescending());
        Assert.All(ways, w => Assert.True(w.WhyNot is null && w.Why.Length > 0 && w.Afterwards.Length > 0 && w.Keeps.Count > 0));
        var path = PathFinder.Find(subject, question).Best!;
        var sets = subject.Catalogue.Sets.ToDictionary(s => s.Id);
        Assert.Equal(path.Steps.Sum(s => sets[s.Set].Copies.Single(c => c.Store == s.Store).StoredBytes), by["aside"].MovedBytes);
        Assert.Equal((subject.Database.SizeBytes, path.ServiceSeconds, path.Seconds), (by["aside"].RoomBytes, by["aside"].ServiceSeconds, by["aside"].UsableSeconds));
        Assert.Equal(PathFinder.Find(subject, question with { Mounted = true }).Best!.Steps.Where(s => s.Kind == SetKind.Log).Sum(s => sets[s.Set].Copies.Single(c => c.Store == s.Store).StoredBytes), by["view"].MovedBytes);
        Assert.Equal((0L, null), (by["view"].RoomBytes, by["view"].ServiceSeconds));

        var none = WaysCompared.Of(subject, question, Loss.None, None);
        Assert.Equal(["no", "no", "no", "no", "no"], none.Where(w => w.Way != "aside").Select(w => w.WhyNot));
        Assert.Equal("aside", none[0].Way);
    }

    [Fact]
    public void A_view_and_a_clone_are_checked_before_anybody_is_let_in_and_a_clone_masked_between()
    {
        var (subject, now) = Harboured(mounts: true);
        var path = PathFinder.Find(subject, new PathQuestion { Target = now, At = now }).Best!;
        var view = TemporaryCopy.View(subject.Database, path, "v", [], now + Duration.FromDays(1), mounted: true);
        var clone = TemporaryCopy.Clone(subject.Database, path, "c", ["near"], ["hide"], now + Duration.FromDays(1));
        Assert.All(view.Where(s => s.Kind == "restore"), s => Assert.Contains("where it lies", s.Title, StringComparison.Ordinal));
        Assert.Equal(["open", "check", "let-in"], view.TakeLast(3).Select(s => s.Kind));
        Assert.Equal(["open", "check", "mask", "let-in"], clone.TakeLast(4).Select(s => s.Kind));
        Assert.Equal("let-in", TemporaryCopy.Clone(subject.Database, path, "c", ["near"], [], now + Duration.FromDays(1))[^1].Kind);
        Assert.All(clone.Skip(1).Zip(clone), p => Assert.Equal([p.Second.Number], p.First.After));

        // Whatever fails, the instance is taken back as a whole.
        var run = Run.Of(new RunPlan(clone));
        Assert.Equal(Undo.Own, run.Plan.Steps[0].Undo);
        Assert.All(run.Plan.Steps.Skip(1), s => Assert.NotEqual(Undo.Own, s.Undo));
        Assert.DoesNotContain(run.Plan.Steps, s => s.NoWayBack || s.IsHold);
    }
}
