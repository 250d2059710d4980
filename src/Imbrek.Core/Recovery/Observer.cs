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
        var figures = Evaluator.Over(subject, resolved, at - window, at, l => latest = l);
        var question = new PathQuestion { Target = at, At = at, Loss = resolved, Learned = learned };
        var answer = WayFinder.Find(subject, question);
        var cautious = answer.Best is { UsesLearned: true }
            ? WayFinder.Find(subject, question with { Cautious = true }).Best?.ServiceSeconds
            : answer.Best?.ServiceSeconds;
        return new LossFigures(resolved, latest, figures, answer.Best, answer.Reason, cautious);
    }
}
