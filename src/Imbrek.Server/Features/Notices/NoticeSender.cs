using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using Npgsql;

namespace Imbrek.Server.Features.Notices;

/// <summary>
/// Brings messages to their channel: each once when it is new, and again when its count has grown tenfold, so that a store that fails 400
/// times is told three times. Whichever process claims a message sends it; what could not be sent stays and is tried again.
/// </summary>
internal sealed class NoticeSender(NpgsqlDataSource source, INoticeChannel channel, ILogger<NoticeSender> log) : BackgroundService
{
    private const int AtOnce = 20;
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(2);

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(Pause);
        while (await timer.WaitForNextTickAsync(stoppingToken))
        {
            try
            {
                await SendAsync(stoppingToken);
            }
            catch (Exception e) when (e is HttpRequestException or NpgsqlException or InvalidOperationException or TaskCanceledException && !stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("Messages wait, their channel cannot be reached: {Reason}", e.Message);
            }
        }
    }

    private async Task SendAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        var due = await data.Notices
            .FromSql($"select * from notices where sent_count = 0 or count >= sent_count * 10 order by id desc limit {AtOnce} for update skip locked").ToListAsync(cancel);
        foreach (var notice in due)
        {
            await channel.SendAsync(notice, cancel);
            notice.SentCount = notice.Count;
        }

        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
    }
}
