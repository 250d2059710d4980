using NodaTime;

namespace Imbrek.PostgreSql.Log;

/// <summary>How the receiving of a log stands.</summary>
/// <param name="At">When this was seen, by this server's clock.</param>
/// <param name="Timeline">The timeline.</param>
/// <param name="Position">Received, and safe in its store, up to here.</param>
/// <param name="SourcePosition">Written at the source up to here.</param>
/// <param name="CoversTo">Everything committed up to this instant has been received; null while nothing is known.</param>
/// <param name="KeptBytes">Bytes of log the source keeps for us.</param>
/// <param name="Problem">Why it does not go on; null when it does.</param>
internal sealed record Received(Instant At, int Timeline, long Position, long SourcePosition, Instant? CoversTo, long KeptBytes, string? Problem);
