using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>The world as others act in it through its drivers: it keeps itself before it answers, answers again from what it kept, and never turns back behind that.</summary>
public sealed class GuestTests : IDisposable
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    private static readonly Id<Database> Passes = new("passes");
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-guest").FullName;
    private readonly WorldScript script;

    public GuestTests()
    {
        var whole = TarnholtFerries.Create(Now);
        var full = new PlanTask
        {
            Id = "full",
            Kind = TaskKind.Full,
            Recurrence = RecurrenceWords.TryParse("daily 12:00", DateTimeZone.Utc, new LocalDate(2026, 1, 1), out var at, out _) ? at : null,
            Store = new Id<Store>("quay-s2"),
        };
        script = whole with
        {
            Fleet = whole.Fleet.WithPlans([new Plan(new("p"), "P", new Selection { Databases = [Passes] }, [full, full with { Id = "log", Kind = TaskKind.Log }], TellRule.Nobody)]),
            Databases = [.. whole.Databases.Where(d => d.Id == Passes).Select(d => d with { RehearsedDaysAgo = [] })],
            Troubles = [],
            Incidents = [],
            Begins = Now - Duration.FromHours(6),
        };
        using var history = new World(folder, script);
        history.Advance(Now);
        history.KeepForOthers(1);
    }

    public void Dispose() => Directory.Delete(folder, recursive: true);

    private World Open() => World.Open(folder, _ => script);

    private static TakeSpec Full(string store = "quay-s2") => new(Passes.Value, SetKind.Full, store, Compression.Light, null, SetNaming.Default, false, true, null);

    /// <summary>Lets the world go on until a call has been answered.</summary>
    private static async Task<T> AnsweredAsync<T>(World world, Task<T> call)
    {
        for (var i = 0; i < 1000 && !call.IsCompleted; i++)
        {
            world.Advance(world.NextEvent ?? world.Now);
            world.KeepAndAnswer();
            await Task.Yield();
        }

        return await call.WaitAsync(TimeSpan.FromSeconds(5));
    }

    [Fact]
    public async Task What_was_kept_before_the_answer_is_there_after_a_crash_and_what_was_not_did_not_happen()
    {
        var (run, lost) = (Guid.NewGuid(), Guid.NewGuid());
        Taken taken;
        Instant answered;
        using (var world = Open())
        {
            taken = await AnsweredAsync(world, new StandInBackupDriver(world).TakeAsync(new RunCall(run, 1), Full(), default));
            answered = world.Now;
            Assert.True(taken is { Seconds: > 0, Bytes: > 0 });
            Assert.Equal(CopyState.Good, taken.Set!.Copies[0].State);

            // Done in the world and not kept: nobody is told, and whoever opens it next finds it undone.
            var unanswered = new StandInBackupDriver(world).TakeAsync(new RunCall(lost, 1), Full(), default);
            world.Advance(world.Now + Duration.FromHours(2));
            Assert.False(unanswered.IsCompleted);
            Assert.Equal(2, world.Sets.Count(s => s.FinishedAt > Now));
        }

        using var again = Open();
        Assert.Equal(answered, again.Now);
        Assert.Equal([taken.Set!.Id], again.Sets.Where(s => s.FinishedAt > Now).Select(s => s.Id));

        // Asked again with a higher fence the run gives the set it took; the one that was lost is taken now.
        var same = await new StandInBackupDriver(again).TakeAsync(new RunCall(run, 2), Full(), default);
        Assert.Equal((taken.Set.Id, 0.0, 0L), (same.Set!.Id, same.Seconds, same.Bytes));
        var late = await AnsweredAsync(again, new StandInBackupDriver(again).TakeAsync(new RunCall(lost, 2), Full(), default));
        Assert.NotEqual(taken.Set.Id, late.Set!.Id);
    }

    [Fact]
    public async Task A_call_with_an_old_fence_takes_nothing_also_when_it_was_under_way()
    {
        using var world = Open();
        var run = Guid.NewGuid();
        var driver = new StandInBackupDriver(world);
        var old = driver.TakeAsync(new RunCall(run, 1), Full(), default);
        var newer = driver.CheckIntegrityAsync(new RunCall(run, 2), Passes, default);
        await AnsweredAsync(world, newer);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, old))).Problem);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => driver.RemoveAsync(new RunCall(run, 1), Passes, [], default))).Problem);
    }

    [Fact]
    public async Task Copies_are_made_once_read_back_and_removed_with_the_bytes_that_went()
    {
        using var world = Open();
        var (driver, call) = (new StandInBackupDriver(world), new RunCall(Guid.NewGuid(), 1));
        var set = (await AnsweredAsync(world, driver.TakeAsync(call, Full(), default))).Set!;
        var copied = await AnsweredAsync(world, driver.CopyAsync(call, Passes, set.Id, new("hill-s1"), null, default));
        Assert.True(copied.Bytes > 0);
        Assert.Equal(0, (await AnsweredAsync(world, driver.CopyAsync(call, Passes, set.Id, new("hill-s1"), null, default))).Bytes);
        world.Faults.DamageCopy(Passes, set.Id, new("hill-s1"));
        var read = await AnsweredAsync(world, driver.ReadBackAsync(call, Passes, [new(set.Id, new("quay-s2")), new(set.Id, new("hill-s1"))], default));
        Assert.Equal([CopyState.Good, CopyState.Damaged], read.Single().Set!.Copies.Select(c => c.State));
        var removed = await AnsweredAsync(world, driver.RemoveAsync(call, Passes, [new(set.Id, new("hill-s1"))], default));
        Assert.NotNull(removed.Single().Set!.Copies[1].RemovedAt);
        Assert.Equal(set.Copies[0].StoredBytes, removed.Single().Bytes);
        world.KeepAndAnswer();
    }

    [Fact]
    public async Task What_is_refused_says_whether_another_attempt_may_help()
    {
        using var world = Open();
        var driver = new StandInBackupDriver(world);
        world.Faults.SetStoreFull(new("quay-s2"), true);
        var full = await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.TakeAsync(new RunCall(Guid.NewGuid(), 1), Full(), default)));
        Assert.Equal((DriverProblem.NoRoom, true), (full.Problem, full.AgainMayHelp));
        var never = await Assert.ThrowsAsync<DriverException>(() => AnsweredAsync(world, driver.TakeAsync(new RunCall(Guid.NewGuid(), 1), Full("nowhere"), default)));
        Assert.Equal((DriverProblem.Refused, false), (never.Problem, never.AgainMayHelp));
        var nothing = await AnsweredAsync(world, driver.TakeAsync(new RunCall(Guid.NewGuid(), 1), Full() with { Kind = SetKind.Incremental }, default).ContinueWith(x => x.IsFaulted ? x.Exception!.InnerException!.Message : x.Result.Nothing, TaskScheduler.Default));
        Assert.NotNull(nothing);
    }
}
