using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.RestoreTogether;

/// <summary>
/// Several databases are brought to one instant: each is restored aside by a run of its own, and held; what people decide once all are ready is passed on to each, so that all are released or all thrown away. Where one
/// cannot be had, none is kept. It touches no driver.
/// </summary>
internal sealed class RestoreTogetherKind(IServiceScopeFactory scopes, FleetState fleet, IClock clock) : IRunKind
{
    public const string KindName = "restore-together";

    /// <summary>What was asked.</summary>
    /// <param name="Of">What they are, in words.</param>
    /// <param name="To">The common instant.</param>
    /// <param name="Loss">The loss supposed.</param>
    /// <param name="Members">The databases, in the order in which they go.</param>
    public sealed record Question(string Of, Instant To, string Loss, IReadOnlyList<Member> Members);

    /// <summary>A database of it.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Host">Where it is restored.</param>
    /// <param name="Instance">The name of the instance.</param>
    public sealed record Member(string Database, string Host, string Instance);

    private sealed record OfMember(int Member);

    /// <inheritdoc/>
    public IReadOnlyList<string> Names { get; } = [KindName];

    /// <inheritdoc/>
    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        await using var scope = scopes.CreateAsyncScope();
        var (asked, services) = (run.Question<Question>(), scope.ServiceProvider);
        return step.Kind switch
        {
            "restore" => await RestoreAsync(run, asked, RunJson.Read<OfMember>(step.Work).Member, services, cancel),
            "release" or "discard" => await EndAsync(run, step, asked, services, cancel),
            _ => throw new InvalidOperationException(step.Kind),
        };
    }

    /// <summary>Calls off the run of a database; it takes back by itself what it did.</summary>
    public async Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        if (step.Kind == "restore")
        {
            await using var scope = scopes.CreateAsyncScope();
            await scope.ServiceProvider.GetRequiredService<RunDecisions>().CancelAsync(RunsOfMany.IdOf(run.Row.Id, RunJson.Read<OfMember>(step.Work).Member), run.Run.CancelledBy ?? run.Row.AskedBy!, cancel);
        }
    }

    /// <inheritdoc/>
    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<Question>();
        var chosen = run.Run.Plan.Steps.Where(s => s.IsHold).Select(s => run.Run[s.Number].Choice).LastOrDefault();
        var note = end.State == RunState.Cancelled ? $"called off by {run.Run.CancelledBy}; nothing was left behind"
            : end.Failed is { } failed ? $"{run.Run[failed].Note ?? "it could not be completed"}; none is kept"
            : chosen == RestoreAside.Release ? $"all {asked.Members.Count} are released, as of {Instants.Write(asked.To)}"
            : $"all {asked.Members.Count} were checked, then thrown away";
        return new Conclusion(end.State, note, LedgerBody: RunJson.Write(new
        {
            run = run.Row.Id,
            outcome = PlanFile.Name(end.State),
            why = note,
            begunBy = run.Row.AskedBy,
            decidedBy = run.Run.Plan.Steps.Where(s => s.IsHold).Select(s => run.Run[s.Number].DecidedBy).LastOrDefault(),
            of = asked.Of,
            to = asked.To,
            loss = asked.Loss,
            databases = asked.Members.Select(m => m.Database),
        }));
    }

    private static (string Database, Guid Id)[] RunsOf(RunContext run, Question asked) => [.. asked.Members.Select((m, i) => (m.Database, RunsOfMany.IdOf(run.Row.Id, i)))];

    /// <summary>Begins the restore of a database, and waits until it is held.</summary>
    private async Task<StepResult> RestoreAsync(RunContext run, Question asked, int member, IServiceProvider services, CancellationToken cancel)
    {
        var (m, id) = (asked.Members[member], RunsOfMany.IdOf(run.Row.Id, member));
        if (await services.GetRequiredService<ImbrekContext>().Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) is { } there)
        {
            return there.StateIs.IsOver() ? new StepResult($"{m.Database}: {there.Note}", Failed: true)
                : there.StateIs == RunState.Held ? new StepResult($"it is held; {Checked(there)}")
                : new StepResult(PlanFile.Name(there.StateIs), LookAgainAfter: Duration.FromSeconds(1));
        }

        var (db, now) = (fleet[m.Database], clock.GetCurrentInstant());
        var (d, loss) = (db.Subject.Database, Loss.Kept(asked.Loss, fleet.Fleet).For(db.Subject.Database, fleet.Fleet));
        var path = PathFinder.Find(db.Subject, new PathQuestion { Target = asked.To, At = now, Loss = loss, Choice = new(new(m.Host)), Learned = db.Learned });
        if (path.Best is not { } best || best.Reaches != asked.To)
        {
            return new StepResult($"{m.Database}: {(path.Best is { } other ? $"it can no longer be brought there, but to {Instants.Write(other.Reaches)}" : path.Reason)}", Failed: true);
        }

        var question = new RestoreQuestion(loss.ToString(), asked.To, null, null, null, m.Host, m.Instance, RestoreQuestion.Promise.Of(best));
        var row = NewRuns.Row(RestoreKind.KindName, m.Database, services.GetRequiredService<Drivers>().For(d).Name, question, Run.Of(new RunPlan(RestoreAside.Steps(d, best, m.Instance, held: true))), run.Row.AskedBy!, now);
        row.Claim = question.Claim;
        return await RunsOfMany.KeepAsync(run, id, row, services, cancel) with { LookAgainAfter = Duration.FromSeconds(1) };
    }

    /// <summary>What was looked at of one that is held: people decide about all of them by it.</summary>
    private static string Checked(RunRow one)
    {
        var checks = one.Result is { } json ? RunJson.Read<RestoreResult>(json).Checks : [];
        var bad = checks.Count(c => !c.Passed);
        return bad == 0 ? $"all {checks.Count} checks passed" : $"{bad} of {checks.Count} checks did not pass";
    }

    /// <summary>Passes the decision on, and waits until all are over.</summary>
    private async Task<StepResult> EndAsync(RunContext run, Step step, Question asked, IServiceProvider services, CancellationToken cancel)
    {
        var hold = step.After[0];
        var drive = await RunsOfMany.DriveAsync(run, asked.Of, RunsOf(run, asked), services, clock.GetCurrentInstant(), null, [new("hold", run.Run[hold].Choice!, run.Run[hold].DecidedBy!)], cancel);
        if (drive.LookAgainAfter is not null)
        {
            return drive;
        }

        var ids = RunsOf(run, asked).Select(r => r.Id).ToArray();
        var not = await services.GetRequiredService<ImbrekContext>().Runs.AsNoTracking().Where(r => ids.Contains(r.Id) && r.State != (short)RunState.Done).Select(r => r.Database + ": " + r.Note).ToListAsync(cancel);
        return not.Count == 0 ? drive : new StepResult(string.Join("; ", not), Failed: true);
    }
}
