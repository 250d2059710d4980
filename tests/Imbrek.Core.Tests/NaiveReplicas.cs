using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Tests;

/// <summary>Section 11 of the definitions written down as plainly as it reads: what replicas add to R at an instant, and a window evaluated at every instant at which anything could change.</summary>
internal static class NaiveReplicas
{
    private static readonly Duration Tick = Duration.FromMilliseconds(1);

    public static ClosedInterval? Interval(RecoverySubject subject, Replica replica, IReadOnlyList<LagStretch> stretches, Loss loss, Instant at)
    {
        var (fleet, d) = (subject.Fleet, subject.Database);
        if (at < replica.Since || at >= replica.Until || replica.TakesOver == TakesOver.Never || !PlaceSurvives())
        {
            return null;
        }

        var bad = loss.Kind is LossKind.None or LossKind.Hostile;
        var held = replica.DelaySeconds + replica.RewindSeconds;
        if ((bad && !(held > 0 && held >= d.DetectSeconds + d.DecideSeconds)) || (loss.Kind == LossKind.Hostile && !replica.Apart))
        {
            return null;
        }

        if (stretches.Where(s => s.Replica == replica.Id && s.From <= at).MaxBy(s => s.From) is not { } s)
        {
            return null;
        }

        var received = Instant.Min(at, s.To) - s.ReceivedLag;
        var earliest = at <= s.To
            ? Instant.Min(received, at - s.AppliedLeastLag)
            : Instant.Min(received, Instant.Max(s.To - s.AppliedLeastLag, at - Duration.FromSeconds(replica.DelaySeconds)));
        var from = Instant.Max(earliest - Duration.FromSeconds(replica.RewindSeconds), d.StartOf(s.Branch));
        var to = Instant.Min(received, bad ? at - Tick : at);
        var later = d.Branches.Select(b => b.StartsAt).Where(t => t > d.StartOf(s.Branch)).ToArray();
        if (later.Length > 0)
        {
            to = Instant.Min(to, later.Min() - Tick);
        }

        return from <= to ? new ClosedInterval(from, to) : null;

        bool PlaceSurvives() => replica.Place switch
        {
            ReplicaPlace.OnHost h => loss.Spares(fleet.Hosts[h.Host]),
            ReplicaPlace.OnArray a => loss.Spares(fleet.Arrays[a.Array]) && a.OpensOn.Any(h => loss.Spares(fleet.Hosts[h])),
            _ => false,
        };
    }

    public static IReadOnlyList<ClosedInterval> Recoverable(RecoverySubject subject, IReadOnlyList<LagStretch> stretches, Loss loss, Instant at) => ClosedInterval.Merge(
        [.. Evaluator.RecoverableAt(subject.WithoutReplicas, loss, at), .. subject.Replicas.Select(r => Interval(subject, r.Replica, stretches, loss, at)).OfType<ClosedInterval>()]);

    /// <summary>All happens at whole minutes, or a millisecond before or after: between two such instants exposure is a straight line.</summary>
    public static (IReadOnlyList<(Instant At, double? Seconds)> Exposures, double Unprotected, double Over) Window(RecoverySubject subject, IReadOnlyList<LagStretch> stretches, Loss loss, Instant from, Instant to)
    {
        var rpo = subject.Objective!.RpoSeconds;
        double unprotected = 0, over = 0;
        var minutes = (int)(to - from).TotalMinutes;
        (Instant At, double? Seconds)[] all =
        [
            .. Enumerable.Range(0, minutes + 1).SelectMany(m => Enumerable.Range(-1, 4).Select(x => from + Duration.FromMinutes(m) + Duration.FromMilliseconds(x)))
                .Where(t => t >= from && t <= to).Select(t => (t, ExposureAt(t))),
        ];
        for (var i = 0; i + 1 < all.Length; i++)
        {
            var span = (all[i + 1].At - all[i].At).TotalSeconds;
            if (all[i].Seconds is not { } e)
            {
                (unprotected, over) = (unprotected + span, over + span);
                continue;
            }

            var rises = span > 0.01 && ExposureAt(all[i].At + Tick) > e;
            over += rises ? Math.Clamp(e + span - rpo, 0, span) : e > rpo ? span : 0;
        }

        return (all, unprotected, over);

        double? ExposureAt(Instant t) => Recoverable(subject, stretches, loss, t) is [.., var last] ? (t - last.To).TotalSeconds : null;
    }
}
