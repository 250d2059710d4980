using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>
/// When a run that is under way has taken too long: it is past its task's window, or has been going for four times as long as it takes
/// alone and a quarter of an hour more. What is shared with others is slower, but seldom so much; what hangs has no other sign.
/// </summary>
public static class Overdue
{
    private const double Times = 4;
    private static readonly Duration Leeway = Duration.FromMinutes(15);

    /// <summary>What is wrong with a run that is under way, as a clause; null when nothing is, or it is not under way.</summary>
    /// <param name="run">The run.</param>
    /// <param name="task">Its task; null when it is no longer in the plan.</param>
    /// <param name="now">Now.</param>
    public static string? Of(TaskRun run, PlanTask? task, Instant now)
    {
        if (run is not { State: RunState.Running, Started: { } started })
        {
            return null;
        }

        if (task?.Window is { } window && now > run.Due + window)
        {
            return $"its window ended {PlainDuration.Of((now - run.Due - window).TotalSeconds)} ago";
        }

        return run.ExpectedSeconds > 0 && now - started > Leeway + Duration.FromSeconds(Times * run.ExpectedSeconds)
            ? $"it has been going for {PlainDuration.Of((now - started).TotalSeconds)}, alone it takes {PlainDuration.Of(run.ExpectedSeconds)}"
            : null;
    }
}
