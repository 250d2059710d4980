using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>
/// Makes stretches of lag (section 7) of samples: the last one is lengthened while lag stays within its band, and another one begins otherwise, so that hours of steady lag are one line. Nothing is
/// claimed that was not seen: between two samples a replica has received what it had at the first, and has applied no more than at the second.
/// </summary>
public static class LagWatch
{
    /// <summary>Bands are 0, a tenth of a second, and then each a half wider than the one before, in milliseconds. What is stated of a lag is the end of its band.</summary>
    private static readonly long[] Bands = [.. Ends()];

    /// <summary>A stretch is no longer than this, so that what was the worst in it does not stand for ever.</summary>
    private static readonly Duration Longest = Duration.FromDays(1);

    /// <summary>A watcher that has not looked for so many of its intervals was not there.</summary>
    private const int MissedLooks = 3;

    /// <summary>What is known of a replica that is watched.</summary>
    /// <param name="Sample">The last sample.</param>
    /// <param name="Stretch">The last stretch; null while nothing can be said.</param>
    public sealed record Watched(LagSample Sample, LagStretch? Stretch);

    /// <summary>Takes a sample in.</summary>
    /// <param name="replica">The replica.</param>
    /// <param name="branchStart">When the branch of the sample began.</param>
    /// <param name="before">What was known before it; null when nothing was.</param>
    /// <param name="sample">The sample.</param>
    /// <returns>What is known now. Its stretch is to be kept where it is another one than before: under the same beginning it takes the other's place.</returns>
    public static Watched Next(Replica replica, Instant branchStart, Watched? before, LagSample sample)
    {
        if (before is not null && sample.At <= before.Sample.At)
        {
            return before;
        }

        var lag = sample.At - sample.ReceivedTo;
        if (before is not null && Follows(replica, before.Sample, sample))
        {
            var last = before.Sample;
            if (!sample.InStep && sample.ReceivedTo == last.ReceivedTo && lag > Duration.FromSeconds(replica.CutAfterSeconds + replica.WatchSeconds) + Cycle(replica, applied: false))
            {
                // It receives nothing: its stretch has ended, and what it has stands still.
                return new Watched(sample, before.Stretch);
            }

            var received = sample.InStep ? Duration.Zero : sample.At - last.ReceivedTo;
            var applied = Duration.Max(received, sample.At - last.AppliedTo);
            var least = Duration.Max(Held(replica), last.At - sample.AppliedTo);
            var next = Stretch(replica, branchStart, sample, last.At, received, applied, Duration.Max(Duration.Zero, least), Math.Max(last.PendingBytes, sample.PendingBytes));
            if (before.Stretch is { } stretch && stretch.To == last.At && next is not null && Covers(replica, stretch, next))
            {
                next = stretch with
                {
                    To = sample.At,
                    AppliedLeastLag = Duration.Min(stretch.AppliedLeastLag, next.AppliedLeastLag),
                    PendingBytes = Math.Max(stretch.PendingBytes, next.PendingBytes),
                    ReceivedPosition = sample.ReceivedPosition,
                };
            }

            if (next is not null)
            {
                return new Watched(sample, next);
            }
        }

        return new Watched(sample, Stretch(replica, branchStart, sample, sample.At, lag, sample.At - sample.AppliedTo, Duration.Max(Held(replica), sample.At - sample.AppliedTo), sample.PendingBytes) ?? before?.Stretch);
    }

    /// <summary>Takes in what a watcher saw who looked at every interval of a span in which nothing changed: the same as each of its samples by itself.</summary>
    /// <param name="replica">The replica.</param>
    /// <param name="branchStart">When the branch of the samples began.</param>
    /// <param name="before">What was known before it; null when nothing was.</param>
    /// <param name="first">What was seen at the beginning.</param>
    /// <param name="until">The end of the span; what was seen then lagged by as much.</param>
    /// <param name="kept">Told each stretch as it was before another one began.</param>
    public static Watched Steady(Replica replica, Instant branchStart, Watched? before, LagSample first, Instant until, Action<LagStretch> kept)
    {
        var interval = Duration.FromSeconds(replica.WatchSeconds);
        var known = before?.Sample.At == first.At ? before with { Sample = first } : Next(replica, branchStart, before, first);
        Tell(before?.Stretch, known.Stretch);
        while (known.Sample.At < until)
        {
            var next = Next(replica, branchStart, known, After(Duration.Min(interval, until - known.Sample.At)));
            Tell(known.Stretch, next.Stretch);

            // Whatever the first looks made of it, from here on each look lengthens the stretch, until it is as long as one may be.
            var to = next.Stretch is { } s ? Instant.Min(until, s.From + Longest) : until;
            known = next.Stretch is { } lengthened && lengthened.To == next.Sample.At && to > next.Sample.At && Lengthens(known, next)
                ? new Watched(After(to - known.Sample.At), lengthened with { To = to, ReceivedPosition = null })
                : next;
        }

        return known;

        LagSample After(Duration time) => known.Sample with { At = known.Sample.At + time, ReceivedTo = known.Sample.ReceivedTo + time, AppliedTo = known.Sample.AppliedTo + time, ReceivedPosition = null };

        static bool Lengthens(Watched was, Watched now) => was.Stretch is { } a && now.Stretch is { } b && a.From == b.From && b with { To = a.To, ReceivedPosition = a.ReceivedPosition } == a;

        void Tell(LagStretch? was, LagStretch? now)
        {
            if (was is not null && was.From != now?.From)
            {
                kept(was);
            }
        }
    }

    /// <summary>For how long after its last look a watcher still counts as there.</summary>
    public static Duration LooksAgainWithin(Replica replica) => Duration.FromSeconds(Math.Max(MissedLooks * replica.WatchSeconds, replica.CutAfterSeconds));

    /// <summary>Whether one sample goes on from another: on the same branch, never backwards, and looked at all the time.</summary>
    private static bool Follows(Replica replica, LagSample last, LagSample sample) =>
        sample.Branch == last.Branch && sample.ReceivedTo >= last.ReceivedTo && sample.AppliedTo >= last.AppliedTo
        && sample.At - last.At <= LooksAgainWithin(replica);

    /// <summary>Whether a stretch says all of what another one does, and not much more.</summary>
    private static bool Covers(Replica replica, LagStretch stretch, LagStretch next) =>
        stretch.Branch == next.Branch && next.To - stretch.From <= Longest
        && Near(stretch.ReceivedLag, next.ReceivedLag, Cycle(replica, applied: false)) && Near(stretch.AppliedLag, next.AppliedLag, Cycle(replica, applied: true));

    private static bool Near(Duration stated, Duration needed, Duration cycle) => needed <= stated && (stated <= Duration.Max(needed * 1.6, Duration.FromMilliseconds(Bands[1])) || stated == cycle);

    /// <summary>How far a shipped replica lags just before what was shipped arrives, or is applied: it comes and goes with each cycle, and is one band. Nothing for other modes.</summary>
    private static Duration Cycle(Replica replica, bool applied) => replica.Stages is { } s
        ? Duration.FromSeconds(s.Backup.AtWorstSeconds + s.Copy.AtWorstSeconds + (applied ? s.Apply.AtWorstSeconds : 0) + replica.WatchSeconds)
        : Duration.Zero;

    /// <summary>A stretch up to a sample with the ends of bands as its lags; exact ones where a band would reach back before the branch; null where even those would.</summary>
    private static LagStretch? Stretch(Replica replica, Instant branchStart, LagSample sample, Instant from, Duration received, Duration applied, Duration least, long pending)
    {
        var held = Held(replica);
        var stated = EndOfBand(received, Cycle(replica, applied: false));
        if (branchStart > Instant.MinValue && from - stated < branchStart)
        {
            stated = received;
            if (from - stated < branchStart)
            {
                return null;
            }
        }

        var appliedLag = Duration.Max(stated, held + EndOfBand(applied - held, Cycle(replica, applied: true)));
        return new LagStretch(replica.Id, sample.Branch, from, sample.At, stated, appliedLag, Duration.Min(appliedLag, least), pending, sample.ReceivedPosition);
    }

    private static Duration Held(Replica replica) => Duration.FromMilliseconds(ReplicaSource.Milliseconds(replica.DelaySeconds));

    private static Duration EndOfBand(Duration lag, Duration cycle)
    {
        if (lag <= cycle)
        {
            return cycle;
        }

        var ms = (long)Math.Ceiling(lag.TotalMilliseconds);
        var found = Array.BinarySearch(Bands, ms);
        return Duration.FromMilliseconds(ms <= 0 ? 0 : Bands[found < 0 ? Math.Min(~found, Bands.Length - 1) : found]);
    }

    private static IEnumerable<long> Ends()
    {
        yield return 0;
        for (var ms = 100.0; ms < 1e13; ms *= 1.5)
        {
            yield return (long)ms;
        }
    }
}
