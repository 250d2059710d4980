using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Metrics;
using Imbrek.Server.Features.Setup;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;
using Host = Imbrek.Core.Fleet.Host;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// Carries one restore out, step by step. Each transition is kept in PostgreSQL before the next begins; every step is idempotent,
/// so whatever happened to the process before, going through the steps again completes the run or undoes it.
/// </summary>
internal sealed class RestoreRunner(NpgsqlDataSource source, WorldHost world, FleetState fleet, IClock clock, Peers peers, ProductMetrics metrics, LiveEvents live, ILogger<RestoreRunner> log)
{
    private const int MaxOtherPaths = 8;

    /// <summary>How often a driver is asked to let clients in, or to clean up, before somebody is told that it refuses.</summary>
    private const int MostAsked = 4;
    private static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(250);

    /// <summary>What a run measured; kept as its result.</summary>
    public sealed record Measured(
        double DataLostSeconds, double SecondsToReady, double? HoldSeconds, double? SecondsToService, double ServiceSeconds, IReadOnlyList<CheckResult> Checks);

    /// <summary>Another process has taken the run: nothing of it may be touched any more, which is no cancellation that has it cleaned up.</summary>
    public sealed class LeaseLostException() : Exception("another process has taken the run");

    /// <summary>Carries a run out until it is held or has ended.</summary>
    /// <param name="id">The run.</param>
    /// <param name="cancelled">Somebody cancelled it.</param>
    /// <param name="stopping">The process stops or has lost the lease: nothing more may be touched.</param>
    /// <exception cref="LeaseLostException">Another process has taken the run.</exception>
    public async Task CarryOutAsync(Guid id, CancellationToken cancelled, CancellationToken stopping)
    {
        await using var data = ImbrekDatabase.Context(source);
        var run = await data.Runs.Include(r => r.Steps.OrderBy(s => s.Ordinal)).SingleAsync(r => r.Id == id, stopping);
        var driver = world.Driver ?? throw new InvalidOperationException("no driver can be reached from this process");
        var instance = new InstanceSpec(run.Instance, new(run.Database), new(run.Host), run.Id.ToString("n"));
        using var engaged = world.World!.Engage();
        log.LogInformation("Run {Run}: {State}", id, run.State);
        switch (run.State)
        {
            case RunState.Queued or RunState.Running:
                await ForwardAsync(data, run, driver, instance, cancelled, stopping);
                break;
            case RunState.Releasing:
                await ReleaseAsync(data, run, driver, instance, cancelled, stopping);
                break;
            case RunState.Discarding:
                var released = run.EndedAt is not null;
                var left = await RefusedAsync(() => driver.DiscardAsync(instance, stopping), stopping);
                await EndAsync(
                    data, run, left is null ? RunState.Discarded : RunState.Failed, left is null ? released ? "its instance was removed" : "checked, then thrown away" : Left(run, left), proof: left is null && !released, stopping);
                break;
            case RunState.Cancelling:
                await CleanUpAsync(data, run, driver, instance, RunState.Cancelled, "cancelled; nothing was left behind", stopping);
                break;
        }
    }

    private async Task ForwardAsync(ImbrekContext data, RunRow run, IRestoreDriver driver, InstanceSpec instance, CancellationToken cancelled, CancellationToken stopping)
    {
        if (run.State == RunState.Queued)
        {
            // Compared and set: who cancelled it while it was claimed has cancelled it.
            var started = clock.GetCurrentInstant();
            var begun = await data.Runs.Where(r => r.Id == run.Id && r.State == RunState.Queued && r.LeaseOwner == live.Process)
                .ExecuteUpdateAsync(u => u.SetProperty(r => r.State, RunState.Running).SetProperty(r => r.StartedAt, started), stopping);
            if (begun == 0)
            {
                return;
            }

            await data.Entry(run).ReloadAsync(stopping);
            await peers.TellAsync([], [run.Id], stopping);
        }

        foreach (var cut in run.Steps.Where(s => s.State == StepState.Running))
        {
            cut.Note = "taken up again: the server process that was at it ended";
        }

        while (NextStep(run) is { } step)
        {
            if (step.Kind == "hold")
            {
                await HoldAsync(data, run, step, stopping);
                return;
            }

            step.State = StepState.Running;
            step.StartedAt ??= clock.GetCurrentInstant();
            step.Attempts++;
            await SaveAsync(data, run, stopping);
            try
            {
                await DoAsync(data, run, step, driver, instance, cancelled);
            }
            catch (OperationCanceledException) when (!stopping.IsCancellationRequested)
            {
                // Who cancelled stands in PostgreSQL only.
                run.DecidedBy = await data.Runs.AsNoTracking().Where(r => r.Id == run.Id).Select(r => r.DecidedBy).SingleAsync(stopping);
                await CleanUpAsync(data, run, driver, instance, RunState.Cancelled, "cancelled; nothing was left behind", stopping);
                return;
            }
            catch (DriverException e) when (e.Problem is DriverProblem.CopyDamaged or DriverProblem.CopyUnreachable && e.Copy is not null)
            {
                if (!await TakeOtherPathAsync(data, run, step, driver, instance, e, stopping))
                {
                    return;
                }

                continue;
            }
            catch (DriverException e)
            {
                step.State = StepState.Failed;
                step.Note = e.Message;
                await CleanUpAsync(data, run, driver, instance, RunState.Failed, e.Message, stopping);
                return;
            }

            step.State = StepState.Done;
            step.Progress = 1;
            step.EndedAt = clock.GetCurrentInstant();
            await SaveAsync(data, run, stopping);
        }
    }

    private static StepRow? NextStep(RunRow run) => run.Steps
        .Where(s => s.State is StepState.Waiting or StepState.Running)
        .FirstOrDefault(s => s.After.All(a => run.Steps.Find(o => o.Ordinal == a) is { State: StepState.Done }));

    private async Task DoAsync(ImbrekContext data, RunRow run, StepRow step, IRestoreDriver driver, InstanceSpec instance, CancellationToken cancel)
    {
        var work = RunJson.Read<RestorePlan.Work>(step.Work);
        var began = clock.GetCurrentInstant();
        switch (step.Kind)
        {
            case "provision":
                await driver.ProvisionAsync(instance, cancel);
                break;
            case "restore":
                await driver.RestoreSetAsync(instance, new SetCopy(new(work.Pieces[0].Set), new(work.Pieces[0].Store)), cancel);
                Learn();
                break;
            case "logs":
                var shown = 0.0;
                await driver.ApplyLogsAsync(
                    instance,
                    [.. work.Pieces.Select(p => new SetCopy(new(p.Set), new(p.Store)))],
                    work.StopAt,
                    applied =>
                    {
                        step.Progress = (double)applied / work.Pieces.Count;
                        if (step.Progress - shown >= 0.1)
                        {
                            shown = step.Progress;
                            _ = ShowProgressAsync(run.Id, step.Ordinal, step.Progress);
                        }
                    },
                    cancel);
                Learn();
                break;
            case "open":
                await driver.OpenAsync(instance, cancel);
                break;
            case "check":
                var plan = RunJson.Read<RestorePlan.Planned>(run.Plan);
                var asked = RunJson.Read<RestorePlan.Asked>(run.Request);
                var checks = await driver.CheckAsync(instance, plan.Reaches, asked.Query, cancel);
                run.ReadyAt = clock.GetCurrentInstant();
                run.Result = JsonSerializer.Serialize(Measure(run, plan, asked, checks, run.ReadyAt.Value, null), RunJson.Options);
                var bad = checks.Count(c => !c.Passed);
                step.Note = bad == 0 ? $"{checks.Count} checks passed" : $"{bad} of {checks.Count} checks did not pass";
                break;
        }

        // Learned only from what was done in one go by one process: a step taken up again, or one that goes on where another copy failed, says
        // nothing of its speed.
        void Learn()
        {
            var profile = work.Pieces.Sum(p => p.ProfileSeconds);
            var actual = (clock.GetCurrentInstant() - began).TotalSeconds;
            if (step.Attempts == 1 && profile > 0 && actual > 0 && run.Steps.TrueForAll(s => s.State != StepState.Failed))
            {
                foreach (var store in work.Pieces.Select(p => p.Store).Distinct())
                {
                    data.Paces.Add(new PaceRow { Database = run.Database, Store = store, Host = run.Host, ProfileSeconds = profile, ActualSeconds = actual });
                }
            }
        }
    }

    private async Task ShowProgressAsync(Guid run, int ordinal, double progress)
    {
        try
        {
            await using var command = source.CreateCommand("update run_steps set progress = $3 where run_id = $1 and ordinal = $2 and progress < $3");
            command.Parameters.AddWithValue(run);
            command.Parameters.AddWithValue(ordinal);
            command.Parameters.AddWithValue(progress);
            await command.ExecuteNonQueryAsync();
            await peers.TellAsync([], [run], CancellationToken.None);
        }
        catch (NpgsqlException e)
        {
            log.LogDebug("Progress of run {Run} not shown: {Reason}", run, e.Message);
        }
    }

    /// <summary>A copy failed: goes on with the next one, or with another chain, if it reaches as late as was promised; otherwise ends cleaned up.</summary>
    private async Task<bool> TakeOtherPathAsync(
        ImbrekContext data, RunRow run, StepRow step, IRestoreDriver driver, InstanceSpec instance, DriverException failure, CancellationToken stopping)
    {
        var plan = RunJson.Read<RestorePlan.Planned>(run.Plan);
        var asked = RunJson.Read<RestorePlan.Asked>(run.Request);
        var avoided = plan.Avoided.Append($"{failure.Copy!.Set}@{failure.Copy.Store}").ToArray();
        var db = fleet[run.Database];
        Loss.TryParse(asked.Loss, fleet.Fleet, out var loss, out _);
        var answer = PathFinder.Find(db.Subject, new PathQuestion
        {
            Target = asked.Target,
            At = clock.GetCurrentInstant(),
            Loss = loss,
            Choice = new(new Id<Host>(run.Host), null, asked.Without is null ? null : new(asked.Without)),
            Learned = db.Learned,
            Except = (set, store) => avoided.Contains($"{set}@{store}"),
        });
        if (avoided.Length > MaxOtherPaths || answer.Best is not { } path || path.Reaches < plan.Reaches)
        {
            step.State = StepState.Failed;
            step.Note = failure.Message;
            var why = answer.Best is null ? $"no other path is left ({answer.Reason})" : $"the next path reaches only {Instants.Write(answer.Best.Reaches)}, which is for people to decide";
            await CleanUpAsync(data, run, driver, instance, RunState.Failed, $"{failure.Message}; {why}", stopping);
            return false;
        }

        // The same sets from other stores: what is restored already stays. Another chain: begin anew.
        var before = run.Steps.Where(s => s == step || s.State is not (StepState.Undone or StepState.Skipped or StepState.Failed))
            .SelectMany(s => RunJson.Read<RestorePlan.Work>(s.Work).Pieces).Select(p => p.Set);
        var same = before.SequenceEqual(path.Steps.Select(s => s.Set.Value));
        step.State = StepState.Failed;
        step.EndedAt = clock.GetCurrentInstant();
        step.Note = $"{failure.Message}; going on with {(same ? "another copy" : "another chain")}";
        if (!same)
        {
            await driver.DiscardAsync(instance, stopping);
        }

        foreach (var s in run.Steps.Where(s => s.State is StepState.Waiting or StepState.Done))
        {
            s.State = s.State == StepState.Waiting ? StepState.Skipped : StepState.Undone;
            s.Note ??= same ? "its part is taken over below" : "taken back: another chain is used";
        }

        RestorePlan.SetPath(run, db.Subject.Database, path, avoided);
        await SaveAsync(data, run, stopping);
        return true;
    }

    private async Task HoldAsync(ImbrekContext data, RunRow run, StepRow step, CancellationToken stopping)
    {
        step.State = StepState.Running;
        step.StartedAt ??= clock.GetCurrentInstant();

        // Somebody may have cancelled since; then that stands.
        await SaveAsync(data, run, stopping);
        await data.Runs.Where(r => r.Id == run.Id && r.State == RunState.Running)
            .ExecuteUpdateAsync(u => u.SetProperty(r => r.State, RunState.Held).SetProperty(r => r.Message, "ready and checked; nobody is let in until it is released"), stopping);
        await peers.TellAsync([], [run.Id], stopping);
    }

    private async Task ReleaseAsync(ImbrekContext data, RunRow run, IRestoreDriver driver, InstanceSpec instance, CancellationToken cancelled, CancellationToken stopping)
    {
        var release = run.Steps.Last(s => s.Kind == "release");
        var hold = run.Steps.Last(s => s.Kind == "hold");
        hold.State = StepState.Done;
        hold.EndedAt ??= clock.GetCurrentInstant();
        release.State = StepState.Running;
        release.StartedAt ??= clock.GetCurrentInstant();
        await SaveAsync(data, run, stopping);
        try
        {
            if (await RefusedAsync(() => driver.ReleaseAsync(instance, cancelled), cancelled) is { } why)
            {
                // It is as it was; people decide again.
                release.State = StepState.Waiting;
                release.Note = why;
                hold.State = StepState.Running;
                hold.EndedAt = null;
                await SaveAsync(data, run, stopping);
                await data.Runs.Where(r => r.Id == run.Id && r.State == RunState.Releasing)
                    .ExecuteUpdateAsync(u => u.SetProperty(r => r.State, RunState.Held).SetProperty(r => r.Message, $"clients could not be let in: {why}; release it again, or throw it away"), stopping);
                await peers.TellAsync([], [run.Id], stopping);
                return;
            }
        }
        catch (OperationCanceledException) when (!stopping.IsCancellationRequested)
        {
            run.DecidedBy = await data.Runs.AsNoTracking().Where(r => r.Id == run.Id).Select(r => r.DecidedBy).SingleAsync(stopping);
            await CleanUpAsync(data, run, driver, instance, RunState.Cancelled, "cancelled while clients were being let in; nothing was left behind", stopping);
            return;
        }

        release.State = StepState.Done;
        release.Progress = 1;
        release.EndedAt = clock.GetCurrentInstant();
        await EndAsync(data, run, RunState.Released, "released; clients are let in", proof: true, stopping);
    }

    private async Task CleanUpAsync(ImbrekContext data, RunRow run, IRestoreDriver driver, InstanceSpec instance, RunState end, string message, CancellationToken stopping)
    {
        var left = await RefusedAsync(() => driver.DiscardAsync(instance, stopping), stopping);
        foreach (var s in run.Steps.Where(s => s.State is StepState.Done or StepState.Running or StepState.Waiting))
        {
            s.State = s.State == StepState.Waiting ? StepState.Skipped : left is null ? StepState.Undone : s.State == StepState.Running ? StepState.Failed : s.State;
        }

        await EndAsync(data, run, left is null ? end : RunState.Failed, left is null ? message : $"{message}; {Left(run, left)}", proof: false, stopping);
    }

    /// <summary>Asks a driver, again after growing pauses when it refuses; says why it refuses when it goes on doing so.</summary>
    private static async Task<string?> RefusedAsync(Func<Task> ask, CancellationToken cancel)
    {
        var pause = FirstPause;
        for (var asked = 1; ; asked++)
        {
            try
            {
                await ask();
                return null;
            }
            catch (DriverException e) when (asked == MostAsked)
            {
                return e.Message;
            }
            catch (DriverException)
            {
                using var timer = new PeriodicTimer(pause);
                await timer.WaitForNextTickAsync(cancel);
                pause *= 4;
            }
        }
    }

    private static string Left(RunRow run, string why) => $"instance {run.Instance} could not be removed from {run.Host} and may still be there: {why}";

    /// <summary>Ends a run: its state, its proof and its entry in the ledger, all or nothing.</summary>
    private async Task EndAsync(ImbrekContext data, RunRow run, RunState end, string message, bool proof, CancellationToken stopping)
    {
        var now = clock.GetCurrentInstant();
        var plan = RunJson.Read<RestorePlan.Planned>(run.Plan);
        var asked = RunJson.Read<RestorePlan.Asked>(run.Request);
        var measured = run.Result is null ? null : RunJson.Read<Measured>(run.Result);
        await using var transaction = await data.Database.BeginTransactionAsync(stopping);
        run.State = end;
        run.EndedAt = now;
        run.Message = message;
        if (measured is { SecondsToService: null } && run.ReadyAt is { } ready)
        {
            measured = Measure(run, plan, asked, measured.Checks, ready, end == RunState.Released ? now : null);
            run.Result = JsonSerializer.Serialize(measured, RunJson.Options);
        }

        await HoldsLeaseAsync(data, run, stopping);
        var number = await LedgerTable.AppendAsync(data, now, run.DecidedBy ?? run.CreatedBy, "restore", run.Database, Body(run, plan, asked, measured), stopping);
        if (proof && measured is not null)
        {
            var database = fleet.Fleet.DatabaseById[new(run.Database)];
            data.Proofs.Add(new ProofRow
            {
                Database = run.Database,
                At = now,
                LostSeconds = measured.DataLostSeconds,
                ServiceSeconds = measured.ServiceSeconds,
                Passed = measured.Checks.All(c => c.Passed),
                SizeBytes = database.SizeBytes,
                Version = database.Version,
                Loss = asked.Loss,
                Host = run.Host,
                RunId = run.Id,
                LedgerNumber = number,
            });
        }

        await data.SaveChangesAsync(stopping);
        await transaction.CommitAsync(stopping);
        metrics.Ended(run.Kind, Core.Formats.PlanFile.Name(end));
        await fleet.LoadProofsAsync(data, [run.Database], stopping);
        await peers.TellAsync([run.Database], [run.Id], stopping);
        log.LogInformation("Run {Run}: {State}: {Message}", run.Id, end, message);
    }

    private Measured Measure(RunRow run, RestorePlan.Planned plan, RestorePlan.Asked asked, IReadOnlyList<CheckResult> checks, Instant ready, Instant? served)
    {
        var d = fleet.Fleet.DatabaseById[new(run.Database)];
        var started = run.StartedAt ?? run.CreatedAt;
        var toReady = (ready - started).TotalSeconds;
        var decided = run.Steps.LastOrDefault(s => s.Kind == "hold")?.EndedAt;
        return new Measured(
            (asked.Target - plan.Reaches).TotalSeconds,
            toReady,
            decided is { } at ? (at - ready).TotalSeconds : null,
            served is { } s ? (s - started).TotalSeconds : null,
            d.DetectSeconds + d.DecideSeconds + toReady + d.RedirectSeconds,
            checks);
    }

    private static string Body(RunRow run, RestorePlan.Planned plan, RestorePlan.Asked asked, Measured? measured) => JsonSerializer.Serialize(
        new
        {
            run = run.Id,
            outcome = run.State.ToString().ToLowerInvariant(),
            why = run.Message,
            begunBy = run.CreatedBy,
            premise = new { loss = asked.Loss, at = Instants.Write(asked.At) },
            target = Instants.Write(asked.Target),
            host = run.Host,
            instance = run.Instance,
            copies = run.Steps.Where(s => s.State == StepState.Done).SelectMany(s => RunJson.Read<RestorePlan.Work>(s.Work).Pieces).Select(p => $"{p.Set}@{p.Store}"),
            planned = new { reaches = Instants.Write(plan.Reaches), lostSeconds = plan.LostSeconds, seconds = plan.Seconds, serviceSeconds = plan.ServiceSeconds, source = plan.Source },
            measured = measured is null
                ? null
                : new
                {
                    dataLostSeconds = measured.DataLostSeconds,
                    secondsToReady = measured.SecondsToReady,
                    holdSeconds = measured.HoldSeconds,
                    secondsToService = measured.SecondsToService,
                    serviceSecondsWithoutHold = measured.ServiceSeconds,
                    checks = measured.Checks.Select(c => new { name = c.Name, passed = c.Passed, detail = c.Detail }),
                },
        },
        RunJson.Options);

    /// <summary>Makes sure that the run is still this process's, and that nobody takes it before the transaction ends.</summary>
    /// <exception cref="LeaseLostException">Another process has it: nothing is written.</exception>
    private async Task HoldsLeaseAsync(ImbrekContext data, RunRow run, CancellationToken cancel)
    {
        var held = await data.Database.SqlQuery<Guid>($"select id as \"Value\" from runs where id = {run.Id} and lease_owner = {live.Process} for update").ToListAsync(cancel);
        if (held.Count == 0)
        {
            throw new LeaseLostException();
        }
    }

    /// <summary>Ends a run that fails again and again for reasons of ours, visibly.</summary>
    public async Task GiveUpAsync(Guid id, string why, CancellationToken stopping)
    {
        await using var data = ImbrekDatabase.Context(source);
        var run = await data.Runs.Include(r => r.Steps.OrderBy(s => s.Ordinal)).SingleAsync(r => r.Id == id, stopping);
        foreach (var s in run.Steps.Where(s => s.State == StepState.Running))
        {
            s.State = StepState.Failed;
            s.Note = why;
        }

        await EndAsync(data, run, RunState.Failed, $"given up: {why}; {Left(run, "nobody could look")}", proof: false, stopping);
    }

    /// <summary>Keeps steps and the run's own columns, but never its state when somebody else has changed that meanwhile.</summary>
    private async Task SaveAsync(ImbrekContext data, RunRow run, CancellationToken cancel)
    {
        foreach (var step in run.Steps.Where(s => data.Entry(s).State == EntityState.Detached))
        {
            data.Steps.Add(step);
        }

        await using (var transaction = await data.Database.BeginTransactionAsync(cancel))
        {
            await HoldsLeaseAsync(data, run, cancel);
            await data.SaveChangesAsync(cancel);
            await transaction.CommitAsync(cancel);
        }

        await peers.TellAsync([], [run.Id], cancel);
    }
}
