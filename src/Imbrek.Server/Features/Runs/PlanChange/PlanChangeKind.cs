using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.State;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs.PlanChange;

/// <summary>A change of a plan that leaves copies locked for less time than before: kept once a second person has seen what is at stake, and agrees.</summary>
internal sealed class PlanChangeKind(IServiceProvider services, NpgsqlDataSource source, FleetState fleet, IClock clock) : IRunKind
{
    public const string KindName = "plan-change";

    /// <summary>What was asked.</summary>
    /// <param name="Plan">The plan.</param>
    /// <param name="Removed">Whether it is removed.</param>
    /// <param name="BasedOn">The version it was made from.</param>
    /// <param name="Document">The plan as it is to be.</param>
    public sealed record Question(string Plan, bool Removed, int BasedOn, string Document);

    public IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>Its one step, which says what is at stake in figures.</summary>
    /// <param name="before">The plan as it is.</param>
    /// <param name="after">As it is to be.</param>
    /// <param name="removed">Whether it is removed.</param>
    /// <param name="basedOn">The version it was made from.</param>
    /// <param name="weaker">What it weakens.</param>
    /// <param name="state">What is known of its databases.</param>
    /// <param name="now">Now.</param>
    public static (Question Question, Run Run) Plan(Plan before, Plan after, bool removed, int basedOn, IReadOnlyList<WeakerLock> weaker, FleetState state, Instant now)
    {
        var members = before.Members.Of(state.Fleet).Where(d => state.Has(d.Id.Value)).ToArray();
        BackupCopy[] locked = [.. members.SelectMany(d => state[d.Id].Subject.Catalogue.Sets).SelectMany(s => s.Copies).Where(c => c.RemovedAt is null && c.LockedUntil > now)];
        var what = string.Join("; ", weaker.Select(w => $"copies of {w.Task} of {Databases(w.Databases)} are locked for {PlainDuration.Of(w.Before.TotalSeconds)} now, and {(w.After is { } a ? $"for {PlainDuration.Of(a.TotalSeconds)}" : "not at all")} from then on"));
        var there = locked.Length == 0 ? "no copy of them is locked now" : $"{locked.Length} {(locked.Length == 1 ? "copy" : "copies")} that {(locked.Length == 1 ? "is" : "are")} locked now {(locked.Length == 1 ? "stays" : "stay")} so, the last until {Instants.Write(locked.Max(c => c.LockedUntil!.Value))}";
        return (
            new(after.Id.Value, removed, basedOn, PlanFile.Write(after).ToJsonString()),
            Run.Of(new RunPlan(
            [
                new Step
                {
                    Number = 1,
                    Kind = "keep",
                    Title = $"{(removed ? "Remove" : "Change")} plan {before.Name}: {what}; {there}",
                    Subject = before.Id.Value,
                    ExpectedSeconds = 1,
                    ExpectedFrom = "profile",
                    NeedsApproval = true,
                    DecideWithinSeconds = Step.ApprovalSeconds,
                    Owner = DrillRunbook.SecondPerson,
                    NoWayBack = true,
                    TimeLimitSeconds = 60,
                    Attempts = 3,
                    BackOffSeconds = 2,
                },
            ])));
    }

    private static string Databases(int n) => n == 1 ? "1 database" : $"{n} databases";

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        var read = PlanFile.Read(Encoding.UTF8.GetBytes(asked.Document), fleet.Fleet, clock.GetCurrentInstant().InUtc().Date);
        var plan = read.Value ?? throw new DriverException(DriverProblem.Refused, $"{read.Faults[0].Member}: {read.Faults[0].Message}");
        try
        {
            // The dispatcher carries runs out, and this is one of them.
            var number = await PlanEndpoints.WriteAsync([(plan, asked.Removed, asked.BasedOn)], source, fleet, services.GetRequiredService<Dispatcher>(), run.Row.AskedBy!, clock, cancel);
            return new StepResult(asked.Removed ? $"plan {plan.Name} is removed" : $"version {number} of {plan.Name} is kept");
        }
        catch (BadInputException) when (fleet.Fleet.Plans.FirstOrDefault(p => p.Id == plan.Id) is var there && (asked.Removed ? there is null : there is not null && PlanFile.Write(there).ToJsonString() == asked.Document))
        {
            // It was kept before the process that kept it could say so.
            return new StepResult($"{plan.Name} is as it was asked for");
        }
        catch (BadInputException e)
        {
            throw new DriverException(DriverProblem.Refused, e.Message);
        }
    }

    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<Question>();
        var note = end.State == RunState.Cancelled ? $"cancelled by {run.Run.CancelledBy}" : run.Run[1].Note ?? "";
        return new Conclusion(end.State, note, LedgerBody: RunJson.Write(new
        {
            run = run.Row.Id,
            outcome = PlanFile.Name(end.State),
            why = note,
            begunBy = run.Row.AskedBy,
            decidedBy = run.Run[1].DecidedBy,
            plan = asked.Plan,
            removed = asked.Removed,
            what = run.Run.Plan[1].Title,
        }));
    }
}
