using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Server.Features.Runs.IntegrityCheck;

/// <summary>Reads the database itself and looks for damage.</summary>
internal sealed class IntegrityCheckKind(Drivers drivers) : ITaskKind
{
    public IReadOnlyList<string> Names { get; } = [PlanFile.Name(TaskKind.IntegrityCheck)];

    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run) =>
        (null, Run.Of(new RunPlan([TaskSteps.Of(run.Task, 1, "check", "Read the whole database and look for damage", run.Database.Host.Value, null)])), null);

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (found, moved) = await drivers.Named(run.Row.Driver!).Backup.CheckIntegrityAsync(run.Call, new(run.Row.Database), cancel);
        return new StepResult(found, RunJson.Write(new TaskSteps.Measured(moved.Seconds, 0, moved.Bytes)));
    }
}
