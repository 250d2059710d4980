using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Planning;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>What the world has told anybody is there when its process dies.</summary>
public sealed class KilledWorldTests : LiveWorld
{
    [Fact]
    public async Task A_set_that_somebody_was_told_of_has_its_bytes_whenever_the_process_dies()
    {
        var world = Live();
        var spec = new TakeSpec(Customs.Value, SetKind.Full, "quay-s2", Compression.Light, null, SetNaming.Default, false, false, null);
        var (driver, began) = (new StandInBackupDriver(world), world.Now);
        await AnsweredAsync(world, driver.TakeAsync(new(Guid.NewGuid(), 1), spec, default));
        var took = (world.Now - began).TotalSeconds;

        // Another one; soon after it is written somebody must be told something at once, and time stands still before its step is over.
        var take = driver.TakeAsync(new(Guid.NewGuid(), 1), spec, default);
        var soon = world.After((2 * took) + 60, default);
        Assert.False(world.Advance(world.Now + Duration.FromSeconds((10 * took) + 600)));
        world.KeepAndAnswer();
        var taken = await take.WaitAsync(TimeSpan.FromSeconds(30));
        await soon.WaitAsync(TimeSpan.FromSeconds(30));
        var found = AsIfKilled();
        var set = found[Customs].Sets[taken.Set!.Id.Value];
        Assert.All(set.Copies, c => Assert.NotEmpty(found.Copies.Read(Customs, new(set.Id, c.Store))));
    }

    [Fact]
    public async Task Log_that_a_plan_of_the_product_asks_for_goes_on_without_a_hole_whenever_the_process_dies()
    {
        // The script knows no plan: who acts in the world has told it of one.
        var world = Live();
        var plans = Scenario.TarnholtFerries.Create(Now).Fleet.Plans;
        world.SetPlans(plans);
        var first = await LogAsync(world);
        Pass(world, 600);
        var found = Again();
        Pass(found, 300);
        found.SetPlans(plans);
        Pass(found, 300);
        var next = await LogAsync(found);
        Assert.Equal((first.ToPosition, first.CoversTo), (next.FromPosition, next.CoversFrom));

        // And nobody is told that it kept what it did not: asked for anew after a time without, log begins then.
        found.SetPlans([]);
        Pass(found, 600);
        var again = Again();
        again.SetPlans(plans);
        Assert.True((await LogAsync(again)).CoversFrom >= next.CoversTo + Duration.FromMinutes(9));

        async Task<BackupSet> LogAsync(World w) => (await AnsweredAsync(
            w, new StandInBackupDriver(w).TakeAsync(new(Guid.NewGuid(), 1), new TakeSpec(Customs.Value, SetKind.Log, "quay-s2", Compression.Light, null, SetNaming.Default, false, false, null), default))).Set!;
    }
}
