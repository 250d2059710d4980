using Imbrek.Core.Catalogue;
using NodaTime;

namespace Imbrek.PostgreSql.Log;

/// <summary>Where what is received of a cluster's log becomes known.</summary>
internal interface ILogSink
{
    /// <summary>The newest log that is known; null when there is none.</summary>
    BackupSet? Newest { get; }

    /// <summary>Seconds of log after which a set is closed at the latest.</summary>
    double SetSeconds { get; }

    /// <summary>Makes sets, as they are now, and how it stands known to everybody.</summary>
    /// <exception cref="DutyLostException">Another process receives this log.</exception>
    Task KeepAsync(IReadOnlyList<BackupSet> sets, Received now, CancellationToken cancel);

    /// <summary>Makes known that the cluster goes on in a new timeline.</summary>
    /// <param name="timeline">The new one.</param>
    /// <param name="parent">The one it left.</param>
    /// <param name="at">Where it left it.</param>
    /// <param name="forkAt">The instant of the parent's history at which it left.</param>
    /// <param name="startsAt">When it became the live one.</param>
    /// <param name="cancel">Gives up.</param>
    Task BranchAsync(int timeline, int parent, Lsn at, Instant forkAt, Instant startsAt, CancellationToken cancel);
}

/// <summary>How the receiving of a log stands.</summary>
/// <param name="At">When this was seen, by this server's clock.</param>
/// <param name="Timeline">The timeline.</param>
/// <param name="Position">Received, and safe in its store, up to here.</param>
/// <param name="SourcePosition">Written at the source up to here.</param>
/// <param name="CoversTo">Everything committed up to this instant has been received; null while nothing is known.</param>
/// <param name="KeptBytes">Bytes of log the source keeps for us.</param>
/// <param name="Problem">Why it does not go on; null when it does.</param>
/// <param name="System">The number by which the cluster knows itself.</param>
internal sealed record Received(Instant At, int Timeline, long Position, long SourcePosition, Instant? CoversTo, long KeptBytes, string? Problem, string? System);

/// <summary>Another process has taken the duty over.</summary>
internal sealed class DutyLostException() : Exception("another process receives this log");
