using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Drills;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.Features.Runs.Rehearsal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.JointDrill;

/// <summary>
/// A drill of a group, a service or a site. Each database has a run of its own that does and measures; this one begins them under identifiers that follow from its own, so that each is begun once whatever is
/// killed when, passes on what people decide, and waits. It touches no driver.
/// </summary>
internal sealed class JointDrillKind(IServiceScopeFactory scopes, FleetState fleet, IClock clock) : IRunKind
{
    public const string KindName = "joint-drill";

    private static readonly Duration LookAgain = Duration.FromSeconds(1);

    /// <summary>What was asked.</summary>
    /// <param name="Of">What it is held on, in words.</param>
    /// <param name="Kind">Restore test, switchover, forced or automatic.</param>
    /// <param name="Ending">How it ends.</param>
    /// <param name="Loss">The loss it stands for.</param>
    /// <param name="Members">Its databases, in the order in which they go.</param>
    public sealed record Question(string Of, DrillKind Kind, DrillEnding Ending, string Loss, IReadOnlyList<Member> Members);

    /// <summary>A database of it.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Replica">The replica that becomes the primary; null where sets are restored.</param>
    /// <param name="Host">The host it comes back on.</param>
    /// <param name="LostSeconds">What was expected to be lost.</param>
    /// <param name="ServiceSeconds">How long it was expected to take until clients are back; of a site what they wait for each other counts.</param>
    /// <param name="RpoSeconds">What was agreed then.</param>
    /// <param name="RtoSeconds">What was agreed then.</param>
    public sealed record Member(string Database, string? Replica, string Host, double LostSeconds, double ServiceSeconds, double? RpoSeconds, double? RtoSeconds);

    private sealed record OfMember(int Member);

    /// <summary>What the end of all measured, in the words of all steps, and what only it has.</summary>
    private sealed record Together(double Seconds, long Bytes, JointDrillResult Result);

    public IReadOnlyList<string> Names { get; } = [KindName];

    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        await using var scope = scopes.CreateAsyncScope();
        var (asked, services) = (run.Question<Question>(), scope.ServiceProvider);

        // Roles change in step; what is restored is not waited for.
        Task<StepResult> DriveAsync(string? until, IReadOnlyList<RunsOfMany.Pass> pass, bool all = false) => RunsOfMany.DriveAsync(
            run,
            asked.Of,
            [.. asked.Members.Select((m, i) => (m, Id: RunsOfMany.IdOf(run.Row.Id, i))).Where(x => x.m.Replica is not null).Select(x => (x.m.Database, x.Id))],
            services,
            clock.GetCurrentInstant(),
            until,
            pass,
            cancel,
            all);
        switch (step.Kind)
        {
            case "begin":
                return await BeginDrillAsync(run, asked, RunJson.Read<OfMember>(step.Work).Member, services, cancel);
            case "restore":
                return await RestoreAsync(run, asked, RunJson.Read<OfMember>(step.Work).Member, services, cancel);
            case "ready":
                return await DriveAsync("tell", [], all: true);
            case "agree":
                return new StepResult();
            case "go" or "back":
                var decider = Decider(run, step, step.Kind == "go" ? "tell" : "home");
                List<RunsOfMany.Pass> pass = [new("tell", DrillRunbook.Told, decider)];
                if (step.Kind == "back")
                {
                    pass.Add(new("home", DrillRunbook.GoHome, decider));
                }
                else if (run.Run.Plan.Steps.FirstOrDefault(s => s.Kind == "agree") is { NeedsApproval: true } agree && run.Run[agree.Number].DecidedBy is { } second)
                {
                    pass.Add(new("stop", Step.Approve, second));
                }

                var next = step.Kind == "go" && asked.Kind == DrillKind.Automatic ? asked.Ending == DrillEnding.Home ? "home" : null : "send";
                return await DriveAsync(next, pass);
            case "sent":
                return await DriveAsync(asked.Ending == DrillEnding.Home && IsFirst(run, step) ? "home" : null, [new("send", DrillRunbook.Send, Decider(run, step, "send"))]);
            case "stay":
                return await DriveAsync(null, [new("home", DrillRunbook.Stay, Decider(run, step, "home"))]);
            case "end":
                var result = ResultOf(run.Run, asked, await RowsAsync(run, asked, services, cancel));
                return new StepResult($"{result.Passed} of {result.Members.Count} came back within what was agreed", RunJson.Write(new Together(0, 0, result)));
            default:
                throw new InvalidOperationException(step.Kind);
        }
    }

    /// <summary>Calls off the run of a database; it takes back by itself what it did.</summary>
    public async Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        if (step.Kind is not ("begin" or "restore"))
        {
            return;
        }

        await using var scope = scopes.CreateAsyncScope();
        await scope.ServiceProvider.GetRequiredService<RunDecisions>().CancelAsync(RunsOfMany.IdOf(run.Row.Id, RunJson.Read<OfMember>(step.Work).Member), run.Row.AskedBy!, cancel);
    }

    /// <inheritdoc/>
    public string? Measured(RunContext run) => Result(run) is { } r ? RunJson.Write(r) : null;

    /// <inheritdoc/>
    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, result) = (run.Question<Question>(), Result(run));
        var note = end.State == RunState.Cancelled ? $"called off by {run.Run.CancelledBy}"
            : end.Failed is { } failed ? run.Run[failed].Note ?? "it could not be completed"
            : result is null ? ""
            : result.Passed == result.Members.Count ? $"passed: all {result.Passed} came back within what was agreed"
            : $"did not pass: {result.Members.Count - result.Passed} of {result.Members.Count} did not come back within what was agreed: {string.Join(", ", result.Members.Where(m => !m.Passed).Select(m => m.Database))}";
        return new Conclusion(end.State, note, LedgerBody: RunJson.Write(new
        {
            run = run.Row.Id,
            outcome = PlanFile.Name(end.State),
            why = note,
            begunBy = run.Row.AskedBy,
            decidedBy = run.Run.Plan.Steps.Select(s => run.Run[s.Number].DecidedBy).LastOrDefault(d => d is not null),
            of = asked.Of,
            kind = asked.Kind,
            ending = asked.Ending,
            loss = asked.Loss,
            planned = asked.Members.Select(m => new { database = m.Database, lostSeconds = m.LostSeconds, serviceSeconds = m.ServiceSeconds }),
            result,
        }));
    }

    private static JointDrillResult? Result(RunContext run) =>
        run.Run.Plan.Steps.Where(s => s.Kind == "end").Select(s => run.Run[s.Number].Measured).FirstOrDefault(m => m is not null) is { } measured ? RunJson.Read<Together>(measured).Result : null;

    /// <summary>Who decided at the last hold of a kind before a step.</summary>
    private static string Decider(RunContext run, Step step, string kind) => run.Run[run.Run.Plan.Steps.Last(s => s.Kind == kind && s.IsHold && s.Number < step.Number).Number].DecidedBy!;

    private static bool IsFirst(RunContext run, Step step) => run.Run.Plan.Steps.First(s => s.Kind == step.Kind).Number == step.Number;

    private async Task<StepResult> BeginDrillAsync(RunContext run, Question asked, int member, IServiceProvider services, CancellationToken cancel)
    {
        var (data, planning, m) = (services.GetRequiredService<ImbrekContext>(), services.GetRequiredService<DrillPlanning>(), asked.Members[member]);
        var id = RunsOfMany.IdOf(run.Row.Id, member);
        if (await data.Runs.AnyAsync(r => r.Id == id, cancel))
        {
            return new StepResult();
        }

        var request = new DrillRequest(m.Replica!, PlanFile.Name(asked.Kind), PlanFile.Name(asked.Ending), m.Host, asked.Kind == DrillKind.Forced ? asked.Loss : null, true);
        try
        {
            var drill = await planning.ReadAsync(request, cancel, joint: true);
            var (question, plan) = await planning.PlanAsync(drill, request, run.Row.Id, cancel);
            var row = NewRuns.Row(DrillRunKind.KindName, m.Database, services.GetRequiredService<Drivers>().For(drill.Database).Name, question, plan, run.Row.AskedBy!, clock.GetCurrentInstant());
            row.Claim = $"replica:{ClaimOf(run, asked, member)}";
            return await RunsOfMany.KeepAsync(run, id, row, services, cancel);
        }
        catch (BadInputException e)
        {
            throw new DriverException(DriverProblem.Refused, $"{m.Database}: {e.Message}");
        }
    }

    /// <summary>What nobody else may have meanwhile: its group, as a drill of it alone would; its database where this drill has its group already.</summary>
    private string ClaimOf(RunContext run, Question asked, int member)
    {
        string Of(int i) => TakeOverKind.ClaimOf(fleet.Fleet, new(asked.Members[i].Database));
        var own = Of(member);
        return run.Row.Claim == $"replica:{own}" || Enumerable.Range(0, member).Any(i => asked.Members[i].Replica is not null && Of(i) == own) ? $"{asked.Members[member].Database}:take-over" : own;
    }

    private async Task<StepResult> RestoreAsync(RunContext run, Question asked, int member, IServiceProvider services, CancellationToken cancel)
    {
        var (data, m) = (services.GetRequiredService<ImbrekContext>(), asked.Members[member]);
        var id = RunsOfMany.IdOf(run.Row.Id, member);
        if (await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) is { } row)
        {
            // One that did not come back is said in the end; the others are not kept waiting.
            return row.StateIs.IsOver() ? new StepResult(row.Note) : new StepResult(PlanFile.Name(row.StateIs), LookAgainAfter: LookAgain);
        }

        var (db, now) = (fleet[m.Database], clock.GetCurrentInstant());
        var test = RestoreTest.Under(db.Subject, Loss.Kept(asked.Loss, fleet.Fleet).For(db.Subject.Database, fleet.Fleet), now, new Id<Core.Fleet.Host>(m.Host), db.Learned);
        if (test.Path is not { } path)
        {
            return new StepResult(test.WhyNot);
        }

        var (question, plan) = RestoreQuestion.Rehearsed(db.Subject.Database, path, test.Loss, now, $"drill-{id:n}");
        var made = NewRuns.Row(RehearsalKind.KindName, m.Database, services.GetRequiredService<Drivers>().For(db.Subject.Database).Name, question, plan, run.Row.AskedBy!, now);
        made.Claim = question.Claim;
        return await RunsOfMany.KeepAsync(run, id, made, services, cancel) with { LookAgainAfter = LookAgain };
    }

    private static async Task<IReadOnlyList<RunRow?>> RowsAsync(RunContext run, Question asked, IServiceProvider services, CancellationToken cancel)
    {
        Guid[] ids = [.. asked.Members.Select((_, i) => RunsOfMany.IdOf(run.Row.Id, i))];
        var rows = await services.GetRequiredService<ImbrekContext>().Runs.AsNoTracking().Where(r => ids.Contains(r.Id)).ToDictionaryAsync(r => r.Id, cancel);
        return [.. ids.Select(i => rows.GetValueOrDefault(i))];
    }

    /// <summary>What its databases have measured so far, each in its own run.</summary>
    /// <param name="run">The drill of all.</param>
    /// <param name="asked">What was asked.</param>
    /// <param name="rows">The runs of its databases; null for one that has not begun.</param>
    public static JointDrillResult ResultOf(Run run, Question asked, IReadOnlyList<RunRow?> rows)
    {
        var agreed = run.Plan.Steps.Where(s => s.Kind == "agree").Select(s => run[s.Number].EndedAt).FirstOrDefault();
        var drills = rows.Select(r => r is { Kind: DrillRunKind.KindName, Result: { } json } ? RunJson.Read<DrillResult>(json) : null).ToArray();
        var lostAt = asked.Kind == DrillKind.RestoreTest ? rows.Min(r => r?.Started) : drills.Select(d => d?.Changes.FirstOrDefault()?.StoppedAt).Append(agreed).Min();
        return new(lostAt, [.. asked.Members.Select((m, i) =>
        {
            var (row, done) = (rows[i], rows[i]?.StateIs == RunState.Done);
            if (drills[i] is { } d)
            {
                var back = d.Changes.FirstOrDefault()?.BackAt is { } at && lostAt is { } from ? (at - from).TotalSeconds : (double?)null;
                var late = asked.Kind != DrillKind.Switchover && back > m.RtoSeconds;
                return new JointDrillResult.Outcome(
                    m.Database, row!.Id, d.Changes.Max(c => c.LostSeconds), d.Changes.Max(c => c.ServiceSeconds), back, m.RtoSeconds, done && d.Passed == true && !late, done && d.Passed == true && late ? Late(back!.Value, m) : row.Note);
            }

            var r = row is { Kind: RehearsalKind.KindName, Result: { } json } ? RunJson.Read<RestoreResult>(json) : null;

            // What the restore itself cannot know: how long it waited for the others before it began.
            double? waited = r is null || lostAt is null || row!.Started is null ? null : Math.Max(0, (row.Started.Value - lostAt.Value).TotalSeconds);
            var service = r?.ServiceSeconds + waited;
            return new(m.Database, row?.Id, r?.DataLostSeconds, r?.ServiceSeconds, service, m.RtoSeconds, done && r is not null && r.Checks.All(c => c.Passed) && !(r.DataLostSeconds > m.RpoSeconds) && !(service > m.RtoSeconds), row is null ? "it was not begun" : done && service > m.RtoSeconds ? Late(service!.Value, m) : row.Note);
        })]);

        static string Late(double seconds, Member m) => $"with the others it was back after {PlainDuration.Beyond(seconds, m.RtoSeconds!.Value)}";
    }
}
