using Imbrek.Core.Catalogue;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.CopyElsewhere;

/// <summary>Copies sets to another store: the one just taken, or all that are not there.</summary>
internal sealed class CopyElsewhereKind(Drivers drivers, FleetState fleet) : ITaskKind
{
    private sealed record Question(string? Set, string To, double? LockSeconds);

    public IReadOnlyList<string> Names { get; } = [PlanFile.Name(TaskKind.CopyElsewhere)];

    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run) => (
        RunJson.Write(new Question(run.Trigger?.Set?.Value, run.Task.Store!.Value.Value, run.Task.Lock?.TotalSeconds)),
        Run.Of(new RunPlan([TaskSteps.Of(run.Task, 1, "copy", $"Copy {(run.Trigger?.Set is { } one ? one.Value : "what is not there")} to {run.Task.Store}", run.Task.Store!.Value.Value, null)])),
        null);

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        var subject = fleet[run.Row.Database].Subject;
        var sets = ChosenSets.ToCopy(subject.Catalogue.Sets, asked.Set is null ? null : new(asked.Set), new(asked.To));
        var (seconds, bytes, copied) = (0.0, 0L, new List<BackupSet>());
        foreach (var set in sets)
        {
            var one = await drivers.Named(run.Row.Driver!).Backup.CopyAsync(run.Call, subject.Database.Id, set.Id, new(asked.To), asked.LockSeconds, cancel);
            (seconds, bytes) = (seconds + one.Seconds, bytes + one.Bytes);
            copied.Add(one.Set ?? set);
            progress((double)copied.Count / sets.Count);
        }

        return new StepResult($"{sets.Count} sets copied to {asked.To}", RunJson.Write(new TaskSteps.Measured(seconds, bytes)), Sets: copied);
    }
}
