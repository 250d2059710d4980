using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Who acts in the world from outside, and what can be made to go wrong in it.</summary>
public sealed class OutsidersTests : IDisposable
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-outsiders").FullName;
    private readonly WorldScript script;

    public OutsidersTests()
    {
        var whole = TarnholtFerries.Create(Now);
        script = whole with
        {
            Fleet = whole.Fleet.WithPlans([]),
            Databases = [.. whole.Databases.Where(d => d.Id.Value == "passes").Select(d => d with { RehearsedDaysAgo = [] })],
            Troubles = [],
            Incidents = [],
            Begins = Now - Duration.FromHours(1),
        };
    }

    public void Dispose() => Directory.Delete(folder, recursive: true);

    private World Open()
    {
        using var history = new World(folder, script);
        history.Advance(Now);
        return new World(folder, script, history.Remember(), history.Sets);
    }

    [Fact]
    public async Task Time_stands_still_while_somebody_thinks_and_goes_on_while_they_wait_for_the_world()
    {
        using var world = Open();
        using (world.Engage("a test"))
        {
            Assert.False(world.Advance(Now + Duration.FromMinutes(5)));
            Assert.Equal(Now, world.Now);

            var waits = world.After(60.0, CancellationToken.None);
            await world.WhenNobodyThinksAsync(TimeSpan.FromSeconds(5));
            Assert.False(world.Advance(Now + Duration.FromMinutes(5)));
            await waits;
            Assert.Equal(Now + Duration.FromMinutes(1), world.Now);
            Assert.True(world.Advance(Now + Duration.FromMinutes(5), evenIfSomebodyThinks: true));
        }

        Assert.True(world.Advance(Now + Duration.FromMinutes(10)));
        Assert.Equal(Now + Duration.FromMinutes(10), world.Now);
    }

    [Fact]
    public void Who_left_twice_counts_once_and_another_who_thinks_still_holds_the_time()
    {
        using var world = Open();
        var (one, other) = (world.Engage("a test"), world.Engage("a test"));
        one.Dispose();
        one.Dispose();
        Assert.False(world.Advance(Now + Duration.FromMinutes(1)));
        other.Dispose();
        Assert.True(world.Advance(Now + Duration.FromMinutes(1)));
    }

    [Fact]
    public async Task Who_is_cancelled_while_waiting_thinks_again_and_what_they_waited_for_is_forgotten()
    {
        using var world = Open();
        using var engaged = world.Engage("a test");
        using var cancel = new CancellationTokenSource();
        var waits = world.After(60.0, cancel.Token);
        await cancel.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => waits);
        Assert.False(world.Advance(Now + Duration.FromMinutes(5)));
        Assert.Equal(Now, world.Now);
    }

    [Fact]
    public async Task Who_asks_for_what_cannot_begin_still_thinks_and_nobody_is_counted_as_waiting_for_it()
    {
        using var world = Open();
        using var engaged = world.Engage("a test");
        var spec = new TakeSpec("nobody", SetKind.Full, "quay-s2", Compression.Light, null, SetNaming.Default, false, false, null);
        await Assert.ThrowsAnyAsync<Exception>(() => new StandInBackupDriver(world).TakeAsync(new RunCall(Guid.NewGuid(), 1), spec, default));
        Assert.False(world.Advance(Now + Duration.FromMinutes(5)));
        Assert.Equal(Now, world.Now);
    }

    [Fact]
    public void Faults_are_told_once_remembered_through_a_restart_and_mended()
    {
        var first = Open();
        first.TakeChanges();
        Id<Database> passes = new("passes");
        for (var twice = 0; twice < 2; twice++)
        {
            first.Faults.SetStoreFull(new("quay-s2"), true);
            first.Faults.SetHanging(passes, true);
            first.Faults.SetRefused(passes, true);
            first.Faults.SetLinkDown(new("quayside"), new("hillhouse"), true);
        }

        Assert.Equal(
            ["store quay-s2 is full", "backups begin and move nothing", "the sign-in for backups has expired", "the link between quayside and hillhouse is down"],
            first.TakeChanges().OfType<WorldChange.Happened>().Select(h => h.Text));
        first.Dispose();
        using var second = new World(folder, script, first.Remember(), first.Sets);
        Assert.Equal(["quay-s2"], second.Faults.FullStores);
        Assert.Equal(["passes"], second.Faults.Hanging);
        Assert.Equal(["passes"], second.Faults.Refused);
        Assert.Single(second.Faults.DownLinks);

        second.Faults.SetStoreFull(new("quay-s2"), false);
        second.Faults.SetHanging(passes, false);
        second.Faults.SetRefused(passes, false);
        second.Faults.SetLinkDown(new("hillhouse"), new("quayside"), false);
        Assert.Empty(second.Faults.FullStores.Concat(second.Faults.Hanging).Concat(second.Faults.Refused).Concat(second.Faults.DownLinks));
        Assert.Equal(4, second.TakeChanges().OfType<WorldChange.Happened>().Count(h => h.Kind == "fault"));
    }

    [Fact]
    public void A_plan_that_needs_a_store_which_is_not_there_is_not_run_and_the_others_are()
    {
        using var world = Open();
        Core.Planning.Plan Plan(string id, string store) => new(
            new(id),
            id,
            new Core.Planning.Selection { Databases = [new("passes")] },
            [
                new Core.Planning.PlanTask
                {
                    Id = "full", Kind = Core.Planning.TaskKind.Full, Store = new Id<Store>(store),
                    Recurrence = new Core.Planning.Recurrence(Core.Planning.RecurrenceRule.Parse("FREQ=HOURLY"), new LocalDateTime(2026, 1, 1, 0, 10), DateTimeZone.Utc),
                },
            ],
            Core.Planning.TellRule.Nobody);
        world.SetPlans([Plan("there", "quay-s2"), Plan("gone", "nowhere")]);
        world.Advance(Now + Duration.FromHours(2));
        Assert.All(world.TakeChanges().OfType<WorldChange.RunChanged>(), r => Assert.Equal("there", r.Run.Plan.Value));
        Assert.NotEmpty(world.Sets);
    }

    [Fact]
    public async Task Nobody_waits_for_ever_in_a_world_that_was_let_go_of()
    {
        var world = Open();
        var driver = new StandInDriver(world);
        var instance = new Core.Drivers.InstanceSpec("aside", new("passes"), new("quay-h4"), Guid.NewGuid());
        var call = new Core.Drivers.RunCall(instance.Owner, 1);
        using var cancellable = new CancellationTokenSource();
        using var engaged = world.Engage("a test");
        var waits = new[] { driver.ProvisionAsync(call, instance, default), driver.ProvisionAsync(call, instance with { Name = "other" }, cancellable.Token) };
        Assert.All(waits, w => Assert.False(w.IsCompleted));

        world.Dispose();
        foreach (var wait in waits.Append(Task.Run(() => driver.ProvisionAsync(call, instance with { Name = "late" }, default))))
        {
            await Assert.ThrowsAsync<Imbrek.Core.Drivers.DriverGoneException>(() => wait.WaitAsync(TimeSpan.FromSeconds(10)));
        }

        await cancellable.CancelAsync();
    }

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
