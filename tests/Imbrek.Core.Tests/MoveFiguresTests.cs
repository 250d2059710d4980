using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The figures of a move that a fleet knows: what sets the rate, and what changes meanwhile.</summary>
public class MoveFiguresTests
{
    private static readonly Instant Now = PlanWorlds.Monday;

    private static FleetModel Fleet(double link, double write, bool tracks, double? change) => PlanWorlds.Harbour(tracks: tracks) is var f
        ? new FleetModel(
            [.. f.SiteList, new(new("away"), "Away", "UTC"), new(new("nowhere"), "Nowhere", "UTC")],
            [.. f.Links, new(f.SiteList[0].Id, new("away"), link, 1)],
            f.ArrayList,
            [.. f.HostList.Select(h => h with { Site = f.SiteList[0].Id }), f.HostList[0] with { Id = new("there"), Site = new("away"), Array = null, WriteBytesPerSecond = write }, f.HostList[0] with { Id = new("lost"), Site = new("nowhere"), Array = null }],
            f.StoreList,
            f.EngineList,
            f.ObjectiveList,
            f.ServiceList,
            f.Databases.Select(d => d with { ChangeBytesPerDay = change }))
        : null!;

    private static MoveFigures? Of(FleetModel fleet, string to) => MoveFigures.Of(fleet, fleet.Databases[0], fleet.Hosts[new(to)], DatabaseLoad.Stated(fleet.Databases[0], Now));

    [Fact]
    public void The_narrowest_of_link_host_and_engine_sets_the_rate_and_is_named()
    {
        var engine = Fleet(1, 1, true, null).EngineList[0].RestoreBytesPerSecond;
        Assert.Equal((250.0, "a quarter of the link from quay to away"), Of(Fleet(1000, 5000, true, null), "there") is { } l ? (l.Question.Rate, l.RateFrom.Replace(Fleet(1, 1, true, null).SiteList[0].Id.Value, "quay", StringComparison.Ordinal)) : default);
        Assert.Equal((100.0, "what there can write"), Of(Fleet(1e15, 100, true, null), "there") is { } w ? (w.Question.Rate, w.RateFrom) : default);
        Assert.Equal(engine, Of(Fleet(1e15, 1e15, true, null), "there")!.Question.Rate);

        // Between two that nothing links nothing is moved; within a site no link is asked.
        Assert.Null(Of(Fleet(1000, 5000, true, null), "lost"));
        Assert.NotNull(Of(Fleet(1000, 5000, true, null), Fleet(1000, 5000, true, null).HostList.First(h => h.Id != Fleet(1000, 5000, true, null).Databases[0].Host).Id.Value));
    }

    [Fact]
    public void What_changes_is_what_is_known_and_what_does_not_track_it_is_read_whole_each_round()
    {
        var stated = Of(Fleet(1e9, 1e9, true, 86_400_000), "there")!;
        Assert.Equal((1000.0, "as stated in the fleet", null), (stated.Question.Change, stated.ChangeFrom, stated.Question.Read));
        var unknown = Of(Fleet(1e9, 1e9, false, null), "there")!;
        var fleet = Fleet(1e9, 1e9, false, null);
        Assert.Equal(fleet.Databases[0].SizeBytes * 0.05 / 86_400, unknown.Question.Change, 6);
        Assert.Equal(fleet.EngineList[0].RestoreBytesPerSecond, unknown.Question.Read);
        Assert.Null(unknown.Question.Fault());
    }
}
