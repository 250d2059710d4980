using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Npgsql;

namespace Imbrek.Demo;

/// <summary>Writes a trail into each cluster of the demo, some commits a second, for as long as it is there, by an address that leads to wherever it is the primary. See <see cref="Trail"/>.</summary>
internal sealed class TrailWorkload(IReadOnlyList<ClusterDemo.Made> clusters, IConfiguration configuration, ILogger<TrailWorkload> log) : BackgroundService
{
    private static readonly TimeSpan Step = TimeSpan.FromMilliseconds(120);
    private static readonly TimeSpan Again = TimeSpan.FromSeconds(2);

    /// <summary>Makes the table of the trail.</summary>
    public static async Task MakeAsync(ClusterDemo.Made cluster, CancellationToken cancel)
    {
        await using var connection = await OpenAsync(cluster, cancel);
        await using var make = new NpgsqlCommand(Trail.Make, connection);
        await make.ExecuteNonQueryAsync(cancel);
    }

    /// <inheritdoc/>
    protected override Task ExecuteAsync(CancellationToken stoppingToken) => Task.WhenAll(clusters.Select(async c =>
    {
        if (ClientAddresses.Of(configuration) is not { } addresses)
        {
            await WalkAsync(c, stoppingToken);
            return;
        }

        await using var relay = await AddressRelay.StartAsync(addresses, c.Name, c.Port, stoppingToken);
        await WalkAsync(c with { Port = relay.Port }, stoppingToken);
    }));

    private async Task WalkAsync(ClusterDemo.Made cluster, CancellationToken cancel)
    {
        var told = false;
        while (!cancel.IsCancellationRequested)
        {
            try
            {
                await using var connection = await OpenAsync(cluster, cancel);
                await using var walk = new NpgsqlCommand("select imbrek_walk()", connection);
                using var timer = new PeriodicTimer(Step);
                while (await timer.WaitForNextTickAsync(cancel))
                {
                    await walk.ExecuteScalarAsync(cancel);
                    told = false;
                }
            }
            catch (Exception e) when (e is NpgsqlException or IOException or InvalidOperationException or OperationCanceledException)
            {
                if (cancel.IsCancellationRequested)
                {
                    return;
                }

                if (!told)
                {
                    log.LogWarning("Nothing writes to {Cluster} for the moment: {Reason}", cluster.Name, e.Message);
                    told = true;
                }

                using var pause = new PeriodicTimer(Again);
                try
                {
                    await pause.WaitForNextTickAsync(cancel);
                }
                catch (OperationCanceledException)
                {
                    return;
                }
            }
        }
    }

    private static async Task<NpgsqlConnection> OpenAsync(ClusterDemo.Made cluster, CancellationToken cancel)
    {
        var connection = new NpgsqlConnection(new NpgsqlConnectionStringBuilder
        {
            Host = "127.0.0.1",
            Port = cluster.Port,
            Username = "owner",
            Password = Credentials.Of("owner"),
            Database = "postgres",
            Pooling = false,
            ApplicationName = "trail",
            Timeout = 5,
        }.ConnectionString);
        await connection.OpenAsync(cancel);
        return connection;
    }
}
