using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>What comes of having a replica take over at an instant, its primary's host being lost or given up (section 7), as far as the figures tell.</summary>
/// <param name="WhyNot">Why it cannot; null when it can.</param>
/// <param name="LostSeconds">What was committed and may not have been received, seconds; 0 where nothing is known.</param>
/// <param name="LostBytes">The same, bytes of log; null when the log rate is not stated or nothing is known.</param>
/// <param name="Way">The way; null when it does not answer.</param>
/// <param name="Others">The other replicas, and whether they follow.</param>
/// <param name="FirstBase">The task that takes the first base of the new branch; null when no plan does.</param>
public sealed record Promoting(string? WhyNot, double LostSeconds, double? LostBytes, TakeOver? Way, IReadOnlyList<Promoting.Other> Others, PlanTask? FirstBase)
{
    /// <summary>Another replica of the database.</summary>
    /// <param name="Replica">Which.</param>
    /// <param name="WhyNot">Why it may not follow the new primary; null when it follows.</param>
    public sealed record Other(Id<Replica> Replica, string? WhyNot);

    /// <summary>Whether a second person must approve it: something may be lost.</summary>
    public bool NeedsApproval => LostSeconds > 0;

    /// <summary>The task that takes the first base of a database or branch that has none; null when no plan does.</summary>
    /// <param name="fleet">The fleet with its plans.</param>
    /// <param name="database">The database.</param>
    public static PlanTask? FirstBaseOf(FleetModel fleet, Database database) =>
        fleet.PlansOf(database).SelectMany(p => p.Tasks).Where(t => t.Kind is TaskKind.Full or TaskKind.Snapshot or TaskKind.Export && t.Store is not null).MinBy(t => t.Kind);

    /// <summary>What comes of it.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="source">The replica.</param>
    /// <param name="at">When.</param>
    public static Promoting Of(RecoverySubject subject, ReplicaSource source, Instant at)
    {
        var replica = source.Replica;
        var loss = Loss.Of(subject.Database.Host);
        var way = TakeOver.Each(subject, new PathQuestion { Target = at, At = at, Loss = loss }, loss).First(a => a.Replica.Id == replica.Id).Way;
        var known = source.At(at);
        var lost = known is { } k ? Lost(k) : 0;
        return new Promoting(
            source.Note.Unusable ?? (replica.TakesOver == TakesOver.Never ? "it is only read from" : known is null ? "nothing is known of it" : source.WhyItCannotFollow(at)),
            lost,
            known is null ? null : LogFlow.Of(subject.Database)?.Between(at, -lost, 0),
            way,
            [.. subject.Replicas.Where(r => r != source).Select(r => new Other(r.Replica.Id, WhyNotFollowing(r)))],
            FirstBaseOf(subject.Fleet, subject.Database));

        // Nothing is committed without one that every commit waits for: seen in step a moment ago it lacks nothing.
        double Lost(ReplicaSource.Known k) =>
            replica.LosesNothing && k.ReceivedTo == Instant.Min(at, k.Until) && at - k.Until <= LagWatch.LooksAgainWithin(replica) ? 0 : Math.Max(0, (at - k.ReceivedTo).TotalSeconds);

        // One that has received more than the new primary holds what that never had.
        string? WhyNotFollowing(ReplicaSource other) => other.At(at) is not { } theirs || known is not { } ours ? "nothing is known of it"
            : theirs.ReceivedTo <= ours.ReceivedTo ? null
            : $"it may hold {PlainDuration.Of((theirs.ReceivedTo - ours.ReceivedTo).TotalSeconds)} more than the new primary: it must be mended then";
    }
}
