using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.ReadBack;

/// <summary>Reads copies back and compares their bytes with what was written.</summary>
internal sealed class ReadBackKind(Drivers drivers, FleetState fleet) : ITaskKind
{
    private sealed record Question(string? Set);

    public IReadOnlyList<string> Names { get; } = [PlanFile.Name(TaskKind.Verify)];

    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run) => (
        RunJson.Write(new Question(run.Trigger?.Set?.Value)),
        Run.Of(new RunPlan([TaskSteps.Of(run.Task, 1, "read", run.Trigger?.Set is { } one ? $"Read {one} back" : "Read back what was never read, and all bases", null, null)])),
        null);

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var set = run.Question<Question>().Set;
        var database = fleet[run.Row.Database].Subject;
        SetCopy[] copies = [.. ChosenSets.ToReadBack(database.Catalogue.Sets, set is null ? null : new(set))];
        var read = await drivers.Named(run.Row.Driver!).Backup.ReadBackAsync(run.Call, database.Database.Id, copies, cancel);
        var states = read.Where(r => r.Set is not null).SelectMany(r => r.Set!.Copies.Select(c => (r.Set.Id, c.Store, c.State))).ToDictionary(c => (c.Id, c.Store), c => c.State);
        string[] bad = [.. copies.Where(c => states.GetValueOrDefault((c.Set, c.Store)) == CopyState.Damaged).Select(c => $"{c.Set} in {c.Store}")];
        return new StepResult(
            bad.Length == 0 ? $"{copies.Length} copies read, all whole" : $"{copies.Length} copies read, damaged: {string.Join(", ", bad)}",
            RunJson.Write(new TaskSteps.Measured(read.Sum(r => r.Seconds), read.Sum(r => r.Bytes))),
            Sets: [.. read.Select(r => r.Set).OfType<BackupSet>()],
            Failed: bad.Length > 0);
    }
}
