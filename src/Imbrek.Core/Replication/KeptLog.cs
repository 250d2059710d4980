using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>For how long a source keeps the log that a replica has not received (section 7): by time, by bytes, and by the room there is at the primary.</summary>
internal readonly struct KeptLog(Database database, Replica replica, LogFlow? flow)
{
    /// <summary>One that is farther away than this binds nothing.</summary>
    internal const double BeyondSeconds = 365 * 86_400.0;

    private readonly double? seconds = replica.Stages is { } stages ? stages.KeepAtSourceSeconds : replica.KeepLogSeconds;

    /// <summary>How long from an instant nothing may be received until what is needed next is no longer kept, at least 0; null when nothing binds.</summary>
    /// <param name="at">The instant.</param>
    /// <param name="lag">By how much what was received lags then, seconds.</param>
    public double? SecondsLeft(Instant at, double lag)
    {
        var left = double.PositiveInfinity;
        if (seconds is { } kept)
        {
            left = Math.Min(left, Bound(kept - lag));
        }

        left = Math.Min(left, Math.Min(Until(replica.KeepLogBytes, at, lag), Until(database.LogRoomBytes, at, lag)));
        return double.IsPositiveInfinity(left) ? null : left;
    }

    /// <summary>How long from an instant nothing may be received until the log kept for it has filled the room at the primary; null when that is not stated, or too far away to count.</summary>
    /// <param name="at">The instant.</param>
    /// <param name="lag">By how much what was received lags then, seconds.</param>
    public double? SecondsUntilPrimaryIsFull(Instant at, double lag) => Until(database.LogRoomBytes, at, lag) is var left && double.IsPositiveInfinity(left) ? null : left;

    private double Until(long? bytes, Instant at, double lag) =>
        flow is null || bytes is not { } most ? double.PositiveInfinity
        : flow.Between(at, -lag, 0) is var backlog && most < backlog ? 0
        : Bound(flow.SecondsUntil(at, most - backlog));

    private static double Bound(double seconds) => seconds > BeyondSeconds ? double.PositiveInfinity : Math.Max(0, seconds);

    /// <summary>Whether log written from an instant on is still kept at a later one.</summary>
    /// <param name="at">The instant the offsets are from.</param>
    /// <param name="from">The first, seconds after it.</param>
    /// <param name="to">The later one.</param>
    public bool Spans(Instant at, double from, double to) =>
        !(to - from > seconds) && (flow is null || flow.Between(at, from, to) is var bytes && !(bytes > replica.KeepLogBytes) && !(bytes > database.LogRoomBytes));
}
