using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>A replica takes over (section 7): it is brought to the instant wanted, by what waits to be applied or by going back, and promoted.</summary>
/// <param name="Replica">The replica.</param>
/// <param name="Host">The host it runs on then.</param>
/// <param name="Reaches">The instant reached.</param>
/// <param name="LostSeconds">Target − reached, seconds.</param>
/// <param name="PromoteSeconds">Seconds of the promotion alone.</param>
/// <param name="WorkSeconds">Seconds to apply what waits, or to go back.</param>
/// <param name="ServiceSeconds">Detect + decide + the way + check + redirect; by itself: notice + the way + redirect.</param>
/// <param name="ByItself">Whether no person is needed.</param>
/// <param name="Choice">What to decide so that this way is the best.</param>
public sealed record TakeOver(
    Id<Replica> Replica,
    Id<Host> Host,
    Instant Reaches,
    double LostSeconds,
    double PromoteSeconds,
    double WorkSeconds,
    double ServiceSeconds,
    bool ByItself,
    PathChoice Choice) : WayBack(Host, Reaches, LostSeconds, PromoteSeconds + WorkSeconds, ServiceSeconds, Choice)
{
    /// <summary>A replica, and the way it answers a question or why it does not.</summary>
    /// <param name="Replica">The replica.</param>
    /// <param name="Way">Its way; null when it does not answer.</param>
    /// <param name="WhyNot">Why it does not; null when it does.</param>
    public readonly record struct Answer(Replica Replica, TakeOver? Way, string? WhyNot);

    /// <summary>What each replica answers to a question, in the order of the file.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="question">What is asked.</param>
    /// <param name="loss">The loss, resolved.</param>
    public static IReadOnlyList<Answer> Each(RecoverySubject subject, PathQuestion question, Loss loss)
    {
        var byItself = Voters.WhoTakesOverByItself(subject, loss, question.At);
        return [.. subject.Replicas.Select(r => new Answer(r.Replica, Of(subject, r, question, loss, ReferenceEquals(r, byItself), out var why), why))];
    }

    /// <summary>The ways that answer, best first: latest, then fastest, then by priority, then in the order of the file.</summary>
    internal static IEnumerable<TakeOver> Ordered(IEnumerable<Answer> answers) => answers.Where(a => a.Way is not null)
        .OrderByDescending(a => a.Way!.Reaches).ThenBy(a => a.Way!.Seconds).ThenBy(a => a.Replica.Priority).Select(a => a.Way!);

    private static TakeOver? Of(RecoverySubject subject, ReplicaSource source, PathQuestion question, Loss loss, bool byItself, out string? why)
    {
        var (replica, d) = (source.Replica, subject.Database);
        var host = question.Choice.Host is { } named
            ? replica.Place.Hosts.Contains(named) && loss.Spares(subject.Fleet.Hosts[named]) ? named : (Id<Host>?)null
            : replica.HostAfter(loss, subject.Fleet)?.Id;
        why = source.WhyNotUnder(loss);
        if (why is not null)
        {
            return null;
        }

        if (source.IntervalAt(loss, question.At) is not var (first, last) || source.At(question.At) is not { } known)
        {
            why = source.Counts(loss, question.At) ? "nothing of it is known" : "it does not count at this instant";
            return null;
        }

        if (host is not { } runsOn)
        {
            why = $"it does not lie on {question.Choice.Host}";
            return null;
        }

        var target = question.Target.ToUnixTimeMilliseconds();
        if (target < first || (question.Branch is { } branch && known.Branch != branch))
        {
            why = target < first ? "it has gone past this instant" : $"it follows branch {known.Branch}";
            return null;
        }

        var until = Math.Min(target, last);
        var work = Work(subject.Fleet, replica, known, until);
        var seconds = replica.PromoteSeconds + work;
        var unasked = byItself && until == last;
        return new TakeOver(
            replica.Id,
            runsOn,
            Instant.FromUnixTimeMilliseconds(until),
            (target - until) / 1000.0,
            replica.PromoteSeconds,
            work,
            unasked ? (subject.Fleet.GroupOf(d.Id)?.NoticeSeconds ?? d.DetectSeconds) + seconds + d.RedirectSeconds : d.ServiceSeconds(seconds),
            unasked,
            new PathChoice(question.Choice.Host, Replica: replica.Id));
    }

    /// <summary>Seconds to apply what waits up to an instant, or to go back to it.</summary>
    private static double Work(FleetModel fleet, Replica replica, ReplicaSource.Known known, long until)
    {
        if (until < known.Earliest)
        {
            return replica.RewindTakesSeconds * ((known.Earliest - until) / 1000.0) / replica.RewindSeconds;
        }

        var waits = known.Received - known.Applied;
        var part = waits == 0 ? 0 : Math.Clamp((until - known.Applied) / (double)waits, 0, 1);
        return part * known.PendingBytes / replica.ApplyRateIn(fleet);
    }
}
