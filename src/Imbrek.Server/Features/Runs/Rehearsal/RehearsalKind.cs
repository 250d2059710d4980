using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Rehearsal;

/// <summary>A rehearsal: a restore aside that is checked, measured and thrown away without anybody being asked.</summary>
internal sealed class RehearsalKind(RestoreSteps steps, FleetState fleet, IClock clock) : ITaskKind
{
    public const string KindName = "rehearsal";

    public IReadOnlyList<string> Names { get; } = [KindName, PlanFile.Name(TaskKind.TestRestore)];

    /// <summary>A test restore of a plan: to the newest instant that can be reached, on the first recovery host that lacks no key.</summary>
    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run)
    {
        var (db, now) = (fleet[run.Database.Id], clock.GetCurrentInstant());
        var answer = PathFinder.Find(db.Subject, new PathQuestion { Target = now, At = now, Choice = new(HostQualification.FirstWithKeys(db.Subject, Loss.None)), Learned = db.Learned });
        if (answer.Best is not { } path)
        {
            return (null, null, answer.Reason ?? "there is nothing to restore from");
        }

        // Of its own name, so that two that meet on a host do not meet in an instance.
        var asked = new RestoreQuestion(Loss.None.ToString(), now, null, null, null, path.Host.Value, $"rehearsal-{run.Id:n}"[..30], RestoreQuestion.Promise.Of(path));
        run.ExpectedSeconds = path.Seconds;
        return (RunJson.Write(asked), Run.Of(new RunPlan(RestoreAside.Steps(run.Database, path, asked.Instance, held: false))), null);
    }

    public Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel) => steps.DoAsync(run, step, progress, cancel);

    public Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => steps.UndoAsync(run, cancel);

    public (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => steps.GoOn(run, failure);

    public string? Measured(RunContext run) => steps.Measured(run) is { } m ? RunJson.Write(m) : null;

    public Tally TallyOf(RunContext run) => RestoreSteps.TallyOf(run);

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
