using System.Collections.Concurrent;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Setup;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// Takes runs that wait, or whose process has gone, and carries them out. A lease in PostgreSQL says whose a run is; it is renewed
/// while the run goes on, so a run whose process was killed is free again within seconds.
/// </summary>
internal sealed class RunWorker(NpgsqlDataSource source, RunSignal signal, WorldHost world, LiveEvents live, RestoreRunner runner, ILogger<RunWorker> log) : BackgroundService
{
    private const int LeaseSeconds = 6;
    private const int AtOnce = 16;

    /// <summary>So many faults of ours in a row end a run: nothing repeats for ever.</summary>
    private const int MostFaults = 5;
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);
    private readonly ConcurrentDictionary<Guid, Task> running = new();
    private readonly ConcurrentDictionary<Guid, int> faults = new();

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                while (world.World is not null && running.Count < AtOnce && await ClaimAsync(stoppingToken) is { } id)
                {
                    running[id] = Task.Run(() => CarryOutAsync(id, stoppingToken), CancellationToken.None);
                }
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("Cannot look for runs: {Reason}", e.Message);
            }

            try
            {
                await signal.WaitAsync(Look, stoppingToken);
            }
            catch (OperationCanceledException)
            {
                break;
            }
        }

        await Task.WhenAll(running.Values);
    }

    private async Task<Guid?> ClaimAsync(CancellationToken cancel)
    {
        await using var command = source.CreateCommand(
            $"""
            update runs set lease_owner = $1, lease_until = now() + interval '{LeaseSeconds} seconds'
            where id = (
              select id from runs
              where state in ('Queued', 'Running', 'Releasing', 'Discarding', 'Cancelling') and (lease_until is null or lease_until < now())
              order by created_at limit 1 for update skip locked)
            returning id
            """);
        command.Parameters.AddWithValue(live.Process);
        return (Guid?)await command.ExecuteScalarAsync(cancel);
    }

    private async Task CarryOutAsync(Guid id, CancellationToken stopping)
    {
        using var lost = CancellationTokenSource.CreateLinkedTokenSource(stopping);
        using var cancelled = CancellationTokenSource.CreateLinkedTokenSource(lost.Token);
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(lost.Token);
        var keeping = KeepLeaseAsync(id, lost, cancelled, ended.Token);
        var giveBack = true;
        try
        {
            await runner.CarryOutAsync(id, cancelled.Token, lost.Token);
            faults.TryRemove(id, out _);
        }
        catch (Exception e) when (e is OperationCanceledException or RestoreRunner.LeaseLostException)
        {
            // Stopping, or the lease went to another process: what is kept is enough to go on from.
        }
        catch (Exception e)
        {
            // PostgreSQL gone, or a fault of ours: the lease runs out, and then the run is taken up again from its last step.
            giveBack = false;
            log.LogError(e, "Run {Run} was interrupted", id);
            if (e is not (NpgsqlException or ObjectDisposedException) && faults.AddOrUpdate(id, 1, (_, n) => n + 1) >= MostFaults)
            {
                giveBack = await TryGiveUpAsync(id, e.Message, lost.Token);
            }
        }
        finally
        {
            await ended.CancelAsync();
            await keeping;
            if (giveBack)
            {
                await GiveBackAsync(id);
            }

            running.TryRemove(id, out _);
        }
    }

    private async Task<bool> TryGiveUpAsync(Guid id, string why, CancellationToken stopping)
    {
        try
        {
            await runner.GiveUpAsync(id, why, stopping);
            faults.TryRemove(id, out _);
            return true;
        }
        catch (Exception e) when (!stopping.IsCancellationRequested)
        {
            log.LogError(e, "Run {Run} could not be given up either", id);
            return false;
        }
    }

    private async Task KeepLeaseAsync(Guid id, CancellationTokenSource lost, CancellationTokenSource cancelled, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(Look);
        var failing = 0;
        try
        {
            while (await timer.WaitForNextTickAsync(cancel))
            {
                try
                {
                    await using var command = source.CreateCommand(
                        $"update runs set lease_until = now() + interval '{LeaseSeconds} seconds' where id = $1 and lease_owner = $2 returning state");
                    command.Parameters.AddWithValue(id);
                    command.Parameters.AddWithValue(live.Process);
                    var state = (string?)await command.ExecuteScalarAsync(cancel);
                    failing = 0;
                    if (state is null)
                    {
                        await lost.CancelAsync();
                        return;
                    }

                    if (state == nameof(RunState.Cancelling))
                    {
                        await cancelled.CancelAsync();
                    }
                }
                catch (NpgsqlException) when (++failing < LeaseSeconds - 1)
                {
                    // PostgreSQL may be restarting; the lease still holds for a while.
                }
                catch (NpgsqlException)
                {
                    await lost.CancelAsync();
                    return;
                }
            }
        }
        catch (OperationCanceledException)
        {
        }
    }

    private async Task GiveBackAsync(Guid id)
    {
        try
        {
            await using var command = source.CreateCommand("update runs set lease_owner = null, lease_until = null where id = $1 and lease_owner = $2");
            command.Parameters.AddWithValue(id);
            command.Parameters.AddWithValue(live.Process);
            await command.ExecuteNonQueryAsync(CancellationToken.None);
        }
        catch (Exception e) when (e is NpgsqlException or InvalidOperationException)
        {
            log.LogDebug("Run {Run}: its lease will run out by itself ({Reason})", id, e.Message);
        }
    }
}
