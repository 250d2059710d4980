using Imbrek.Core.Runs;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>What starts is decided by one process, each occurrence once, also when the lead is lost by a process that goes on living.</summary>
public class DispatcherTests
{
    private static async Task<IReadOnlyList<RunRow>> RunsAsync(ActingServer s)
    {
        while (true)
        {
            try
            {
                await using var data = ImbrekDatabase.Context(s.Source);
                return await data.Runs.AsNoTracking().Where(r => r.Plan != null).OrderBy(r => r.Due).ToListAsync();
            }
            catch (InvalidOperationException e) when (e.InnerException is Npgsql.NpgsqlException)
            {
                // The connection cut was one of the pool that the test asks through.
            }
        }
    }

    private static async Task MinutesAsync(ActingServer s, int minutes)
    {
        for (var i = 0; i < minutes; i++)
        {
            var before = (await RunsAsync(s)).Count;
            s.Clock.Move(60);
            await Eventually.Async(async () => await RunsAsync(s) is var runs && runs.Count > before && runs.All(r => r.StateIs.IsOver()), what: () => "nothing was started, or does not end");
        }
    }

    private static async Task AssertEachOnceAsync(ActingServer s, int atLeast)
    {
        await Eventually.Async(async () => (await RunsAsync(s)).All(r => r.StateIs.IsOver()));
        var runs = await RunsAsync(s);
        Assert.True(runs.Count >= atLeast, $"only {runs.Count} runs");
        Assert.All(runs, r => Assert.Equal(RunState.Done, r.StateIs));
        Assert.Equal(runs.Count, runs.Select(r => r.Due).Distinct().Count());
        Assert.All(runs.Zip(runs.Skip(1)), p => Assert.Equal(Duration.FromMinutes(1), p.Second.Due - p.First.Due));

        // No set without its run, none taken twice.
        Assert.Equal(s.Driver.Taken.Values.Select(t => t.Id.Value).Order(), runs.Select(r => r.SetId!).Order());
        await using var data = ImbrekDatabase.Context(s.Source);
        Assert.Equal(runs.Count, await data.Sets.CountAsync(x => x.Id.StartsWith("taken-")));
    }

    private static Task<int> CutLeadAsync(ActingServer s) => ExecuteAsync(
        s, "select pg_terminate_backend(pid) from pg_locks where locktype = 'advisory' and granted and database = (select oid from pg_database where datname = current_database())");

    private static async Task<int> ExecuteAsync(ActingServer s, string sql)
    {
        await using var command = s.Source.CreateCommand(sql);
        return await command.ExecuteNonQueryAsync();
    }

    [Fact]
    public async Task A_lead_lost_without_a_dead_process_goes_to_another_and_each_occurrence_runs_once()
    {
        await using var one = await ActingServer.StartAsync();
        await one.PlanAsync();
        await one.DispatchAsync();
        await Eventually.Async(() => Task.FromResult(one.Dispatcher.Leads));
        await using var two = await one.PeerAsync();
        await two.DispatchAsync();
        await MinutesAsync(one, 3);
        Assert.False(two.Dispatcher.Leads);

        for (var i = 0; i < 3; i++)
        {
            await CutLeadAsync(one);
            await MinutesAsync(one, 2);
        }

        await Eventually.Async(() => Task.FromResult(one.Dispatcher.Leads != two.Dispatcher.Leads));
        await AssertEachOnceAsync(one, 9);
    }

    [Fact]
    public async Task What_another_has_decided_since_is_not_decided_again_by_who_still_believes_to_lead()
    {
        await using var one = await ActingServer.StartAsync();
        await one.PlanAsync();
        Assert.True(await one.Dispatcher.TryLeadAsync(default));
        await using var two = await one.PeerAsync();
        Assert.False(await two.Dispatcher.TryLeadAsync(default));

        // Its connection is gone, and it has not noticed: the other leads and decides.
        await CutLeadAsync(one);
        await Eventually.Async(() => two.Dispatcher.TryLeadAsync(default));
        one.Clock.Move(61);
        await two.Dispatcher.StepAsync(default);
        var decided = (await RunsAsync(one)).Count;
        Assert.True(decided > 0);
        await Assert.ThrowsAnyAsync<Exception>(() => one.Dispatcher.StepAsync(default));
        Assert.Equal(decided, (await RunsAsync(one)).Count);
        await one.Dispatcher.LeaveAsync();
        await AssertEachOnceAsync(two, decided);
    }

    [Fact]
    public async Task A_backup_that_hangs_first_thing_in_a_new_process_is_found_by_how_long_those_before_it_took()
    {
        await using var one = await ActingServer.StartAsync();
        await one.PlanAsync();
        Assert.True(await one.Dispatcher.TryLeadAsync(default));
        one.Clock.Move(61);
        await one.Dispatcher.StepAsync(default);
        await Eventually.Async(async () => await RunsAsync(one) is { Count: > 0 } runs && runs.All(r => r.StateIs == RunState.Done));
        var before = (await RunsAsync(one)).Count;
        await one.Dispatcher.LeaveAsync();
        await using var two = await one.PeerAsync();
        two.Driver.Before = (_, _, cancel) => new TaskCompletionSource().Task.WaitAsync(cancel);
        await Eventually.Async(() => two.Dispatcher.TryLeadAsync(default));
        two.Clock.Move(61);
        await two.Dispatcher.StepAsync(default);
        var hangs = (await RunsAsync(one))[before];
        Assert.True(hangs.ExpectedSeconds > 0);
        two.Clock.Move(7200);

        // Read again, as who follows does: what is under way stays so.
        await two.Health.LoadAsync(default);
        Assert.Contains(two.Health.Findings(two.Fleet.Fleet, two.Fleet.Fleet.DatabaseById[new("d")], two.Clock.GetCurrentInstant()), f => f.Code == "does-not-end" && f.Since == hangs.Started);
    }

    [Fact]
    public async Task What_was_due_in_a_long_absence_is_told_and_one_run_makes_up_for_it_where_the_task_says_so()
    {
        await using var s = await ActingServer.StartAsync();
        await s.PlanAsync();
        Assert.True(await s.Dispatcher.TryLeadAsync(default));
        s.Clock.Move(61);
        await s.Dispatcher.StepAsync(default);
        await Eventually.Async(async () => (await RunsAsync(s)).All(r => r.StateIs.IsOver()));
        var before = (await RunsAsync(s)).Count;
        await s.Dispatcher.LeaveAsync();

        s.Clock.Move(3600);

        // PostgreSQL lets go of the lock a moment after its connection has gone.
        await Eventually.Async(() => s.Dispatcher.TryLeadAsync(default));
        await s.Dispatcher.StepAsync(default);
        await Eventually.Async(async () => (await RunsAsync(s)).All(r => r.StateIs.IsOver()));
        var since = (await RunsAsync(s)).Skip(before).ToArray();
        Assert.InRange(since.Length, 10, 12);
        Assert.Equal(since.Length, since.Count(r => r.StateIs is RunState.LeftOut or RunState.Done));
        Assert.InRange(since.Count(r => r.StateIs == RunState.Done), 0, 2);
        Assert.All(since.Where(r => r.StateIs == RunState.LeftOut), r => Assert.Equal("it was due while nobody decided what starts", r.Note));
    }
}
