using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>What a change of roles from a database's primary to one of its replicas is expected to come to at an instant (section 11). Where it is refused there are no figures.</summary>
/// <param name="Refused">Why it cannot be done, all reasons; empty when it can.</param>
/// <param name="LostSeconds">What is lost, seconds.</param>
/// <param name="LostBytes">What is lost, bytes of log; null also when the log rate is not stated.</param>
/// <param name="WriteStopSeconds">How long nobody can write, seconds.</param>
/// <param name="ServiceSeconds">Until clients work again, seconds: what the RTO is compared with.</param>
/// <param name="Approval">Whether a second person must agree, because something may be lost.</param>
public sealed record PlannedDrill(IReadOnlyList<string> Refused, double? LostSeconds, double? LostBytes, double? WriteStopSeconds, double? ServiceSeconds, bool? Approval)
{
    /// <summary>Both sides are alive and work together: writes stop, the target catches up, roles change.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="source">The replica, one of it.</param>
    /// <param name="at">When writes stop.</param>
    public static PlannedDrill Switchover(RecoverySubject subject, ReplicaSource source, Instant at)
    {
        at = Instants.Floor(at);
        var (replica, d, known) = (source.Replica, subject.Database, source.At(at));
        var flow = LogFlow.Of(d);
        var lag = known is { } k ? (at - k.ReceivedTo).TotalSeconds : 0;
        var backlog = known is null ? 0 : flow?.Between(at, -lag, 0) ?? 0;
        var rate = replica.ReceiveRateIn(subject.Fleet);
        var refused = new List<string>();
        if (WhyNotIn(replica, at) is { } span)
        {
            refused.Add(span);
        }

        if (replica.TakesOver == TakesOver.Never)
        {
            refused.Add($"{replica.Id} is only read from");
        }

        if (source.Note.Unusable is { } unusable)
        {
            refused.Add($"{replica.Id} cannot be used: {unusable}");
        }

        if (known is not { Covers: true })
        {
            refused.Add(known is null ? $"nothing is known of {replica.Id} up to {Instants.Write(at)}" : $"{replica.Id} was last seen receiving at {Instants.Write(known.Value.Until)}");
        }

        if (source.WhyItCannotFollow(at) is { } why)
        {
            refused.Add($"{replica.Id} cannot follow: {why}");
        }

        if (rate == 0 && backlog > 0)
        {
            refused.Add($"there is no link over which {replica.Id} could receive what it lacks");
        }

        if (refused.Count > 0)
        {
            return new(refused, null, null, null, null, null);
        }

        // What is missing is received while what came before it is applied.
        var pending = Math.Max(known!.Value.PendingBytes, flow?.Between(at, -lag - replica.DelaySeconds, -lag) ?? 0);
        var receive = backlog == 0 ? 0 : backlog / rate;
        var apply = (pending + backlog) / replica.ApplyRateIn(subject.Fleet);
        var seconds = Math.Max(receive, apply) + replica.PromoteSeconds + d.CheckSeconds + d.RedirectSeconds;
        return new([], 0, 0, seconds, seconds, false);
    }

    /// <summary>The source is taken for lost: what was not received is lost.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="source">The replica, one of it.</param>
    /// <param name="at">The instant of the loss.</param>
    /// <param name="loss">What is lost: a host, an array or a site.</param>
    /// <exception cref="ArgumentException">The loss is of another kind.</exception>
    public static PlannedDrill Forced(RecoverySubject subject, ReplicaSource source, Instant at, Loss loss)
    {
        loss = loss.For(subject.Database, subject.Fleet);
        if (loss.Kind is LossKind.None or LossKind.Hostile)
        {
            throw new ArgumentException("what is lost must be a host, an array or a site", nameof(loss));
        }

        at = Instants.Floor(at);
        var replica = source.Replica;
        var refused = new List<string>();
        if (WhyNotIn(replica, at) is { } span)
        {
            refused.Add(span);
        }

        if (source.WhyNotUnder(loss) is { } not)
        {
            refused.Add($"{replica.Id} does not count: {not}");
        }

        var known = source.At(at);
        if (known is null)
        {
            refused.Add($"nothing is known of {replica.Id} up to {Instants.Write(at)}");
        }

        var way = TakeOver.Each(subject, new PathQuestion { Target = at, At = at, Loss = loss }, loss).First(a => a.Replica.Id == replica.Id).Way;
        if (way is null && refused.Count == 0)
        {
            refused.Add($"{replica.Id} holds nothing that could still be used at {Instants.Write(at)}");
        }

        if (source.WhyItCannotFollow(at) is { } why)
        {
            refused.Add($"{replica.Id} cannot follow: {why}");
        }

        if (refused.Count > 0)
        {
            return new(refused, null, null, null, null, null);
        }

        var lost = (at - known!.Value.ReceivedTo).TotalSeconds;
        return new([], lost, LogFlow.Of(subject.Database)?.Between(at, -lost, 0), way!.ServiceSeconds, way.ServiceSeconds, lost > 0);
    }

    /// <summary>The primary is stopped and nobody helps: the replica takes over by itself. Refused where it would not.</summary>
    /// <inheritdoc cref="Switchover"/>
    public static PlannedDrill Automatic(RecoverySubject subject, ReplicaSource source, Instant at)
    {
        at = Instants.Floor(at);
        var loss = Loss.Of(subject.Database.Host);
        var planned = Forced(subject, source, at, loss);
        if (planned.Refused.Count > 0)
        {
            return planned;
        }

        var replica = source.Replica;
        if (!ReferenceEquals(Voters.WhoTakesOverByItself(subject, loss, at), source))
        {
            var why = replica.TakesOver != TakesOver.ByItself ? "it takes over when a person says so"
                : !replica.LosesNothing ? "its mode can lose: unasked it would lose what it lacks"
                : subject.Fleet.GroupOf(subject.Database.Id) is not { Voters.Count: > 0 } group ? "its group has no voters"
                : !Voters.HaveMajorityAfter(group, loss, subject.Fleet) ? "no majority of the voters would be left"
                : "it is not in step, or another comes first";
            return new([$"{replica.Id} would not take over by itself: {why}"], null, null, null, null, null);
        }

        return planned with { LostSeconds = 0, LostBytes = planned.LostBytes is null ? null : 0, Approval = false };
    }

    private static string? WhyNotIn(Replica replica, Instant at) =>
        at < replica.Since ? $"{replica.Id} begins at {Instants.Write(replica.Since.Value)}" : at >= replica.Until ? $"{replica.Id} ended at {Instants.Write(replica.Until.Value)}" : null;
}
