using System.Text.Json;
using Imbrek.Server.State;
using Npgsql;

namespace Imbrek.Server.Features.Live;

/// <summary>News between server processes, by LISTEN and NOTIFY.</summary>
internal sealed class Peers(NpgsqlDataSource source, LiveEvents live, FleetState fleet, ILogger<Peers> log) : BackgroundService
{
    private const string Channel = "imbrek";

    /// <summary>What one process tells the others.</summary>
    public sealed record News(string From, string[] Databases, Guid[] Runs, bool Fleet);

    /// <summary>Raised when another process told something, after this one has taken it over.</summary>
    public event Action<News>? Heard;

    /// <summary>Tells the other processes and everybody who listens on this one.</summary>
    public async Task TellAsync(IReadOnlyCollection<string> databases, IReadOnlyCollection<Guid> runs, bool fleetChanged, CancellationToken cancel)
    {
        live.Changed(databases, runs, fleetChanged);

        // NOTIFY carries at most 8000 bytes; more databases than fit are better read as a whole.
        var many = databases.Count > 100;
        var news = new News(live.Process, many ? [] : [.. databases], [.. runs], fleetChanged || many);
        await using var command = source.CreateCommand("select pg_notify($1, $2)");
        command.Parameters.AddWithValue(Channel);
        command.Parameters.AddWithValue(JsonSerializer.Serialize(news));
        await command.ExecuteNonQueryAsync(cancel);
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var first = true;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await using var connection = await source.OpenConnectionAsync(stoppingToken);
                var heard = System.Threading.Channels.Channel.CreateUnbounded<News>();
                connection.Notification += (_, e) =>
                {
                    if (JsonSerializer.Deserialize<News>(e.Payload) is { } news && news.From != live.Process)
                    {
                        heard.Writer.TryWrite(news);
                    }
                };
                await using (var listen = new NpgsqlCommand($"listen {Channel}", connection))
                {
                    await listen.ExecuteNonQueryAsync(stoppingToken);
                }

                // What was told while nobody listened is lost, also what was told between the start of this process and now.
                if (first)
                {
                    await fleet.LoadPlansAsync(stoppingToken);
                }
                else
                {
                    await fleet.LoadAsync(stoppingToken);
                }

                first = false;
                Heard?.Invoke(new News("", [], [default], true));
                while (true)
                {
                    await connection.WaitAsync(stoppingToken);
                    while (heard.Reader.TryRead(out var news))
                    {
                        if (news.Fleet)
                        {
                            await fleet.LoadAsync(stoppingToken);
                        }
                        else if (news.Databases.Length > 0)
                        {
                            await fleet.ReloadAsync(news.Databases, stoppingToken);
                        }

                        Heard?.Invoke(news);
                        live.Changed(news.Databases, news.Runs, news.Fleet);
                    }
                }
            }
            catch (Exception e) when (e is NpgsqlException or IOException or InvalidOperationException && !stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("Lost the connection that listens for news: {Reason}", e.Message);
                await Task.Delay(TimeSpan.FromSeconds(1), stoppingToken);
            }
        }
    }
}
