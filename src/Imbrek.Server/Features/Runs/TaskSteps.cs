using Imbrek.Core.Drivers;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;

namespace Imbrek.Server.Features.Runs;

/// <summary>What steps of tasks have in common: a task says how often, how long apart and how long it is tried.</summary>
internal static class TaskSteps
{
    /// <summary>What such a step measured.</summary>
    /// <param name="Seconds">Seconds its driver took.</param>
    /// <param name="Bytes">Bytes it moved, read or removed.</param>
    /// <param name="DataBytes">Bytes of data it was about; 0 when that is not said.</param>
    /// <param name="Set">The set it took; null when it took none.</param>
    /// <param name="Nothing">Why there was nothing to do; null when there was.</param>
    /// <param name="CoversSeconds">For a log: the seconds it covers.</param>
    public sealed record Measured(double Seconds, long Bytes, long DataBytes = 0, string? Set = null, string? Nothing = null, double CoversSeconds = 0);

    public static Step Of(PlanTask task, int number, string kind, string title, string? subject, double? seconds, params int[] after) => new()
    {
        Number = number,
        Kind = kind,
        Title = title,
        Subject = subject,
        After = after,
        ExpectedSeconds = seconds,
        ExpectedFrom = seconds is null ? null : "profile",
        Attempts = task.Attempts,
        BackOffSeconds = task.BackOff.TotalSeconds,
        TimeLimitSeconds = task.TimeLimit?.TotalSeconds,
    };

    /// <summary>Takes the set that a step of a run of another kind is about; called again it is found taken.</summary>
    public static async Task<StepResult> TakeAsync(IBackupDriver driver, RunCall call, Step step, CancellationToken cancel)
    {
        var taken = await driver.TakeAsync(call, RunJson.Read<TakeSpec>(step.Work), cancel);
        return new StepResult(taken.Nothing ?? taken.Note ?? taken.Set?.Id.Value, RunJson.Write(new Measured(taken.Seconds, taken.Bytes, Set: taken.Set?.Id.Value)), Sets: taken.Set is { } set ? [set] : null);
    }

    /// <summary>What the steps of a run measured.</summary>
    public static IEnumerable<Measured> MeasuredBy(Run run) => run.Plan.Steps.Select(s => run[s.Number].Measured).OfType<string>().Select(RunJson.Read<Measured>);

    /// <summary>The set that a step took; null when it took none.</summary>
    public static string? TakenBy(Run run, int step) => run[step].Measured is { } measured ? RunJson.Read<Measured>(measured).Set : null;

    /// <summary>What a run came to, for the columns that all runs have.</summary>
    public static Tally TallyOf(RunContext run)
    {
        Measured[] all = [.. MeasuredBy(run.Run)];
        return new Tally(all.Sum(m => m.DataBytes), all.Sum(m => m.Bytes), all.Select(m => m.Set).FirstOrDefault(s => s is not null) ?? run.Row.SetId);
    }

    /// <summary>How a run of a task ended, in words: the reason of the step that failed it, or what its last step said.</summary>
    public static Conclusion Conclude(RunContext run, Ending end)
    {
        if (end.State == RunState.Done && MeasuredBy(run.Run).Select(m => m.Nothing).FirstOrDefault(n => n is not null) is { } nothing)
        {
            return new Conclusion(RunState.LeftOut, nothing);
        }

        var said = end.Failed is { } failed ? run.Run[failed].Note
            : end.State == RunState.Cancelled ? $"ended by {run.Run.CancelledBy}"
            : run.Run.Plan.Steps.Select(s => run.Run[s.Number].Note).LastOrDefault(n => n is not null);
        return new Conclusion(end.State, said ?? "");
    }
}
