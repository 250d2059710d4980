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

        if (flow is not null)
        {
            var backlog = flow.Between(at, -lag, 0);
            foreach (var bytes in (ReadOnlySpan<long?>)[replica.KeepLogBytes, database.LogRoomBytes])
            {
                left = bytes is { } most ? Math.Min(left, most < backlog ? 0 : Bound(flow.SecondsUntil(at, most - backlog))) : left;
            }
        }

        return double.IsPositiveInfinity(left) ? null : left;

        static double Bound(double seconds) => seconds > BeyondSeconds ? double.PositiveInfinity : Math.Max(0, seconds);
    }

    /// <summary>Whether log written from an instant on is still kept at a later one.</summary>
    /// <param name="at">The instant the offsets are from.</param>
    /// <param name="from">The first, seconds after it.</param>
    /// <param name="to">The later one.</param>
    public bool Spans(Instant at, double from, double to) =>
        !(to - from > seconds) && (flow is null || flow.Between(at, from, to) is var bytes && !(bytes > replica.KeepLogBytes) && !(bytes > database.LogRoomBytes));
}
