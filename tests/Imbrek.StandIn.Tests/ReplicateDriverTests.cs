using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Replicas of the world as others act on them: seeded, mended, proved, looked at, promoted; each call finds done what was done, whoever asks again.</summary>
public sealed class ReplicateDriverTests : LiveWorld
{
    [Fact]
    public async Task One_that_is_new_is_seeded_by_a_copy_and_proves_itself()
    {
        var world = Live();
        world.Replicas.Set(world.Fleet.With(replicas: [One]));
        var driver = new StandInReplicateDriver(world);
        Assert.All(await AnsweredAsync(world, driver.TryAsync(new(Guid.NewGuid(), 1), One, default)), c => Assert.True(c.Passed, $"{c}"));
        var run = new RunCall(Guid.NewGuid(), 1);
        var moved = await AnsweredAsync(world, driver.CopyAsync(run, One.Id, default));
        Assert.Equal(world.Fleet.DatabaseById[Customs].SizeBytes, moved.Bytes);
        Assert.InRange(moved.Seconds, 200, 2000);
        Pass(world, 60);
        Assert.InRange((world.Now - world.Replicas.Reached(One.Id).Received).TotalSeconds, 0, 1);
        var checks = await AnsweredAsync(world, driver.ProveAsync(run, One.Id, default));
        Assert.Equal(["marker", "digest", "write"], checks.Select(c => c.Name));
        Assert.All(checks, c => Assert.True(c.Passed, $"{c}"));

        // The script knows nothing of it; it is there again after a restart as soon as the product names it.
        world.KeepAndAnswer();
        var fleet = world.Fleet;
        world = Again();
        world.Replicas.Set(fleet);
        Pass(world, 60);
        Assert.InRange((world.Now - world.Replicas.Reached(One.Id).Applied).TotalSeconds, 0, 1);
        Assert.True(world.Replicas.Compare(One.Id).Same);
    }

    [Fact]
    public async Task One_with_a_full_volume_goes_on_from_what_its_source_keeps_and_holds_the_same_bytes()
    {
        var world = Live(One with { LogRoomBytes = 100_000_000 });
        world.Faults.SetApplyStopped(One.Id, true);
        Pass(world, 8000);
        Assert.Contains("must be mended", world.Replicas.TakeSamples()[^1].HeldUpBy, StringComparison.Ordinal);
        var driver = new StandInReplicateDriver(world);
        await AnsweredAsync(world, driver.MendAsync(new(Guid.NewGuid(), 1), One.Id, [], default));
        Pass(world, 300);
        Assert.Equal((world.Now, null), (world.Now, world.Replicas.TakeSamples()[^1].HeldUpBy));
        Assert.InRange((world.Now - world.Replicas.Reached(One.Id).Applied).TotalSeconds, 0, 2);
        Assert.True(world.Replicas.Compare(One.Id).Same);
    }

    [Fact]
    public async Task A_stage_that_a_plan_has_a_task_for_is_carried_out_when_that_says_so_and_found_done_when_asked_again()
    {
        var shipped = One with { Mode = ReplicaMode.Shipped, Stages = new(new(300, 5), new(300, 8), new(300, 20), 7200, 3600) };
        var world = Live(shipped);
        var driver = new StandInReplicateDriver(world);
        Task<Moved> Ship(ShippingStep step, double? keep = null) => AnsweredAsync(world, driver.ShipAsync(new(Guid.NewGuid(), 1), One.Id, step, keep, default));
        Pass(world, 1300);
        var own = world.Replicas.Reached(One.Id);
        Assert.InRange((world.Now - own.Applied).TotalSeconds, 0, 1000);

        // The plan takes over copying and applying; the source still backs up by its own clock.
        PlanTask Every5(string id, TaskKind kind) => new() { Id = id, Kind = kind, Recurrence = RecurrenceWords.TryParse("every 5 minutes", DateTimeZone.Utc, new(2026, 1, 1), out var r, out _) ? r : null };
        world.SetPlans([new Plan(new("p"), "P", new Selection { Databases = [Customs] }, [Every5("copy", TaskKind.ShipCopy), Every5("apply", TaskKind.ShipApply)], TellRule.Nobody)]);
        Pass(world, 400);
        var before = world.Replicas.Reached(One.Id);
        Pass(world, 1200);
        Assert.Equal(before, world.Replicas.Reached(One.Id));

        var copied = await Ship(ShippingStep.Copy);
        Assert.InRange(copied.Seconds, 8, 60);
        Assert.True(copied.Bytes > 0);
        Assert.Equal(copied.Reached, world.Replicas.Reached(One.Id).Received);
        Assert.Equal(before.Applied, world.Replicas.Reached(One.Id).Applied);
        Assert.InRange((world.Now - copied.Reached!.Value).TotalSeconds, 0, 320);
        var applied = await Ship(ShippingStep.Apply);
        Assert.InRange(applied.Seconds, 20, 21);
        Pass(world, 5);
        Assert.Equal(copied.Reached, world.Replicas.Reached(One.Id).Applied);
        Assert.Equal(Moved.Nothing, await Ship(ShippingStep.Apply));
        Assert.True(world.Replicas.Compare(One.Id).Same);

        // What stands in its way is said; what the plan keeps for less time than it is away is gone, also after a restart.
        world.SetPlans([new Plan(new("p"), "P", new Selection { Databases = [Customs] }, [Every5("back up", TaskKind.ShipBackup), Every5("copy", TaskKind.ShipCopy), Every5("apply", TaskKind.ShipApply)], TellRule.Nobody)]);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Assert.True((await Ship(ShippingStep.Backup, 600)).Bytes > 0);
        Assert.Contains("link", (await Assert.ThrowsAsync<DriverException>(() => Ship(ShippingStep.Copy))).Message, StringComparison.Ordinal);
        Pass(world, 900);
        await Ship(ShippingStep.Backup, 600);
        world.Faults.SetLinkDown(Quay, Hill, false);
        Pass(world, 60);
        Assert.Contains("no longer keeps", (await Assert.ThrowsAsync<DriverException>(() => Ship(ShippingStep.Copy))).Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Held_it_receives_nothing_also_after_a_restart_until_it_is_resumed()
    {
        var world = Live(One);
        var held = await AnsweredAsync(world, new StandInReplicateDriver(world).HoldAsync(new(Guid.NewGuid(), 1), One.Id, default));
        Pass(world, 600);
        world = Again();
        Pass(world, 600);
        Assert.Equal(held.Reached, world.Replicas.Reached(One.Id).Received);
        await AnsweredAsync(world, new StandInReplicateDriver(world).ResumeAsync(new(Guid.NewGuid(), 1), One.Id, default));
        Pass(world, 120);
        Assert.InRange((world.Now - world.Replicas.Reached(One.Id).Received).TotalSeconds, 0, 1);
    }

    [Fact]
    public async Task Taking_over_begins_a_branch_loses_what_was_not_received_and_is_answered_the_same_again()
    {
        var world = Live(One, One with { Id = new("ahead"), Place = new ReplicaPlace.OnHost(new("quay-h4")) }, One with { Id = new("chained"), From = One.Id, Place = new ReplicaPlace.OnHost(new("north-h1")) });
        Pass(world, 60);
        world.Faults.SetLinkDown(Quay, Hill, true);
        Pass(world, 600);
        world.Faults.SetHostDown(new("quay-h1"), true);
        Pass(world, 30);
        var driver = new StandInReplicateDriver(world);
        var run = Guid.NewGuid();
        await AnsweredAsync(world, driver.FenceAsync(new(run, 1), Customs, default));
        var promoted = await AnsweredAsync(world, driver.PromoteAsync(new(run, 1), One.Id, new("hill-h1"), null, default));
        Assert.InRange(promoted.Seconds, 30, 40);
        Assert.InRange(promoted.LostSeconds, 560, 640);
        Assert.InRange(promoted.LostTransactions!.Value, 200, 600);
        Assert.Equal(["ahead"], promoted.Left.Select(l => l.Replica.Value));
        Assert.Equal((2, 1, "hill-h1"), (promoted.Branch.Id, promoted.Branch.Parent, world.Fleet.DatabaseById[Customs].Host.Value));

        // Asked again, also by another process after a restart, it says the same and does nothing.
        world = Again();
        driver = new StandInReplicateDriver(world);
        var again = await AnsweredAsync(world, driver.PromoteAsync(new(run, 2), One.Id, new("hill-h1"), null, default));
        Assert.Equal((promoted.Branch, promoted.LostTransactions, promoted.LostSeconds), (again.Branch, again.LostTransactions, again.LostSeconds));

        // It lives on there, and who was fed by it follows; the old log is not in it.
        Pass(world, 900);
        Assert.True(world.CommittedSince(Customs, world.Now - Duration.FromSeconds(600)) > 100);
        Assert.Equal(0, world.CommittedSince(Customs, promoted.Branch.ForkAt, promoted.Branch.StartsAt));
        Assert.True(world.Replicas.Compare(new("chained")).Same);
        Assert.InRange((world.Now - world.Replicas.Reached(new("chained")).Received).TotalSeconds, 0, 1);
        Assert.False(world.Replicas.Reached(new("ahead")).Received > promoted.Branch.StartsAt);
        await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.HoldAsync(new(run, 1), new("chained"), default)));
    }

    [Theory]
    [InlineData(0, 900)]
    [InlineData(3600, 0)]
    [InlineData(0, 0)]
    public async Task Asked_to_stop_earlier_it_gives_up_what_lies_behind_or_says_that_it_cannot(double rewind, double delay)
    {
        var world = Live(One with { RewindSeconds = rewind, DelaySeconds = delay });
        Pass(world, 1200);
        var (driver, call, then) = (new StandInReplicateDriver(world), new RunCall(Guid.NewGuid(), 1), world.Now - Duration.FromSeconds(300));
        await AnsweredAsync(world, driver.FenceAsync(call, Customs, default));
        if (rewind + delay == 0)
        {
            var cannot = await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.PromoteAsync(call, One.Id, new("hill-h1"), then, default)));
            Assert.Contains("can go back 0 s", cannot.Message, StringComparison.Ordinal);
            Assert.Empty(world.Fleet.DatabaseById[Customs].Branches);
            return;
        }

        var committed = world.CommittedSince(Customs, then, world.Now);
        var promoted = await AnsweredAsync(world, driver.PromoteAsync(call, One.Id, new("hill-h1"), then, default));
        Assert.InRange((then - promoted.Branch.ForkAt).TotalSeconds, 0, 60);
        Assert.Equal(committed, promoted.LostTransactions);
        Assert.True(committed > 50);
        Pass(world, 300);
        Assert.Equal(0, world.CommittedSince(Customs, promoted.Branch.ForkAt, promoted.Branch.StartsAt));
    }

    [Fact]
    public async Task A_copy_of_it_is_opened_elsewhere_as_it_was_and_it_goes_on_receiving()
    {
        var world = Live(One with { RewindSeconds = 3600 });
        Pass(world, 600);
        var driver = new StandInReplicateDriver(world);
        var then = world.Now - Duration.FromSeconds(900);
        var instance = new InstanceSpec("look", Customs, new("hill-h2"), Guid.NewGuid());
        var call = new RunCall(instance.Owner, 1);
        var opened = await AnsweredAsync(world, driver.OpenCopyAsync(call, One.Id, instance, then, default));
        Assert.Equal(then, opened.Reached);
        var checks = await AnsweredAsync(world, new StandInDriver(world).CheckAsync(call, instance, then, new CheckWish("count written"), default));
        Assert.All(checks, c => Assert.True(c.Passed, $"{c}"));
        Assert.Contains(checks, c => c.Name == "digest");

        // With little time a part of it is looked at, and that is said; what is there and should not be is found in the part.
        var began = world.NowMs;
        var hurried = await AnsweredAsync(world, new StandInDriver(world).CheckAsync(call, instance, then, new CheckWish(WithinSeconds: 1), default));
        Assert.InRange(world.NowMs - began, 1, 1500);
        var sample = Assert.Single(hurried, c => c.Name == "digest of samples");
        Assert.True(sample.Passed && sample.Detail.Contains("no time", StringComparison.Ordinal));
        await AnsweredAsync(world, new StandInDriver(world).MaskAsync(call, instance, ["hide values"], default));
        var spoilt = await AnsweredAsync(world, new StandInDriver(world).CheckAsync(call, instance, then, new CheckWish(WithinSeconds: 1), default));
        Assert.False(spoilt.Single(c => c.Name == "digest of samples").Passed);
        Pass(world, 600);
        Assert.InRange((world.Now - world.Replicas.Reached(One.Id).Received).TotalSeconds, 0, 1);
        var early = await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.OpenCopyAsync(call, One.Id, instance with { Name = "early" }, then - Duration.FromHours(2), default)));
        Assert.Contains("can be opened from", early.Message, StringComparison.Ordinal);
    }
}
