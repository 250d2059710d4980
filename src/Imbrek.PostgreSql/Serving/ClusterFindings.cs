using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.PostgreSql.Serving;

/// <summary>What needs somebody about the clusters themselves.</summary>
internal sealed class ClusterFindings(ClusterBook book) : IFindingSource
{
    private static readonly Duration Silent = Duration.FromSeconds(15);

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Database d, Instant at)
    {
        if (!book.All.TryGetValue(d.Id.Value, out var cluster))
        {
            yield break;
        }

        var now = book.ReceivedOf(d.Id.Value);
        if (now is null || now.Problem is not null || at - now.At > Silent)
        {
            yield return new Finding(
                "log-not-received",
                d.Id,
                Urgency.Now,
                $"its log is not received: {now?.Problem ?? (now is null ? "no process has begun to" : "no process has said anything for a while")}",
                "from here on everything written is lost with its host",
                "mend what is said; receiving goes on by itself",
                now?.CoversTo is { } to ? (at - to).TotalSeconds : null,
                now?.CoversTo);
        }

        if (now is not null && now.KeptBytes > cluster.LogRoomBytes / 2)
        {
            yield return new Finding(
                "log-kept-at-source",
                d.Id,
                now.KeptBytes > cluster.LogRoomBytes * 0.8 ? Urgency.Now : Urgency.Soon,
                $"its source keeps {now.KeptBytes:N0} bytes of log for us; at {cluster.LogRoomBytes:N0} our slot is given up",
                "a slot that is not read fills the disk of its source; when it is given up there is a gap until the next full",
                "have the log received again, or give it more room at the source");
        }
    }
}
