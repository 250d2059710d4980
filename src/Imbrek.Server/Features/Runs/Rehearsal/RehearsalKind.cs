using Imbrek.Core.Drivers;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Runs.Restore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Rehearsal;

/// <summary>A rehearsal: a restore aside that is checked, measured and thrown away without anybody being asked.</summary>
internal sealed class RehearsalKind(RestoreSteps steps) : IRunKind
{
    public const string KindName = "rehearsal";

    public string Name => KindName;

    public Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel) => steps.DoAsync(run, step, progress, cancel);

    public Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => steps.UndoAsync(run, cancel);

    public (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => steps.GoOn(run, failure);

    public string? Measured(RunContext run) => steps.Measured(run) is { } m ? RunJson.Write(m) : null;

    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var bad = steps.Measured(run)?.Checks.Count(c => !c.Passed) ?? 0;
        var state = end.State == RunState.Done && bad > 0 ? RunState.Failed : end.State;
        var note = end.State switch
        {
            RunState.Done => bad == 0 ? "restored aside, checked and thrown away" : $"restored aside and thrown away; {bad} checks did not pass",
            RunState.Cancelled => "cancelled; nothing was left behind",
            _ => end.Failed is { } failed ? run.Run[failed].Note ?? "it could not be completed" : "it could not be completed",
        };
        return steps.Conclude(run, end with { State = state }, note, proves: end.State == RunState.Done, keepsClaim: false, now);
    }
}
