using Imbrek.Core.Drivers;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>A restore aside: rebuilt, checked, held until somebody has looked, then released or thrown away.</summary>
internal sealed class RestoreKind(RestoreSteps steps) : IRunKind
{
    public const string KindName = "restore";

    public IReadOnlyList<string> Names { get; } = [KindName];

    public Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel) => steps.DoAsync(run, step, progress, cancel);

    public Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => steps.UndoAsync(run, cancel);

    public (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => steps.GoOn(run, failure);

    public string? Measured(RunContext run) => steps.Measured(run) is { } m ? RunJson.Write(m) : null;

    public Tally TallyOf(RunContext run) => RestoreSteps.TallyOf(run);

    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var released = end.State == RunState.Done && Chosen(run.Run) == RestoreAside.Release;
        var note = end.State switch
        {
            RunState.Done => released ? "released; clients are let in" : "checked, then thrown away",
            RunState.Cancelled => "cancelled; nothing was left behind",
            _ => end.Failed is { } failed ? run.Run[failed].Note ?? "it could not be completed" : run.Run.CancelledBy is not null ? "cancelled" : "it could not be completed",
        };
        return steps.Conclude(run, end, note, proves: end.State == RunState.Done, keepsClaim: released, now);
    }

    /// <summary>What people chose at the hold; null before.</summary>
    public static string? Chosen(Run run) => run.Plan.Steps.LastOrDefault(s => s.IsHold) is { } hold ? run[hold.Number].Choice : null;
}
