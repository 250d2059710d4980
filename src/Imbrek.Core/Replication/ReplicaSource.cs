using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>
/// A replica as a source of recoverable instants (section 7, in the evaluator): the interval it adds to R at an instant, and how the upper end of that moves over a window. Times
/// are milliseconds.
/// </summary>
public sealed class ReplicaSource
{
    private readonly FleetModel fleet;
    private readonly Database database;
    private readonly LagHistory lag;
    private readonly long delay;
    private readonly long rewind;
    private readonly long since;
    private readonly long until;

    /// <summary>Makes it of a replica and what is known of its lag, and beside it.</summary>
    public ReplicaSource(FleetModel fleet, Database database, Replica replica, LagHistory lag, ReplicaNote? note = null)
    {
        (this.fleet, this.database, Replica, this.lag, Note) = (fleet, database, replica, lag, note ?? ReplicaNote.None);
        delay = Milliseconds(replica.DelaySeconds);
        rewind = Milliseconds(replica.RewindSeconds);
        since = replica.Since?.ToUnixTimeMilliseconds() ?? long.MinValue;
        until = replica.Until?.ToUnixTimeMilliseconds() ?? long.MaxValue;
        if (Note.Unusable is not null)
        {
            // Whatever it holds, nothing can be had of it.
            until = Math.Min(until, Note.Since?.ToUnixTimeMilliseconds() ?? long.MinValue);
        }
    }

    /// <summary>The replica.</summary>
    public Replica Replica { get; }

    /// <summary>What is known of its lag.</summary>
    public LagHistory Lag => lag;

    /// <summary>What is known of it beside its lag.</summary>
    public ReplicaNote Note { get; }

    /// <summary>What is known at an instant: the stretch in force then, and what it says. Null before the first.</summary>
    public Known? At(Instant at)
    {
        var a = at.ToUnixTimeMilliseconds();
        var i = lag.IndexAt(a);
        return i < 0 ? null : new Known(lag, i, a, delay);
    }

    /// <summary>What a stretch says of an instant.</summary>
    public readonly struct Known
    {
        private readonly LagHistory lag;
        private readonly int index;

        internal Known(LagHistory lag, int index, long at, long delay)
        {
            (this.lag, this.index) = (lag, index);
            var (to, least) = (lag.To[index], lag.LeastLag[index]);
            var before = Math.Min(at, to);
            Received = before - lag.ReceivedLag[index];
            Applied = before - lag.AppliedLag[index];
            Covers = at <= to;
            Earliest = Math.Min(Received, Covers ? at - least : Math.Max(to - least, at - delay));
        }

        /// <summary>Up to when everything was received.</summary>
        internal long Received { get; }

        /// <summary>Up to when everything was applied, at the worst that is known.</summary>
        internal long Applied { get; }

        /// <summary>The first instant it can still be stopped at without going back.</summary>
        internal long Earliest { get; }

        /// <summary>Whether the stretch covers the instant, or ended before.</summary>
        public bool Covers { get; }

        /// <summary>Up to when everything was received.</summary>
        public Instant ReceivedTo => Instant.FromUnixTimeMilliseconds(Received);

        /// <summary>Up to when everything was applied, at the worst that is known.</summary>
        public Instant AppliedTo => Instant.FromUnixTimeMilliseconds(Applied);

        /// <summary>When the stretch ends.</summary>
        public Instant Until => Instant.FromUnixTimeMilliseconds(lag.To[index]);

        /// <summary>The branch it followed.</summary>
        public int Branch => lag.Branches[index];

        /// <summary>The most log that was received and not applied, bytes.</summary>
        public long PendingBytes => lag.PendingBytes[index];

        /// <summary>The position received by the end of the stretch; null when not stated.</summary>
        public long? ReceivedPosition => lag.ReceivedPosition[index] == LagHistory.NoPosition ? null : lag.ReceivedPosition[index];

        /// <summary>The most by which what was received lagged, milliseconds.</summary>
        internal long ReceivedLag => lag.ReceivedLag[index];
    }

    /// <summary>Whether it counts under a loss, its own span of time aside.</summary>
    /// <param name="loss">The loss, resolved.</param>
    public bool CountsUnder(Loss loss) => WhyNotWhole(loss) is null;

    /// <summary>Why it does not count under a loss, its own span of time aside; null when it does.</summary>
    /// <param name="loss">The loss, resolved.</param>
    public string? WhyNotUnder(Loss loss) => Note.Unusable ?? WhyNotWhole(loss);

    private string? WhyNotWhole(Loss loss)
    {
        if (Replica.TakesOver == TakesOver.Never)
        {
            return "it is only read from";
        }

        if (Replica.HostAfter(loss, fleet) is null)
        {
            return $"it is lost with {loss}";
        }

        if (loss.Kind is LossKind.None or LossKind.Hostile)
        {
            var held = Replica.DelaySeconds + Replica.RewindSeconds;
            if (delay + rewind == 0)
            {
                return loss.Kind == LossKind.None ? "a bad change is carried to it at once" : "what stolen credentials delete is deleted there as well, at once";
            }

            if (held < database.DetectSeconds + database.DecideSeconds)
            {
                return "a bad change has passed its delay before anybody has noticed and decided";
            }

            if (loss.Kind == LossKind.Hostile && !Replica.Apart)
            {
                return "what is stolen at the primary reaches it";
            }
        }

        return null;
    }

    /// <summary>Whether it counts at an instant under a loss.</summary>
    public bool Counts(Loss loss, Instant at) => at.ToUnixTimeMilliseconds() is var a && since <= a && a < until && CountsUnder(loss);

    /// <summary>The interval it adds to R at an instant under a loss; null when it adds nothing.</summary>
    /// <param name="loss">The loss, resolved.</param>
    /// <param name="at">The as-of instant.</param>
    public (long From, long To)? IntervalAt(Loss loss, Instant at) => Counts(loss, at) && At(at) is { } known ? IntervalOf(known, loss, at.ToUnixTimeMilliseconds()) : null;

    private (long From, long To)? IntervalOf(Known known, Loss loss, long a)
    {
        var (startsAt, cap) = BoundsOf(known.Branch);
        var to = Math.Min(Math.Min(known.Received, cap), a - LeastBehind(loss));
        var from = Math.Max(known.Earliest - rewind, startsAt);
        return from <= to ? (from, to) : null;
    }

    /// <summary>Hands over the upper end of what it adds over a window: where it stands still, and where it moves with the as-of instant.</summary>
    /// <param name="loss">The loss, resolved.</param>
    /// <param name="w0">The first as-of instant.</param>
    /// <param name="w1">The last as-of instant.</param>
    /// <param name="pass">Told of it.</param>
    internal void Over(Loss loss, long w0, long w1, ReachOverWindow pass)
    {
        if (!CountsUnder(loss))
        {
            return;
        }

        var least = LeastBehind(loss);
        var (froms, tos, lags, forked) = (lag.From, lag.To, lag.ReceivedLag, database.Branches.Count > 0);
        for (var i = Math.Max(0, lag.IndexAt(w0)); i < froms.Length && froms[i] <= w1; i++)
        {
            var begin = Math.Max(Math.Max(froms[i], w0), since);
            var end = Math.Min(until, i + 1 < froms.Length ? froms[i + 1] : long.MaxValue);
            var behind = Math.Max(lags[i], least);
            var final = tos[i] - lags[i];
            var from = begin;
            if (forked)
            {
                var (startsAt, cap) = BoundsOf(lag.Branches[i]);
                final = Math.Min(final, cap);
                end = Math.Min(end, LastOffered(i, cap));
                from = startsAt == long.MinValue ? begin : startsAt > final ? end : Math.Max(begin, startsAt + behind);
            }

            // It moves until it comes to its final value, and then stands there.
            var comes = final + behind;
            if (from < Math.Min(end, comes))
            {
                pass.Moves(from, Math.Min(end, comes), behind);
            }

            if (Math.Max(from, comes) < end)
            {
                pass.Stands(Math.Max(from, comes), end, final);
            }
        }
    }

    /// <summary>
    /// The first as-of instant at which a stretch adds nothing any more, because all it could be stopped at is later than the end of its branch: applying goes on, and the lower end of
    /// the interval with it.
    /// </summary>
    private long LastOffered(int i, long cap)
    {
        var (to, received, applied) = (lag.To[i], lag.ReceivedLag[i], Math.Max(lag.ReceivedLag[i], lag.LeastLag[i]));
        if (cap == long.MaxValue || to - received - rewind <= cap)
        {
            return long.MaxValue;
        }

        return 1 + (to - applied - rewind <= cap ? Math.Max(to, cap + delay + rewind) : cap + applied + rewind);
    }

    /// <summary>
    /// The next instant after another at which the upper end of what it adds changes: while that moves, the next millisecond; null when there is none. The lower end rises in between, until what was
    /// received has been applied.
    /// </summary>
    internal long? NextChange(long after)
    {
        var i = lag.IndexAt(after);
        if (i >= 0 && after >= since && after < until && after <= lag.To[i])
        {
            return after + 1;
        }

        var next = long.MaxValue;
        foreach (var t in (ReadOnlySpan<long>)[since, until, i + 1 < lag.Count ? lag.From[i + 1] : long.MaxValue, i >= 0 ? LastOffered(i, BoundsOf(lag.Branches[i]).Cap) : long.MaxValue])
        {
            next = t > after ? Math.Min(next, t) : next;
        }

        return next == long.MaxValue ? null : next;
    }

    /// <summary>Why it cannot go on from where it is: what it followed is not, or no longer, the live branch; null when it can (section 7, watching).</summary>
    /// <param name="at">The as-of instant.</param>
    public string? WhyItCannotFollow(Instant at)
    {
        if (At(at) is not { } known)
        {
            return null;
        }

        Branch? leaving = null;
        for (var branch = LiveBranchOf(database, at); branch != known.Branch;)
        {
            leaving = database.Branches.FirstOrDefault(b => b.Id == branch);
            if (leaving is null)
            {
                return $"it is on branch {known.Branch}, which the live one did not come from";
            }

            branch = leaving.Parent;
        }

        if (leaving is null)
        {
            return null;
        }

        return known.ReceivedPosition is { } position
            ? position > leaving.ForkPosition ? $"it received position {position} of branch {known.Branch}, which was left at {leaving.ForkPosition}" : null
            : known.ReceivedTo > leaving.ForkAt ? $"it received more of branch {known.Branch} than branch {leaving.Id} began with" : null;
    }

    /// <summary>The live branch of a database at an instant: of those that have started the one that started last; else branch 1.</summary>
    public static int LiveBranchOf(Database database, Instant at) =>
        database.Branches.Where(b => b.StartsAt <= at).OrderBy(b => b.StartsAt).ThenBy(b => b.Id).LastOrDefault()?.Id ?? 1;

    /// <summary>Under losses in which the bad change is in the log, the instant itself is not offered.</summary>
    private static long LeastBehind(Loss loss) => loss.Kind is LossKind.None or LossKind.Hostile ? 1 : 0;

    /// <summary>The first and last instant that a branch answers for: from its start until just before the next one becomes live.</summary>
    private (long StartsAt, long Cap) BoundsOf(int branch)
    {
        if (database.Branches.Count == 0)
        {
            return (long.MinValue, long.MaxValue);
        }

        var start = branch == 1 ? long.MinValue : database.StartOf(branch).ToUnixTimeMilliseconds();
        var next = long.MaxValue;
        foreach (var b in database.Branches)
        {
            var other = b.StartsAt.ToUnixTimeMilliseconds();
            next = other > start ? Math.Min(next, other) : next;
        }

        return (start, next == long.MaxValue ? next : next - 1);
    }

    internal static long Milliseconds(double seconds) => (long)Math.Round(seconds * 1000);
}
