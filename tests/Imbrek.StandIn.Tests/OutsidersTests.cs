using Imbrek.Core.Drivers;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Those who wait in a world that keeps what it answers first.</summary>
public class OutsidersTests
{
    [Fact]
    public async Task What_was_answered_is_told_once_it_is_kept_and_is_gone_with_a_world_that_could_not_keep_it()
    {
        var outsiders = new Outsiders(new Lock(), () => 5, held: true, inline: false);
        var (kept, later) = (outsiders.Await(done => done(), default), default(Action));
        Assert.False(kept.IsCompleted);
        outsiders.Release();
        Assert.Equal(5, await kept);

        // Refused at once, or answered in a step that was lost: whoever waits for it must not wait for ever.
        var refused = outsiders.Await(_ => { }, default, failing: fail => fail(new DriverException(DriverProblem.Refused, "no")));
        var answered = outsiders.Await(done => done(), TestContext.Current.CancellationToken);
        var open = outsiders.Await(done => later = done, default);
        Assert.False(refused.IsCompleted || answered.IsCompleted || open.IsCompleted);
        outsiders.End();
        await Assert.ThrowsAsync<DriverGoneException>(() => refused);
        await Assert.ThrowsAsync<DriverGoneException>(() => answered);
        await Assert.ThrowsAsync<DriverGoneException>(() => open);
        later!();
        outsiders.Release();
        Assert.Throws<DriverGoneException>(() => { _ = outsiders.Await(done => done(), default); });
    }
}
