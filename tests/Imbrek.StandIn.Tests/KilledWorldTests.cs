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
}
