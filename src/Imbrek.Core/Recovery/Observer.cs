using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>Puts together what is observed of one database under one loss: exposure, window and path.</summary>
public static class Observer
{
    /// <summary>Figures as of an instant.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="loss">The loss; a bare kind is the one the database lies on.</param>
    /// <param name="at">The as-of instant.</param>
    /// <param name="window">How far back the window reaches.</param>
    /// <param name="learned">What finished runs taught; null for the profile alone.</param>
    public static LossFigures Observe(RecoverySubject subject, Loss loss, Instant at, Duration window, Func<Id<Store>, Id<Host>, LearnedPace?>? learned)
    {
        var resolved = loss.For(subject.Database, subject.Fleet);
        Instant? latest = null;
        var figures = Over(subject, resolved, at - window, at, l => latest = l);
        var question = new PathQuestion { Target = at, At = at, Loss = resolved, Learned = learned };
        var answer = WayFinder.Find(subject, question);
        var cautious = answer.Best is { UsesLearned: true }
            ? WayFinder.Find(subject, question with { Cautious = true }).Best?.ServiceSeconds
            : answer.Best?.ServiceSeconds;
        return new LossFigures(resolved, latest, figures, answer.Best, answer.Reason, cautious);
    }

    /// <summary>
    /// Figures over a window in which the database may have run elsewhere: the loss of its own place was, at each instant, that of the place it had then. One of another place is the same throughout.
    /// </summary>
    private static WindowFigures Over(RecoverySubject subject, Loss loss, Instant from, Instant to, Action<Instant?> latestAtEnd)
    {
        var d = subject.Database;
        Branch[] moves = [.. d.Branches.Where(b => b.LeftHost is not null && b.StartsAt > from && b.StartsAt <= to).OrderBy(b => b.StartsAt)];
        if (moves.Length == 0 || loss.Kind is LossKind.None or LossKind.Hostile || Loss.OfKind(loss.Kind).For(d, subject.Fleet) != loss)
        {
            return Evaluator.Over(subject, loss, from, to, latestAtEnd);
        }

        var (start, pieces) = (from, new List<WindowFigures>());
        foreach (var move in moves.Where(m => m.StartsAt > start))
        {
            // At the instant at which it moves it has.
            pieces.Add(Evaluator.Over(subject, Loss.OfKind(loss.Kind).For(d with { Host = move.LeftHost!.Value }, subject.Fleet), start, move.StartsAt - Duration.FromMilliseconds(1)));
            start = move.StartsAt;
        }

        pieces.Add(Evaluator.Over(subject, loss, start, to, latestAtEnd));
        var worst = pieces.Where(p => p.WorstExposureSeconds is not null).MaxBy(p => p.WorstExposureSeconds);
        return new(from, to, worst?.WorstExposureSeconds, worst?.WorstAt, pieces[0].SecondsOverRpo is null ? null : pieces.Sum(p => p.SecondsOverRpo), pieces.Sum(p => p.SecondsUnprotected));
    }
}
