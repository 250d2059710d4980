using System.Collections.Concurrent;
using System.Threading.Channels;
using Imbrek.Core.Drivers;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// Takes up runs that wait, or whose process has gone, and carries them out. A lease in PostgreSQL says whose a run is; it is renewed
/// while the run goes on, so a run whose process was killed is free again within seconds.
/// </summary>
internal sealed class RunWorker(RunStore store, Runner runner, Drivers drivers, Peers peers, ILogger<RunWorker> log) : BackgroundService
{
    private const int AtOnce = 64;

    /// <summary>So many faults of ours in a row end a run: nothing repeats for ever.</summary>
    private const int MostFaults = 5;
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);
    private readonly ConcurrentDictionary<Guid, Going> going = new();
    private readonly ConcurrentDictionary<Guid, int> faults = new();
    private readonly SemaphoreSlim wake = new(0, 1);
    private CancellationToken ending;

    /// <summary>A run that this process carries out.</summary>
    private sealed class Going(RunStore.Claimed claimed, RunRow? begun, CancellationTokenSource lost)
    {
        public RunRow? Begun { get; } = begun;

        public RunStore.Claimed Claimed { get; set; } = claimed;

        public CancellationTokenSource Lost { get; } = lost;

        public Channel<Runner.News> News { get; } = Channel.CreateUnbounded<Runner.News>();

        /// <summary>How often people had decided something, as far as this process knows.</summary>
        public int Said { get; set; }

        public Task? Task { get; set; }
    }

    /// <summary>Has this process look at once: at runs that people decided about, and for those that wait.</summary>
    public void Wake(params IEnumerable<Guid> runs)
    {
        foreach (var run in runs)
        {
            if (going.TryGetValue(run, out var g))
            {
                g.News.Writer.TryWrite(new Runner.News.Decided());
            }
        }

        if (wake.CurrentCount == 0)
        {
            try
            {
                wake.Release();
            }
            catch (SemaphoreFullException)
            {
                // Somebody else woke it in the same moment.
            }
        }
    }

    /// <summary>Carries out runs that this process has just begun, whose leases it has.</summary>
    public void Begin(IEnumerable<RunRow> begun)
    {
        foreach (var row in begun)
        {
            var g = going[row.Id] = new Going(new(row.Id, row.Fence), row, CancellationTokenSource.CreateLinkedTokenSource(ending));
            g.Task = Task.Run(() => CarryOutAsync(g, ending), CancellationToken.None);
        }
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        ending = stoppingToken;
        peers.Heard += news => Wake(news.Runs);
        var keeping = KeepLeasesAsync(stoppingToken);
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                while (AtOnce - going.Values.Count(g => g.Begun is null) is > 0 and var free && drivers.Here is { Length: > 0 } here && await store.ClaimAsync(here, free, stoppingToken) is { Count: > 0 } claimed)
                {
                    foreach (var run in claimed)
                    {
                        // One whose lease ran out here while PostgreSQL was away: what still goes on of it has the old fence.
                        if (going.TryRemove(run.Id, out var before))
                        {
                            await before.Lost.CancelAsync();
                        }

                        var g = going[run.Id] = new Going(run, null, CancellationTokenSource.CreateLinkedTokenSource(stoppingToken));
                        g.Task = Task.Run(() => CarryOutAsync(g, stoppingToken), CancellationToken.None);
                    }
                }
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("Cannot look for runs: {Reason}", e.Message);
            }

            try
            {
                await wake.WaitAsync(Look, stoppingToken);
            }
            catch (OperationCanceledException)
            {
                break;
            }
        }

        await Task.WhenAll(going.Values.Select(g => g.Task ?? Task.CompletedTask));
        await keeping;
    }

    private async Task CarryOutAsync(Going g, CancellationToken stopping)
    {
        var id = g.Claimed.Id;
        var giveBack = true;
        try
        {
            giveBack = !await runner.CarryOutAsync(g.Claimed, g.News, raised => g.Claimed = raised, g.Begun, g.Lost.Token);
            faults.TryRemove(id, out _);
        }
        catch (Exception e) when (e is OperationCanceledException or LeaseLostException)
        {
            // Stopping, or the lease went to another process: what is kept is enough to go on from.
        }
        catch (DriverGoneException e)
        {
            log.LogInformation("Run {Run} waits to be taken up again: {Reason}", id, e.Message);
        }
        catch (Exception e)
        {
            // PostgreSQL gone, or a fault of ours: the lease runs out, and then the run is taken up again from its last step.
            giveBack = false;
            log.LogError(e, "Run {Run} was interrupted", id);
            if (e is not NpgsqlException && e.InnerException is not NpgsqlException && faults.AddOrUpdate(id, 1, (_, n) => n + 1) >= MostFaults)
            {
                giveBack = await TryGiveUpAsync(g, e.Message, stopping);
            }
        }

        try
        {
            if (giveBack)
            {
                await store.GiveBackAsync(g.Claimed, CancellationToken.None);
            }
        }
        catch (Exception e) when (e is NpgsqlException or InvalidOperationException)
        {
            log.LogDebug("Run {Run}: its lease will run out by itself ({Reason})", id, e.Message);
        }

        going.TryRemove(KeyValuePair.Create(id, g));
        g.Lost.Dispose();

        // What people decided while it was being given back waits for nobody's next look, nor does a run for which there was no place.
        if (giveBack || g.Begun is null)
        {
            Wake();
        }
    }

    private async Task<bool> TryGiveUpAsync(Going g, string why, CancellationToken stopping)
    {
        try
        {
            await runner.GiveUpAsync(g.Claimed, why, stopping);
            faults.TryRemove(g.Claimed.Id, out _);
            return true;
        }
        catch (Exception e) when (!stopping.IsCancellationRequested)
        {
            log.LogError(e, "Run {Run} could not be given up either", g.Claimed.Id);
            return false;
        }
    }

    /// <summary>Renews all leases in one statement a second; who has lost one stops, and who has news of people looks.</summary>
    private async Task KeepLeasesAsync(CancellationToken stopping)
    {
        using var timer = new PeriodicTimer(Look);
        var failing = 0;
        try
        {
            while (await timer.WaitForNextTickAsync(stopping))
            {
                var held = going.Values.Select(g => (Going: g, g.Claimed)).ToArray();
                if (held.Length == 0)
                {
                    failing = 0;
                    continue;
                }

                try
                {
                    var still = await store.RenewAsync(held.ToDictionary(h => h.Claimed.Id, h => h.Claimed.Fence), stopping);
                    failing = 0;
                    foreach (var (g, claimed) in held)
                    {
                        if (still.TryGetValue(claimed.Id, out var said))
                        {
                            if (said > g.Said)
                            {
                                g.Said = said;
                                g.News.Writer.TryWrite(new Runner.News.Decided());
                            }
                        }
                        else if (g.Claimed == claimed)
                        {
                            await LoseAsync(g);
                        }
                    }
                }
                catch (Exception e) when (e is NpgsqlException or InvalidOperationException or TimeoutException)
                {
                    // PostgreSQL may be restarting; the leases still hold for a while.
                    if (++failing >= RunStore.LeaseSeconds - 1)
                    {
                        foreach (var (g, _) in held)
                        {
                            await LoseAsync(g);
                        }
                    }
                }
            }
        }
        catch (OperationCanceledException)
        {
        }
    }

    private async Task LoseAsync(Going g)
    {
        if (going.TryGetValue(g.Claimed.Id, out var now) && now == g)
        {
            try
            {
                await g.Lost.CancelAsync();
            }
            catch (ObjectDisposedException)
            {
                // It ended meanwhile.
            }
        }
    }
}
