using System.Text.Json;
using System.Text.Json.Serialization;
using System.Threading.Channels;
using Imbrek.Data;
using Imbrek.Server.State;
using Npgsql;

namespace Imbrek.Server.Features.Live;

/// <summary>News between server processes, by LISTEN and NOTIFY.</summary>
internal sealed class Peers(NpgsqlDataSource source, LiveEvents live, FleetState fleet, ILogger<Peers> log) : BackgroundService
{
    /// <summary>The channel.</summary>
    public const string Name = "imbrek";

    /// <summary>NOTIFY carries at most 8000 bytes.</summary>
    private const int MostAtOnce = 100;

    private readonly Channel<News> heard = Channel.CreateUnbounded<News>();
    private NpgsqlConnection? listening;

    /// <summary>What one process tells the others.</summary>
    /// <param name="From">Which process.</param>
    /// <param name="Databases">Whose catalogue or proofs changed.</param>
    /// <param name="Runs">Which restores or runs of tasks changed.</param>
    /// <param name="Changed">What else changed.</param>
    /// <param name="EndedSessions">Sessions that ended.</param>
    public sealed record News(string From, string[] Databases, Guid[] Runs, Shared Changed = Shared.Nothing, string[]? EndedSessions = null);

    /// <summary>What all databases share, as far as it changed.</summary>
    public enum Shared
    {
        Nothing,
        Plans,

        /// <summary>Parts of the fleet; every catalogue stays as it is.</summary>
        FleetParts,
        Fleet,

        /// <summary>Lag of replicas: what was written last is read.</summary>
        Lag,
    }

    /// <summary>Raised when another process told something, after this one has taken it over.</summary>
    public event Action<News>? Heard;

    /// <summary>Tells the other processes and everybody who listens on this one.</summary>
    public async Task TellAsync(IReadOnlyCollection<string> databases, IReadOnlyCollection<Guid> runs, CancellationToken cancel, Shared changed = Shared.Nothing)
    {
        live.Changed(databases, runs, changed != Shared.Nothing);

        foreach (var some in databases.Count == 0 ? [[]] : databases.Chunk(MostAtOnce))
        {
            await SendAsync(new News(live.Process, some, [.. runs], changed), cancel);
        }
    }

    /// <summary>What to tell the others of a run, for who tells it together with what it writes.</summary>
    public string NewsOf(IReadOnlyCollection<string> databases, IReadOnlyCollection<Guid> runs) => JsonSerializer.Serialize(new News(live.Process, [.. databases], [.. runs]), NewsJson.Default.News);

    /// <summary>Tells those who listen on this process; the others have been told with <see cref="NewsOf"/>.</summary>
    public void TellHere(IReadOnlyCollection<string> databases, IReadOnlyCollection<Guid> runs) => live.Changed(databases, runs);

    /// <summary>Tells everybody that sessions ended: their event streams end with them.</summary>
    public async Task TellEndedAsync(IReadOnlyCollection<string> sessions, CancellationToken cancel)
    {
        live.End(sessions);
        foreach (var some in sessions.Chunk(MostAtOnce))
        {
            await SendAsync(new News(live.Process, [], [], EndedSessions: some), cancel);
        }
    }

    private async Task SendAsync(News news, CancellationToken cancel)
    {
        await using var command = source.CreateCommand("select pg_notify($1, $2)");
        command.Parameters.AddWithValue(Name);
        command.Parameters.AddWithValue(JsonSerializer.Serialize(news, NewsJson.Default.News));
        await command.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>Listens first and reads everything then, so that nothing told in between is missed; returns when both are done.</summary>
    public override async Task StartAsync(CancellationToken cancellationToken)
    {
        await ListenAsync(cancellationToken);
        await base.StartAsync(cancellationToken);
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (listening is null)
                {
                    await ListenAsync(stoppingToken);
                }

                // What was told while nobody listened is lost.
                Heard?.Invoke(new News("", [], [default], Shared.Fleet));
                while (true)
                {
                    while (heard.Reader.TryRead(out var news))
                    {
                        await TakeOverAsync(news, stoppingToken);
                    }

                    await listening!.WaitAsync(stoppingToken);
                }
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("Lost the connection that listens for news: {Reason}", e.Message);
                await HangUpAsync();
                await Task.Delay(TimeSpan.FromSeconds(1), stoppingToken);
            }
        }

        await HangUpAsync();
    }

    private async Task ListenAsync(CancellationToken cancel)
    {
        var connection = await source.OpenConnectionAsync(cancel);
        connection.Notification += (_, e) =>
        {
            try
            {
                if (JsonSerializer.Deserialize(e.Payload, NewsJson.Default.News) is { } news && news.From != live.Process)
                {
                    heard.Writer.TryWrite(news);
                }
            }
            catch (JsonException)
            {
                // Somebody else's notification on our channel: look at everything anew, whatever it meant.
                heard.Writer.TryWrite(new News("", [], [default], Shared.Fleet));
            }
        };
        listening = connection;
        await using var listen = new NpgsqlCommand($"listen {Name}", connection);
        await listen.ExecuteNonQueryAsync(cancel);
        await fleet.LoadAsync(cancel);
    }

    private async Task TakeOverAsync(News news, CancellationToken cancel)
    {
        if (news.EndedSessions is { } ended)
        {
            live.End(ended);
            return;
        }

        if (news.Changed == Shared.Fleet)
        {
            await fleet.LoadAsync(cancel);
        }
        else if (news.Changed == Shared.FleetParts)
        {
            await fleet.LoadFleetAsync(cancel);
        }
        else if (news.Changed == Shared.Plans)
        {
            await fleet.LoadPlansAsync(cancel);
        }
        else if (news.Changed == Shared.Lag)
        {
            await fleet.LoadLagAsync(cancel);
        }

        if (news.Databases.Length > 0)
        {
            await fleet.ReloadAsync(news.Databases, cancel);
        }

        Heard?.Invoke(news);
        live.Changed(news.Databases, news.Runs, news.Changed != Shared.Nothing);
    }

    private async Task HangUpAsync()
    {
        if (listening is { } connection)
        {
            listening = null;
            await ImbrekDatabase.CloseAsync(source, connection);
        }
    }
}

/// <summary>News as JSON, by code made when this is built: every process sends some as it starts.</summary>
[JsonSerializable(typeof(Peers.News))]
internal sealed partial class NewsJson : JsonSerializerContext;
