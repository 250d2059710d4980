using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Restore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Removal;

/// <summary>Removes an instance that a restore left: one that was released, or one that could not be removed when the restore ended.</summary>
internal sealed class RemovalKind(Drivers drivers) : IRunKind
{
    public const string KindName = "removal";

    /// <summary>What is to be removed.</summary>
    /// <param name="Restored">The run that made it.</param>
    /// <param name="Host">Where it is.</param>
    /// <param name="Instance">Its name.</param>
    public sealed record Question(Guid Restored, string Host, string Instance);

    public IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>Its one step.</summary>
    private static Run Plan(Question asked) => Run.Of(new RunPlan(
    [
        new Step { Number = 1, Kind = "discard", Title = $"Remove instance {asked.Instance} from {asked.Host}", Subject = asked.Host, Attempts = 4, BackOffSeconds = 1, RetryRefusals = true, TimeLimitSeconds = 3600 },
    ]));

    /// <summary>A run that removes what another left, which still has its claim; it claims that nobody else removes it meanwhile.</summary>
    /// <param name="left">The run that left it.</param>
    /// <param name="driver">Whose instance it is.</param>
    /// <param name="who">Who asks for it.</param>
    /// <param name="now">The instant.</param>
    public static RunRow Of(RunRow left, string driver, string who, Instant now)
    {
        var parts = left.Claim!.Split('/', 2);
        var asked = new Question(left.Id, parts[0], parts[1]);
        var row = NewRuns.Row(KindName, left.Database, driver, asked, Plan(asked), who, now);
        row.Claim = RestoreQuestion.BusyOf(left.Claim!);
        return row;
    }

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();

        // The instance belongs to the run that made it. That has ended, so no other process acts for it; its fences have risen no further than this.
        await drivers.Named(run.Row.Driver!).Restore.DiscardAsync(
            new RunCall(asked.Restored, long.MaxValue), new InstanceSpec(asked.Instance, new(run.Row.Database), new(asked.Host), asked.Restored), cancel);
        return new StepResult();
    }

    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<Question>();
        var gone = end.State == RunState.Done;
        var note = gone ? $"instance {asked.Instance} was removed from {asked.Host}" : $"instance {asked.Instance} may still be on {asked.Host}{(end.Failed is { } failed ? $": {run.Run[failed].Note}" : "")}";
        return new Conclusion(
            end.State,
            note,
            LedgerBody: RunJson.Write(new { run = run.Row.Id, outcome = PlanFile.Name(end.State), why = note, begunBy = run.Row.AskedBy, restoredBy = asked.Restored, host = asked.Host, instance = asked.Instance }),
            FreesClaim: gone ? RestoreQuestion.ClaimOf(asked.Host, asked.Instance) : null);
    }
}
