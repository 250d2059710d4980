using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Timetable;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>Designed figures of a fleet: how far they are, for which losses, and of which plans.</summary>
public class DesignedStateTests
{
    private static readonly Id<Database>[] Planned = [new("d0"), new("d1")];

    [Fact]
    public async Task What_is_being_made_is_counted_of_those_with_a_plan_until_all_is_there()
    {
        await using var s = await ActingServer.StartAsync(ActingServer.TheFleet(3), []);
        Assert.Null(s.Designed.Making);
        await s.PlanAsync(new("a"), Planned);
        Assert.Equal((0, 2), (s.Designed.Making!.Made, s.Designed.Making.Of));
        Assert.Null(s.Designed.KnownOf(new("d0"), Loss.None));
        s.Designed.KnownOrBegin(s.Clock.GetCurrentInstant());
        await Eventually.Async(() => Task.FromResult(s.Designed.Known is not null));
        Assert.Null(s.Designed.Making);
        Assert.Equal(Planned, s.Designed.Known!.ByDatabase.Keys.OrderBy(d => d.Value));
        Assert.All(Planned, d => Assert.NotNull(s.Designed.KnownOf(d, Loss.None)));
        Assert.Null(s.Designed.KnownOf(new("d2"), Loss.None));
    }

    [Fact]
    public async Task A_loss_that_no_objective_names_has_the_figures_it_would_have_by_itself_and_changed_plans_none_at_first()
    {
        await using var s = await ActingServer.StartAsync(ActingServer.TheFleet(3), []);
        await s.PlanAsync(new("a"), Planned);
        var answer = await s.Designed.GetAsync(s.Clock.GetCurrentInstant(), default);
        foreach (var kind in Enum.GetValues<LossKind>())
        {
            var known = s.Designed.KnownOf(Planned[0], Loss.OfKind(kind))!;
            var alone = Designer.FiguresOf(answer.Subjects[Planned[0]], Loss.OfKind(kind), answer.From, answer.To, []);
            Assert.Equal((alone.Loss, alone.Window, alone.LongestRestore?.Seconds, alone.NoPath), (known.Loss, known.Window, known.LongestRestore?.Seconds, known.NoPath));
        }

        await s.Fleet.LoadPlansAsync(default);
        Assert.Null(s.Designed.Known);
        Assert.Null(s.Designed.KnownOf(Planned[0], Loss.None));
        Assert.Equal(0, s.Designed.Making!.Made);
    }
}
