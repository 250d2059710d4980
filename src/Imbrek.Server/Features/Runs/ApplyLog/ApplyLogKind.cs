using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Restore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.ApplyLog;

/// <summary>Further log is applied to what was left open for it, by hand or on its schedule; opened, it is checked and held like any restore, then let in or thrown away.</summary>
internal sealed class ApplyLogKind(Drivers drivers) : IRunKind
{
    public const string KindName = "apply-log";

    /// <summary>What was asked.</summary>
    /// <param name="On">The run that made it, and which of those on it this is.</param>
    /// <param name="Of">What that was asked for.</param>
    /// <param name="To">Up to which instant; what is opened is checked against it.</param>
    /// <param name="Opens">Whether it is opened.</param>
    public sealed record Question(RestoreQuestion.MadeBy On, RestoreQuestion Of, Instant To, bool Opens);

    /// <summary>What it measured.</summary>
    /// <param name="Reached">The instant it holds; null where no log was applied.</param>
    /// <param name="Sets">How many sets were applied.</param>
    /// <param name="Last">The last of them.</param>
    public sealed record Result(Instant? Reached, int Sets, string? Last, double Seconds, long Bytes, IReadOnlyList<CheckResult> Checks);

    /// <inheritdoc/>
    public IReadOnlyList<string> Names { get; } = [KindName];

    /// <inheritdoc/>
    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        var measured = await RestoreAside.DoAsync(step, drivers.Named(run.Row.Driver!).Restore, asked.On.Call(run.Call), asked.Of.Spec(run.Row.Database, asked.On.Run), asked.To, null, progress, cancel);
        return RestoringKind.SaidOf(measured);
    }

    /// <inheritdoc/>
    public string? Measured(RunContext run)
    {
        var steps = RestoreAside.MeasuredBy(run.Run).Where(m => run.Run[m.Step.Number].State == StepState.Done).ToArray();
        var logs = steps.Where(m => m.Step.Kind == "logs").ToArray();
        return steps.Length == 0
            ? null
            : RunJson.Write(new Result(
                logs.Select(l => l.Measured.Reached).LastOrDefault() is { } reached ? Instants.Parse(reached) : null,
                logs.Sum(l => RestoreAside.PiecesOf(l.Step).Count),
                logs.SelectMany(l => RestoreAside.PiecesOf(l.Step)).LastOrDefault()?.Set,
                logs.Sum(l => l.Measured.Seconds),
                logs.Sum(l => l.Measured.Bytes),
                steps.Select(s => s.Measured.Checks).LastOrDefault(c => c is not null) ?? []));
    }

    /// <inheritdoc/>
    public Tally TallyOf(RunContext run) => new(0, RestoreAside.MeasuredBy(run.Run).Sum(m => m.Measured.Bytes), null);

    /// <inheritdoc/>
    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<Question>();
        var result = Measured(run) is { } json ? RunJson.Read<Result>(json) : null;
        var chosen = run.Run.Plan.Steps.Where(s => s.IsHold).Select(s => run.Run[s.Number].Choice).LastOrDefault();
        var gone = end.State == RunState.Done && chosen == RestoreAside.ThrowAway;
        var note = end.State switch
        {
            RunState.Cancelled => "ended by hand; what was applied stays applied",
            RunState.Failed => (end.Failed is { } failed ? run.Run[failed].Note : null) ?? "it could not be completed",
            _ when gone => "opened and checked, then thrown away",
            _ when asked.Opens => "opened, checked and released; clients are let in",
            _ => $"{result!.Sets} log {(result.Sets == 1 ? "set" : "sets")} applied; it holds all up to {Instants.Write(result.Reached ?? asked.To)}",
        };
        return new Conclusion(
            end.State,
            note,
            LedgerBody: asked.Opens || asked.Of.EverySeconds is null ? RunJson.Write(new { run = run.Row.Id, outcome = chosen ?? PlanFile.Name(end.State), why = note, begunBy = run.Row.AskedBy, of = asked.On.Run, instance = asked.Of.Instance, host = asked.Of.Host, to = Instants.Write(asked.To), measured = result }) : null,
            FreesClaim: gone ? asked.Of.Claim : null);
    }
}
