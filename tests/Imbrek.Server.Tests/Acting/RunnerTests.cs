using System.Threading.Channels;
using Imbrek.Core.Drivers;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.Restore;
using Microsoft.EntityFrameworkCore;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>What a run does when drivers fail, refuse, hang or lie, when people decide at the same time, and when processes and PostgreSQL come and go.</summary>
public class RunnerTests
{
    private static readonly string[] Way = ["provision", "restore full@a", "restore diff@a", "log log02@a", "log log01@a", "open", "check"];

    private static DriverException Damaged(string what) =>
        new(DriverProblem.CopyDamaged, $"{what}: checksum differs", new SetCopy(new(what.Split(' ')[1].Split('@')[0]), new(what.Split('@')[1])));

    private static async Task<T> OneAsync<T>(ActingServer s, string sql)
    {
        await using var command = s.Source.CreateCommand(sql);
        return (T)(await command.ExecuteScalarAsync())!;
    }

    /// <summary>No step begins before what it waits for has ended, and the driver's clock measured what is said to be measured.</summary>
    private static void AssertInOrder(Run run) => Assert.All(run.Plan.Steps.Where(s => run[s.Number].StartedAt is not null), s =>
        Assert.All(s.After.Where(a => run[a].EndedAt is not null), a => Assert.True(run[s.Number].StartedAt >= run[a].EndedAt, $"step {s.Number} begins before {a} ended")));

    private static async Task AssertEndedOnceAsync(ActingServer s, Guid run, int proofs)
    {
        Assert.Equal(1L, await OneAsync<long>(s, $"select count(*) from ledger where body like '%{run}%'"));
        Assert.Equal(proofs, await OneAsync<long>(s, $"select count(*) from proofs where run_id = '{run}'"));

        // What ended it made it nobody's.
        Assert.Equal(1L, await OneAsync<long>(s, $"select count(*) from runs where id = '{run}' and lease_owner is null and lease_until is null"));
    }

    [Fact]
    public async Task A_restore_is_carried_out_held_released_proven_and_removed()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Reached = ActingServer.Now - NodaTime.Duration.FromMinutes(6);
        var id = await s.RestoreAsync();
        var (row, run) = await s.IsAsync(id, RunState.Held);
        Assert.Equal(Way, s.Driver.Calls);
        AssertInOrder(run);
        Assert.False(s.Driver.Instances["h2/aside"].Released);

        // What was reached is what the engine says, a minute less than was promised.
        Assert.Equal(60, RunJson.Read<RestoreResult>(row.Result!).DataLostSeconds);
        Assert.Equal(2_010, RunJson.Read<RestoreResult>(row.Result!).Bytes);
        await s.DecideAsync(id, "release");
        (row, _) = await s.IsAsync(id, RunState.Done);
        Assert.True(s.Driver.Instances["h2/aside"].Released);
        Assert.Equal("h2/aside", row.Claim);
        await AssertEndedOnceAsync(s, id, proofs: 1);
        Assert.Equal(60, await OneAsync<double>(s, $"select lost_seconds from proofs where run_id = '{id}'"));

        // Learned from what was moved in one go: two states of a second each, and the logs.
        Assert.Equal(3L, await OneAsync<long>(s, "select count(*) from paces where actual_seconds in (1, 2)"));

        var removal = RemovalKind.Of(row, s.Driver.Name, "ada", s.Clock.GetCurrentInstant());
        await using var data = ImbrekDatabase.Context(s.Source);
        Assert.True(await NewRuns.AddAsync(data, removal, default));
        s.Worker.Wake();
        await s.IsAsync(removal.Id, RunState.Done);
        Assert.Empty(s.Driver.Instances);
        Assert.Null((await s.RowAsync(id)).Claim);
    }

    [Fact]
    public async Task A_rehearsal_is_checked_thrown_away_and_proven_without_anybody_being_asked()
    {
        await using var s = await ActingServer.StartAsync();
        var id = await s.RestoreAsync(held: false);
        var (row, _) = await s.IsAsync(id, RunState.Done);
        Assert.Equal([.. Way, "discard"], s.Driver.Calls);
        Assert.Empty(s.Driver.Instances);
        Assert.Null(row.Claim);
        await AssertEndedOnceAsync(s, id, proofs: 1);
    }

    [Fact]
    public async Task A_copy_fails_and_the_same_set_comes_from_another_store_while_what_is_restored_stays()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Before = (what, _, _) => what is "restore diff@a" or "log log01@a" ? throw Damaged(what) : Task.CompletedTask;
        var id = await s.RestoreAsync();
        var (_, run) = await s.IsAsync(id, RunState.Held);
        Assert.Equal(["provision", "restore full@a", "restore diff@a", "restore diff@b", "log log02@a", "log log01@a", "log log01@b", "open", "check"], s.Driver.Calls);
        AssertInOrder(run);
        Assert.Equal(2, run.Plan.Steps.Count(x => run[x.Number].State == StepState.Failed));
        await s.DecideAsync(id, "throw-away");
        await s.IsAsync(id, RunState.Done);
        Assert.Empty(s.Driver.Instances);

        // A way that was changed on the way says nothing of speeds.
        Assert.Equal(0L, await OneAsync<long>(s, "select count(*) from paces"));
    }

    [Fact]
    public async Task A_second_copy_fails_too_and_another_chain_is_begun_anew_until_none_is_left()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Before = (what, _, _) => what.StartsWith("restore diff", StringComparison.Ordinal) ? throw Damaged(what) : Task.CompletedTask;
        var id = await s.RestoreAsync();
        var (_, run) = await s.IsAsync(id, RunState.Held);
        Assert.Equal(["provision", "restore full@a", "restore diff@a", "restore diff@b", "discard", "provision", "restore full@a"], s.Driver.Calls[..7]);
        Assert.Equal(10, s.Driver.Calls.Count(c => c.StartsWith("log ", StringComparison.Ordinal)));
        Assert.Equal(["full", .. Enumerable.Range(1, 10).Reverse().Select(i => $"log{i:00}")], s.Driver.Instances["h2/aside"].Applied);
        AssertInOrder(run);
        await s.CancelAsync(id);
        await s.IsAsync(id, RunState.Cancelled);

        s.Driver.Before = (what, _, _) => what.StartsWith("restore", StringComparison.Ordinal) ? throw Damaged(what) : Task.CompletedTask;
        var hopeless = await s.RestoreAsync("hopeless");
        var (row, _) = await s.IsAsync(hopeless, RunState.Failed);
        Assert.Contains("no other path is left", row.Note, StringComparison.Ordinal);
        Assert.Empty(s.Driver.Instances);
        await AssertEndedOnceAsync(s, hopeless, proofs: 0);
    }

    [Fact]
    public async Task A_full_host_ends_it_at_once_with_nothing_left_behind()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Before = (what, _, _) => what == "log log02@a" ? throw new DriverException(DriverProblem.NoRoom, "host h2 is full") : Task.CompletedTask;
        var id = await s.RestoreAsync();
        var (row, run) = await s.IsAsync(id, RunState.Failed);
        Assert.Equal("host h2 is full", row.Note);
        Assert.Equal(1, run.Plan.Steps.Where(x => x.Kind == "logs").Sum(x => run[x.Number].Attempts));
        Assert.Empty(s.Driver.Instances);
        Assert.Null(row.Claim);
        await AssertEndedOnceAsync(s, id, proofs: 0);
    }

    [Fact]
    public async Task A_refusal_to_let_clients_in_is_tried_again_and_then_people_decide_again()
    {
        await using var s = await ActingServer.StartAsync();
        var id = await s.RestoreAsync();
        await s.IsAsync(id, RunState.Held);
        s.Driver.Before = (what, _, _) =>
        {
            if (what == "release")
            {
                s.Clock.Move(60);
                throw new DriverException(DriverProblem.Refused, "the name is taken");
            }

            return Task.CompletedTask;
        };
        await s.DecideAsync(id, "release");
        await Eventually.Async(async () => (await s.RowAsync(id)) is { StateIs: RunState.Held, Note: { } n } && n.Contains("the name is taken; decide again", StringComparison.Ordinal));
        Assert.Equal(4, s.Driver.Calls.Count(c => c == "release"));
        await s.DecideAsync(id, "throw-away");
        var (row, _) = await s.IsAsync(id, RunState.Done);
        Assert.Equal("checked, then thrown away", row.Note);
        Assert.Empty(s.Driver.Instances);
        await AssertEndedOnceAsync(s, id, proofs: 1);
    }

    [Fact]
    public async Task What_cannot_be_cleaned_up_is_named_keeps_its_place_and_can_be_removed_later()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Before = (what, _, _) =>
        {
            if (what == "discard")
            {
                s.Clock.Move(300);
            }

            return what is "check" or "discard" ? throw new DriverException(what == "check" ? DriverProblem.NoRoom : DriverProblem.Refused, $"{what} is refused") : Task.CompletedTask;
        };
        var id = await s.RestoreAsync();
        var (row, run) = await s.IsAsync(id, RunState.Failed);
        Assert.Equal("check is refused; instance aside could not be removed from h2 and may still be there: discard is refused", row.Note);
        Assert.Equal("h2/aside", row.Claim);
        Assert.Equal(Run.MostUndoAttempts, s.Driver.Calls.Count(c => c == "discard"));
        Assert.Contains(run.Plan.Steps, x => run[x.Number].State == StepState.LeftBehind);

        await using var data = ImbrekDatabase.Context(s.Source);
        Assert.False(await NewRuns.AddAsync(data, new RunRow { Id = Guid.NewGuid(), Kind = "restore", Database = "d", Claim = "h2/aside" }, default));

        // One that claimed more on its way, its database say, claims what it left, and no more.
        s.Driver.Here = false;
        var more = await s.RestoreAsync("other");
        await data.Runs.Where(r => r.Id == more).ExecuteUpdateAsync(u => u.SetProperty(r => r.Claim, "all of d"));
        s.Driver.Here = true;
        s.Worker.Wake();
        Assert.Equal("h2/other", (await s.IsAsync(more, RunState.Failed)).Row.Claim);
    }

    [Fact]
    public async Task Cancelled_before_it_is_taken_up_it_touches_nothing_and_cancelled_at_the_hold_it_leaves_nothing()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Here = false;
        var early = await s.RestoreAsync("early");
        await s.CancelAsync(early);
        s.Driver.Here = true;
        s.Worker.Wake();
        await s.IsAsync(early, RunState.Cancelled);
        Assert.Empty(s.Driver.Calls);

        var late = await s.RestoreAsync("late");
        await s.IsAsync(late, RunState.Held);
        await Task.WhenAll(s.CancelAsync(late), s.DecideAsync(late, "release"));
        var (row, run) = await s.IsAsync(late, RunState.Cancelled);
        Assert.Equal("bob", row.CancelledBy);
        Assert.Empty(s.Driver.Instances);
        Assert.DoesNotContain(run.Plan.Steps, x => run[x.Number].State is StepState.Running or StepState.Waiting);
        await AssertEndedOnceAsync(s, late, proofs: 0);
    }

    [Fact]
    public async Task Cancelled_in_the_middle_of_a_call_the_call_is_broken_off_and_all_is_taken_back()
    {
        await using var s = await ActingServer.StartAsync();
        var inCall = new TaskCompletionSource();
        s.Driver.Before = async (what, _, cancel) =>
        {
            if (what == "restore diff@a")
            {
                inCall.SetResult();
                await new TaskCompletionSource().Task.WaitAsync(cancel);
            }
        };
        var id = await s.RestoreAsync();
        await inCall.Task;
        await s.CancelAsync(id);
        var (_, run) = await s.IsAsync(id, RunState.Cancelled);
        Assert.Equal("discard", s.Driver.Calls[^1]);
        Assert.Empty(s.Driver.Instances);
        Assert.All(run.Plan.Steps.Where(x => run[x.Number].StartedAt is not null), x => Assert.Equal(StepState.Undone, run[x.Number].State));
    }

    [Fact]
    public async Task Cancelled_in_the_moment_before_its_end_it_goes_back_and_not_to_its_end()
    {
        await using var s = await ActingServer.StartAsync();
        var times = 0;
        s.Driver.Before = async (what, call, _) =>
        {
            if (what == "discard" && times++ == 0)
            {
                // Nobody is woken: only what is kept at the end tells.
                await using var command = s.Source.CreateCommand($"update runs set cancelled_by = 'bob', said = said + 1 where id = '{call.Run}'");
                await command.ExecuteNonQueryAsync(CancellationToken.None);
            }
        };
        var id = await s.RestoreAsync(held: false);
        var (_, run) = await s.IsAsync(id, RunState.Cancelled);
        Assert.Equal(2, s.Driver.Calls.Count(c => c == "discard"));
        Assert.Equal(StepState.Undone, run[1].State);
        Assert.Empty(s.Driver.Instances);
        await AssertEndedOnceAsync(s, id, proofs: 0);
    }

    [Fact]
    public async Task A_driver_that_breaks_off_what_nobody_cancelled_has_failed_and_is_asked_again()
    {
        await using var s = await ActingServer.StartAsync();
        var times = 0;
        s.Driver.Before = (what, _, _) =>
        {
            if (what == "restore full@a" && times++ == 0)
            {
                s.Clock.Move(60);
                throw new OperationCanceledException();
            }

            return Task.CompletedTask;
        };
        var id = await s.RestoreAsync();
        var (_, run) = await s.IsAsync(id, RunState.Held);
        Assert.Equal(2, run[2].Attempts);
    }

    [Fact]
    public async Task Of_two_processes_that_both_believe_they_have_a_run_the_older_writes_nothing_and_its_driver_calls_are_refused()
    {
        await using var one = await ActingServer.StartAsync();
        await using var two = await one.PeerAsync();
        var (inCall, goOn) = (new TaskCompletionSource<RunCall>(), new TaskCompletionSource());
        one.Driver.Before = async (what, call, _) =>
        {
            if (what == "restore full@a" && inCall.TrySetResult(call))
            {
                // As a process that was stopped for a while: it hears nothing of what goes on.
                await goOn.Task;
            }
        };
        var id = await one.RestoreAsync();
        var old = await inCall.Task;
        await using (var steal = one.Source.CreateCommand($"update runs set lease_until = now() - interval '1 second', lease_owner = 'nobody' where id = '{id}'"))
        {
            await steal.ExecuteNonQueryAsync();
        }

        var (row, run) = await two.IsAsync(id, RunState.Held);
        Assert.True(row.Fence > old.Fence);
        Assert.Equal(1, run[2].TakenUp);
        goOn.SetResult();

        // The old call comes to its effect now: the engine has heard a higher fence.
        var instance = new InstanceSpec("aside", new("d"), new("h2"), id);
        foreach (var call in new Func<Task>[] { () => one.Driver.OpenAsync(old, instance, default), () => one.Driver.DiscardAsync(old, instance, default) })
        {
            Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(call)).Problem);
        }

        await Assert.ThrowsAsync<LeaseLostException>(() => one.Store.KeepAsync(new(id, old.Fence), row, null, [], null, null, default));
        await Assert.ThrowsAsync<LeaseLostException>(() => one.Store.RaiseAsync(new(id, old.Fence), default));
        Assert.Equal(["full", "diff", "log02", "log01"], one.Driver.Instances["h2/aside"].Applied);
        await two.DecideAsync(id, "release");
        await two.IsAsync(id, RunState.Done);
        await AssertEndedOnceAsync(two, id, proofs: 1);
    }

    [Fact]
    public async Task Interrupted_while_it_hears_of_several_calls_at_once_nobody_waits_for_any_of_them()
    {
        await using var s = await ActingServer.StartAsync();
        s.Driver.Here = false;
        await s.RestoreAsync();
        var claimed = Assert.Single(await s.Store.ClaimAsync([s.Driver.Name], 1, default));
        s.Driver.Here = true;

        // The first says neither what came of it nor what went wrong: a fault of ours, and whatever follows it is not heard.
        var news = Channel.CreateUnbounded<Runner.News>();
        for (var i = 0; i < 2; i++)
        {
            Assert.True(news.Writer.TryWrite(new Runner.News.Ended(1, false, null, null, false, s.Driver.Engage("a call that has ended"))));
        }

        await Assert.ThrowsAsync<NullReferenceException>(() => s.Runner.CarryOutAsync(claimed, news, _ => { }, null, default));
        await Eventually.Async(() => Task.FromResult(s.Driver.Engaged == 0), what: () => $"{s.Driver.Engaged} act still");
    }

    [Fact]
    public async Task A_call_that_never_answers_ends_at_its_limit_and_what_it_still_does_is_refused()
    {
        await using var s = await ActingServer.StartAsync();
        var (inCall, goOn) = (new TaskCompletionSource<RunCall>(), new TaskCompletionSource());
        s.Driver.Before = async (what, call, _) =>
        {
            if (what == "restore full@a")
            {
                inCall.SetResult(call);
                await goOn.Task;
            }
        };
        var id = await s.RestoreAsync(limit: 600);
        var hung = await inCall.Task;
        s.Clock.Move(700);
        var (row, _) = await s.IsAsync(id, RunState.Failed);
        Assert.Equal("it did not end within its limit of 10 min", row.Note);
        Assert.True(row.Fence > hung.Fence);
        Assert.Empty(s.Driver.Instances);
        goOn.SetResult();
        await AssertEndedOnceAsync(s, id, proofs: 0);
    }

    [Theory]
    [InlineData("provision")]
    [InlineData("restore full@a")]
    [InlineData("log log02@a")]
    [InlineData("open")]
    [InlineData("check")]
    [InlineData("release")]
    [InlineData("discard")]
    public async Task PostgreSQL_restarted_at_any_kind_of_step_the_run_goes_on(string at)
    {
        await using var s = await ActingServer.StartAsync();
        var cut = 0;
        s.Driver.Before = async (what, _, _) =>
        {
            if (what == at && Interlocked.Exchange(ref cut, 1) == 0)
            {
                await using var command = s.Source.CreateCommand("select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()");
                await command.ExecuteNonQueryAsync(CancellationToken.None);
            }
        };
        var id = await s.RestoreAsync();
        await s.IsAsync(id, RunState.Held);
        await Eventually.Async(async () =>
        {
            try
            {
                await s.DecideAsync(id, at == "discard" ? "throw-away" : "release");
                return true;
            }
            catch (Exception e) when (e is Npgsql.NpgsqlException || e.InnerException is Npgsql.NpgsqlException)
            {
                return false;
            }
        });
        var (_, run) = await s.IsAsync(id, RunState.Done);
        Assert.Equal(1, cut);
        AssertInOrder(run);
        await AssertEndedOnceAsync(s, id, proofs: 1);
        Assert.Equal(at != "discard", s.Driver.Instances.Count == 1);
    }

    [Fact]
    public async Task A_run_whose_driver_ended_under_it_waits_and_goes_on_where_there_is_one()
    {
        await using var s = await ActingServer.StartAsync();
        var gone = 0;
        s.Driver.Before = (what, _, _) => what == "open" && Interlocked.Exchange(ref gone, 1) == 0 ? throw new DriverGoneException("the engine's process ended") : Task.CompletedTask;
        var id = await s.RestoreAsync();
        var (row, run) = await s.IsAsync(id, RunState.Held);
        Assert.Equal(2, row.Fence);
        Assert.Equal(1, run.Plan.Steps.Where(x => x.Kind == "open").Sum(x => run[x.Number].Attempts));
    }
}
