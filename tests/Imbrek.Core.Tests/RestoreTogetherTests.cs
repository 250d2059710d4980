using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Several databases to one instant: as many at once as there is room, held together, released or thrown away together.</summary>
public class RestoreTogetherTests
{
    private static readonly Instant To = Instant.FromUtc(2026, 3, 2, 12, 0);

    [Fact]
    public void All_are_held_before_anybody_is_asked_and_one_decision_is_for_all()
    {
        RestoreTogether.Member[] members = [new(new("a"), new("h"), 100), new(new("b"), new("h"), 50), new(new("c"), new("other"), 70), new(new("d"), new("h"), 10)];
        var plan = RestoreTogether.Of(members, To, h => h.Value == "h" ? 2 : 1);
        Assert.Equal(["restore", "restore", "restore", "restore", "hold", "release", "discard"], plan.Steps.Select(s => s.Kind));
        Assert.Equal([1, 2, 3, 4], plan[5].After);

        // The third on a host of two slots waits for the first, which goes first.
        Assert.Equal((0d, 0d, 0d, 100d), (Start(1), Start(2), Start(3), Start(4)));
        Assert.All(plan.Steps.Where(s => s.Kind == "restore"), s => Assert.Equal(Undo.Own, s.Undo));
        Assert.Equal((RestoreAside.Release, RestoreAside.ThrowAway), (plan[6].Only!.Choice, plan[7].Only!.Choice));
        Assert.Equal([6], plan.Steps.Where(s => s.NoWayBack).Select(s => s.Number));
        Assert.Throws<ArgumentException>(() => RestoreTogether.Of([], To, _ => 1));
        Assert.Throws<ArgumentException>(() => RestoreTogether.Of([.. Enumerable.Repeat(members[0], RestoreTogether.MostMembers + 1)], To, _ => 1));

        double Start(int step) => Schedule.Of(plan).StartOf(step);
    }

    /// <summary>Against the plain reading: those of a place that have begun and not ended never are more than it has room for, and nobody waits while there is room.</summary>
    [Fact]
    public void In_a_place_go_as_many_at_once_as_there_is_room_in_the_order_given()
    {
        var random = new Random(5);
        for (var round = 0; round < 200; round++)
        {
            var room = Enumerable.Range(0, 4).Select(_ => random.Next(0, 4)).ToArray();
            var places = Enumerable.Range(0, random.Next(1, 30)).Select(_ => random.Next(4)).ToArray();
            var after = InTurn.After(places, p => room[p]);
            for (var i = 0; i < places.Length; i++)
            {
                var before = Enumerable.Range(0, i).Where(j => places[j] == places[i]).ToArray();
                Assert.Equal(before.Length < Math.Max(1, room[places[i]]) ? null : before[^Math.Max(1, room[places[i]])], after[i]);
            }
        }
    }
}
