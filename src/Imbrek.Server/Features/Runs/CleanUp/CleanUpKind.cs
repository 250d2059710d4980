using Imbrek.Core.Catalogue;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Server.State;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs.CleanUp;

/// <summary>Removes copies that the plan's retention lets go: decided here, of what is known here, and carried out by the driver.</summary>
internal sealed class CleanUpKind(Drivers drivers, FleetState fleet, NpgsqlDataSource source, IClock clock) : ITaskKind
{
    public IReadOnlyList<string> Names { get; } = [PlanFile.Name(TaskKind.CleanUp)];

    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run) =>
        (null, Run.Of(new RunPlan([TaskSteps.Of(run.Task, 1, "remove", "Remove copies that need not stay", null, null)])), null);

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var subject = fleet[run.Row.Database].Subject;
        if (fleet.Fleet.Plans.FirstOrDefault(p => p.Id.Value == run.Row.Plan) is not { } plan)
        {
            return new StepResult("its plan is gone, and with it what says how long what is kept; nothing was removed");
        }

        var used = await SetsInUse.OfAsync(source, run.Row.Database, cancel);
        var go = Retention.ToRemove(plan, subject.Database, subject.Catalogue, clock.GetCurrentInstant(), set => used.Contains(set.Value));
        var removed = await drivers.Named(run.Row.Driver!).Backup.RemoveAsync(run.Call, subject.Database.Id, go, cancel);
        return new StepResult(
            $"{go.Count} copies removed", RunJson.Write(new TaskSteps.Measured(removed.Sum(r => r.Seconds), removed.Sum(r => r.Bytes))), Sets: [.. removed.Select(r => r.Set).OfType<BackupSet>()]);
    }
}
