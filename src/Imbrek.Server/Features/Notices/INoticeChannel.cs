using Imbrek.Data;

namespace Imbrek.Server.Features.Notices;

/// <summary>A way to bring a message to people. The mailbox inside the product holds every message; a channel takes it out of the product.</summary>
internal interface INoticeChannel
{
    /// <summary>Sends a message, or sends it again with a higher count; throws when it could not be brought there.</summary>
    Task SendAsync(NoticeRow notice, CancellationToken cancel);
}
