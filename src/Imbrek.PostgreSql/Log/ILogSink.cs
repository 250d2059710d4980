using Imbrek.Core.Catalogue;
using NodaTime;

namespace Imbrek.PostgreSql.Log;

/// <summary>Where what is received of a cluster's log becomes known.</summary>
internal interface ILogSink
{
    /// <summary>The newest log that is known; null when there is none.</summary>
    BackupSet? Newest { get; }

    /// <summary>Log sets of a branch that hold something behind a position, in order.</summary>
    IReadOnlyList<BackupSet> LogBehind(int branch, Lsn position);

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
