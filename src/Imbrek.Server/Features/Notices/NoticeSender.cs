using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Notices;

/// <summary>
/// Brings messages to their channel: each once when it is new, and again when its count has grown tenfold, so that a store that fails 400
/// times is told three times. A process claims messages for a while, lets go of the table, and sends one after the other: nobody waits for a
/// channel, and one message that cannot be sent holds up no other. It is tried again with growing pauses.
/// </summary>
internal sealed class NoticeSender(NpgsqlDataSource source, INoticeChannel channel, IHostApplicationLifetime life, ILogger<NoticeSender> log) : Looking(Often, "Messages wait", life, log)
{
    private const int AtOnce = 20;
    private static readonly Duration Claim = Duration.FromMinutes(1);
    private static readonly Duration LongestPause = Duration.FromHours(1);
    private static readonly TimeSpan LongestSending = TimeSpan.FromSeconds(10);

    /// <inheritdoc/>
    protected override async Task LookAsync(CancellationToken cancel)
    {
        foreach (var notice in await ClaimAsync(cancel))
        {
            await SendAsync(notice, cancel);
        }
    }

    private async Task<IReadOnlyList<NoticeRow>> ClaimAsync(CancellationToken cancel)
    {
        var now = SystemClock.Instance.GetCurrentInstant();
        var until = now + Claim;
        await using var data = ImbrekDatabase.Context(source);
        return await data.Notices.FromSql(
            $"""
            update notices set send_after = {until} where id in (
              select id from notices where (sent_count = 0 or count >= sent_count * 10) and (send_after is null or send_after <= {now})
              order by id desc limit {AtOnce} for update skip locked)
            returning *
            """).AsNoTracking().ToListAsync(cancel);
    }

    private async Task SendAsync(NoticeRow notice, CancellationToken cancel)
    {
        string? failed = null;
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(LongestSending);
            await channel.SendAsync(notice, limit.Token);
        }
        catch (Exception e) when (!cancel.IsCancellationRequested)
        {
            failed = e.Message;
            log.LogWarning("Message {Id} could not be sent: {Reason}", notice.Id, e.Message);
        }

        await using var data = ImbrekDatabase.Context(source);
        var row = data.Notices.Where(n => n.Id == notice.Id);
        if (failed is null)
        {
            await row.ExecuteUpdateAsync(u => u.SetProperty(n => n.SentCount, notice.Count).SetProperty(n => n.SendFailures, 0).SetProperty(n => n.SendAfter, (Instant?)null), cancel);
        }
        else
        {
            var pause = Duration.Min(LongestPause, Duration.FromSeconds(5 * Math.Pow(2, Math.Min(notice.SendFailures, 12))));
            Instant? again = SystemClock.Instance.GetCurrentInstant() + pause;
            await row.ExecuteUpdateAsync(u => u.SetProperty(n => n.SendFailures, notice.SendFailures + 1).SetProperty(n => n.SendAfter, again), cancel);
        }
    }
}
