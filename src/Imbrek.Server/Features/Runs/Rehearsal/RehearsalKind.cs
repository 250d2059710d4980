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
internal sealed class RehearsalKind(Drivers drivers, FleetState fleet, IClock clock) : RestoringKind(drivers, fleet, clock), ITaskKind
{
    public const string KindName = "rehearsal";

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName, PlanFile.Name(TaskKind.TestRestore)];

    /// <summary>A test restore of a plan: to the newest instant that can be reached, under the loss that must be proved first, on the first recovery host that lacks no key.</summary>
    public (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run)
    {
        var (db, now) = (Fleet[run.Database.Id], Clock.GetCurrentInstant());
        var test = RestoreTest.Next(db.Subject, db.Proofs, now, db.Learned, Fleet.PlanChanged(run.Database));
        if (test.Path is not { } path)
        {
            return (null, null, test.WhyNot);
        }

        // Of its own name, so that two that meet on a host do not meet in an instance.
        var (asked, plan) = RestoreQuestion.Rehearsed(run.Database, path, test.Loss, now, $"rehearsal-{run.Id:n}");
        run.ExpectedSeconds = path.Seconds;
        return (RunJson.Write(asked), plan, null);
    }

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var bad = Result(run)?.Checks.Count(c => !c.Passed) ?? 0;
        return Conclude(
            run,
            end,
            bad == 0 ? "restored aside, checked and thrown away" : $"restored aside and thrown away; {bad} checks did not pass",
            keepsClaim: false,
            now,
            end.State == RunState.Done && bad > 0 ? RunState.Failed : null);
    }
}
