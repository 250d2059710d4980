using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>How the replicas of a database stand (section 7, watching).</summary>
public static class Watch
{
    private const double RpoWithoutObjectiveSeconds = 60;

    /// <summary>Figures of one replica.</summary>
    /// <param name="subject">Its database.</param>
    /// <param name="source">The replica.</param>
    /// <param name="at">The as-of instant A.</param>
    /// <param name="withSeed">Whether it is worked out how it would be seeded, which looks at all sets.</param>
    public static ReplicaFigures Of(RecoverySubject subject, ReplicaSource source, Instant at, bool withSeed = true)
    {
        var (fleet, d, replica) = (subject.Fleet, subject.Database, source.Replica);
        at = Instants.Floor(at);
        var flow = LogFlow.Of(d);
        double? received = null, applied = null, backlog = null, catchUp = null, readCatchUp = null, tolerated = null, room = null;
        var known = source.At(at);
        if (known is { } k)
        {
            received = (at - k.ReceivedTo).TotalSeconds;
            applied = (at - k.AppliedTo).TotalSeconds;
            tolerated = new KeptLog(d, replica, flow).SecondsLeft(at, received.Value);
            if (flow is not null)
            {
                backlog = flow.Between(at, -received.Value, 0);
                catchUp = flow.CatchUp(at, 0, backlog.Value, replica.ReceiveRateIn(fleet));
                readCatchUp = catchUp is { } first ? flow.CatchUp(at, 0, backlog.Value + k.PendingBytes, replica.ApplyRateIn(fleet), first) : null;
                room = RoomLeft(replica.LogRoomBytes - k.PendingBytes, flow, at);
            }
        }

        var why = source.Note.Unusable is { } unusable && at >= source.Note.Since ? unusable : tolerated == 0 && known is { Covers: false } ? "what it needs next is no longer kept at its source" : source.WhyItCannotFollow(at);
        return new ReplicaFigures(
            replica.Id,
            State(),
            received,
            applied,
            backlog,
            catchUp,
            readCatchUp,
            tolerated,
            room,
            ByDesign.LossSeconds(fleet, replica),
            ByDesign.ReadSeconds(fleet, replica),
            ByDesign.WaitMs(fleet, replica),
            withSeed ? Seeding.Fastest(subject, replica, at) : null,
            why);

        ReplicaState State()
        {
            if (at < replica.Since)
            {
                return ReplicaState.Planned;
            }

            if (at >= replica.Until)
            {
                return ReplicaState.Ended;
            }

            return source.Note.Seeding ? ReplicaState.Seeding
                : source.Note.HeldBy is not null ? ReplicaState.Held
                : why is not null ? ReplicaState.Broken
                : known is not { Covers: true } ? ReplicaState.CutOff
                : received > (subject.Objective?.RpoSeconds ?? RpoWithoutObjectiveSeconds) ? ReplicaState.Behind
                : ReplicaState.InStep;
        }
    }

    /// <summary>How long room for log lasts; null when it is not stated, or lasts longer than counts.</summary>
    private static double? RoomLeft(long? bytes, LogFlow flow, Instant at) =>
        bytes is not { } left ? null : left < 0 ? 0 : flow.SecondsUntil(at, left) is var seconds && seconds <= KeptLog.BeyondSeconds ? seconds : null;
}
