using Imbrek.Core.Drivers;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using Microsoft.Extensions.Logging;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Serving;

/// <summary>Watches the standbys of clusters: whoever receives a cluster's log looks at each of its standbys as often as the fleet says.</summary>
internal sealed class StandbyWatch(ClusterBook book, FleetState fleet, LagIntake intake, IClock clock, ILogger<StandbyWatch> log)
{
    private static readonly Duration StartedAgain = Duration.FromSeconds(5);
    private readonly OwnStandbys own = new(book, clock);
    private static readonly TimeSpan Step = TimeSpan.FromSeconds(0.5);

    /// <summary>Watches until it is told to stop.</summary>
    public async Task RunAsync(string database, CancellationToken cancel)
    {
        await using var eye = new StandbyEye(clock);
        var looked = new Dictionary<string, Instant>();
        var silent = new HashSet<string>();
        var (began, upAt) = (false, Instant.MinValue);
        using var timer = new PeriodicTimer(Step);
        try
        {
            while (await timer.WaitForNextTickAsync(cancel))
            {
                if (!book.All.TryGetValue(database, out var cluster) || !fleet.Has(database))
                {
                    continue;
                }

                if (clock.GetCurrentInstant() - upAt > StartedAgain)
                {
                    await UpAsync(cluster, cancel);
                    upAt = clock.GetCurrentInstant();
                }

                if (cluster.Standbys.Count == 0)
                {
                    continue;
                }

                if (!began)
                {
                    eye.Stood(book.Stood(new(database), clock.GetCurrentInstant() - StandbyEye.Known));
                    began = true;
                }

                var samples = new List<LagSample>();
                foreach (var standby in cluster.Standbys)
                {
                    var now = clock.GetCurrentInstant();
                    if (!fleet.Fleet.Replicas.TryGetValue(new(standby.Replica), out var replica)
                        || (looked.TryGetValue(standby.Replica, out var last) && now - last < Duration.FromSeconds(Math.Max(replica.WatchSeconds, 1)) - Duration.FromMilliseconds(100)))
                    {
                        continue;
                    }

                    looked[standby.Replica] = now;
                    try
                    {
                        if (await eye.LookAsync(cluster, standby, cancel) is { } sample)
                        {
                            samples.Add(sample);
                        }

                        silent.Remove(standby.Replica);
                    }
                    catch (Exception e) when (e is DriverException or NpgsqlException && !cancel.IsCancellationRequested)
                    {
                        // Who does not answer says nothing: it counts as cut off once looks are missed.
                        if (silent.Add(standby.Replica))
                        {
                            log.LogWarning("{Standby} cannot be looked at: {Reason}", standby.Replica, e.Message);
                        }
                    }
                }

                await TakeAsync(samples, cancel);
            }
        }
        catch (OperationCanceledException)
        {
            // It was told to stop.
        }
    }

    /// <summary>Starts engines of this server's making again that were stopped with their machine: its standbys, and its primary where one of them took over. What is to stand still does.</summary>
    private async Task UpAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        foreach (var engine in cluster.Standbys.Select(own.Find).Append(own.Primary(cluster)).OfType<Instance>().Where(e => !e.Now.Down && (e.Now.Follows is not null || e.Now.Promoted) && !e.Runs()))
        {
            try
            {
                log.LogInformation("The engine in {Folder} does not run, and is started", engine.Data);
                await engine.UpAsync(cancel);
            }
            catch (Exception e) when (e is DriverException or IOException && !cancel.IsCancellationRequested)
            {
                log.LogWarning("The engine in {Folder} cannot be started: {Reason}", engine.Data, e.Message);
            }
        }
    }

    private async Task TakeAsync(List<LagSample> samples, CancellationToken cancel)
    {
        if (samples.Count == 0)
        {
            return;
        }

        try
        {
            await intake.TakeAsync(samples, cancel);
        }
        catch (Exception e) when (e is NpgsqlException or InvalidOperationException or TimeoutException && !cancel.IsCancellationRequested)
        {
            log.LogWarning("What was seen of standbys cannot be kept for the moment: {Reason}", e.Message);
        }
    }
}
