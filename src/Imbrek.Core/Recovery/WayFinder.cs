using Imbrek.Core.Replication;

namespace Imbrek.Core.Recovery;

/// <summary>Finds all ways back (sections 4 and 7): by sets and by replicas, which compete by the same rule.</summary>
public static class WayFinder
{
    /// <summary>The best way, or the reason why there is none.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="question">What is asked.</param>
    /// <param name="alternatives">How many alternatives to list at most; 0 for the best way alone.</param>
    /// <exception cref="ArgumentException">The target lies after the as-of instant.</exception>
    public static PathAnswer<WayBack> Find(RecoverySubject subject, PathQuestion question, int alternatives = 0)
    {
        var choice = question.Choice;
        var sets = PathFinder.Find(subject, question with { Choice = choice with { Replica = null } }, alternatives);
        if (subject.Replicas.Count == 0)
        {
            return new(sets.Host, sets.Best, sets.Alternatives, sets.Reason);
        }

        var loss = question.Loss.For(subject.Database, subject.Fleet);
        var answers = TakeOver.Each(subject, question, loss);
        TakeOver[] replicas = [.. TakeOver.Ordered(answers)];
        WayBack[] bySets = sets.Best is { } path ? [path] : [];

        // What was decided on goes before everything; of equals the replica.
        IEnumerable<WayBack> open = choice.Replica is { } named ? replicas.Where(r => r.Replica == named) : choice.IsOfSets ? bySets : [.. replicas, .. bySets];
        if (Ordered(open).FirstOrDefault() is not { } best)
        {
            return new(sets.Host, null, [], choice.Replica is { } wanted ? answers.Where(a => a.Replica.Id == wanted).Select(a => $"{wanted} cannot take over: {a.WhyNot}").FirstOrDefault($"{subject.Database.Id} has no replica {wanted}") : sets.Reason);
        }

        return new(best.Host, best, [.. Ordered([.. replicas, .. bySets, .. sets.Alternatives]).Where(w => !ReferenceEquals(w, best)).Take(alternatives)], null);

        static IEnumerable<WayBack> Ordered(IEnumerable<WayBack> ways) => ways.OrderByDescending(w => w.Reaches).ThenBy(w => w.Seconds);
    }
}
