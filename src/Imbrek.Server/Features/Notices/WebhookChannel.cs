using Imbrek.Core.Formats;
using Imbrek.Data;

namespace Imbrek.Server.Features.Notices;

/// <summary>Posts messages as JSON to an address.</summary>
internal sealed class WebhookChannel(Func<HttpClient> client, Uri address) : INoticeChannel
{
    /// <inheritdoc/>
    public async Task SendAsync(NoticeRow notice, CancellationToken cancel)
    {
        using var http = client();
        using var answer = await http.PostAsJsonAsync(
            address,
            new
            {
                id = notice.Id,
                kind = notice.Kind,
                subject = notice.Subject,
                people = notice.People,
                databases = notice.Databases,
                count = notice.Count,
                firstAt = Instants.Write(notice.FirstAt),
                lastAt = Instants.Write(notice.LastAt),
            },
            cancel);
        answer.EnsureSuccessStatusCode();
    }
}
