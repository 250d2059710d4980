using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Backup;

/// <summary>A backup: a set is taken into its store, and copied on to further stores side by side.</summary>
internal sealed class BackupKind(Drivers drivers, FleetState fleet, DesignedState designed, RunHealth health) : ITaskKind
{
    private sealed record Question(TakeSpec Take, double? LockSeconds, string? Set);

    public IReadOnlyList<string> Names { get; } = [.. Enum.GetValues<TaskKind>().Where(k => k.Makes() is not null).Select(k => PlanFile.Name(k))];

    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run)
    {
        var (task, d) = (run.Task, run.Database);
        var stored = Stored(run);
        run.ExpectedSeconds = Alone(task) ?? 0;
        var steps = new List<Step>();
        if (run.Set is null)
        {
            steps.Add(TaskSteps.Of(task, 1, "take", $"Take a {task.Kind.Makes()!.Value.ToString().ToLowerInvariant()} into {task.Store}", task.Store!.Value.Value, Alone(task with { CopyTo = [] })));
        }

        // A set that was there already lacks only its further copies.
        int[] after = [.. steps.Select(s => s.Number)];
        steps.AddRange(task.CopyTo.Select((to, i) => TaskSteps.Of(task, i + 2, "copy", $"Copy it to {to}", to.Value, null, after)));
        return (RunJson.Write(new Question(TakeSpec.Of(task, d.Id), task.Lock?.TotalSeconds, run.Set?.Value)), Run.Of(new RunPlan(steps)), null);

        double? Alone(PlanTask t) => stored is { } bytes && RunPace.Alone(fleet.Fleet, d, t, bytes) is var seconds && double.IsFinite(seconds) ? seconds : null;
    }

    /// <summary>Bytes it should store: as many as the last run of the task on the database; while none has gone well, what the model says of the whole, and of a part nothing.</summary>
    private double? Stored(Occurrence run) => health.StoredLast(run.Database.Id, run.Series.Plan.Id, run.Task.Id) is { } bytes ? bytes
        : run.Task.Kind.Makes() is SetKind.Full or SetKind.Snapshot or SetKind.Export ? designed.KnownLoadOf(run.Database)?.StoredWhole(run.Task, run.Due)
        : null;

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (driver, asked, database) = (drivers.Named(run.Row.Driver!).Backup, run.Question<Question>(), new Id<Core.Fleet.Database>(run.Row.Database));
        if (step.Kind == "take")
        {
            var taken = await driver.TakeAsync(run.Call, asked.Take, cancel);
            return new StepResult(
                taken.Nothing ?? taken.Note, RunJson.Write(new TaskSteps.Measured(taken.Seconds, taken.Bytes, taken.Set?.DataBytes ?? 0, taken.Set?.Id.Value, taken.Nothing, taken.Set is { CoversFrom: { } covers } log ? (log.CoversTo - covers).TotalSeconds : 0)), Sets: taken.Set is null ? null : [taken.Set]);
        }

        if ((asked.Set ?? TaskSteps.MeasuredBy(run.Run).Select(m => m.Set).FirstOrDefault(s => s is not null)) is not { } set)
        {
            // There was nothing to take, so nothing to copy.
            return new StepResult();
        }

        var copied = await driver.CopyAsync(run.Call, database, new Id<BackupSet>(set), new Id<Store>(step.Subject!), asked.LockSeconds, cancel);
        return new StepResult(Measured: RunJson.Write(new TaskSteps.Measured(copied.Seconds, 0)), Sets: copied.Set is null ? null : [copied.Set]);
    }

    public Conclusion Conclude(RunContext run, Ending end, Instant now) => TaskSteps.Conclude(run, end);
}
