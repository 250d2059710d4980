using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.TemporaryCopy;

/// <summary>A view, a clone, or what is left open for log; a clone refreshed under its name: rebuilt, or opened where its sets lie, checked, masked, opened to whom it was made for and to nobody else. It stands until its end date; a removal ends it.</summary>
internal sealed class TemporaryCopyKind(Drivers drivers, FleetState fleet, IClock clock) : RestoringKind(drivers, fleet, clock)
{
    public const string View = "view", Clone = "clone", LeftOpen = "open-for-log", Refresh = "refresh";

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [View, Clone, LeftOpen, Refresh];

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<RestoreQuestion>();
        var (spec, call) = (asked.Spec(run), asked.Call(run));
        switch (step.Kind)
        {
            case "mask":
                var masked = await Drivers.Named(run.Row.Driver!).Restore.MaskAsync(call, spec, asked.Mask!, cancel);
                return new StepResult(string.Join("; ", masked.Select(m => m.Detail)));
            case "let-in":
                var letIn = await Drivers.Named(run.Row.Driver!).Restore.LetInAsync(call, spec, [.. (asked.Hosts ?? []).Select(h => new Core.Fleet.Id<Core.Fleet.Host>(h))], run.Row.Kind == View, cancel);
                return new StepResult(string.Join("; ", letIn.Tried.Select(t => $"{t.Name}: {t.Detail}")), RunJson.Write(letIn), Failed: letIn.Tried.Any(t => !t.Passed));
            default:
                return await base.DoAsync(run, step, progress, cancel);
        }
    }

    /// <summary>Where a clone answers those it was made for; made anew it answers there still. Null where that is not known.</summary>
    public static string? AnswersAt(RunRow run) =>
        run.Kind == Clone && run.ToRun() is var made && made.Plan.Steps.Where(s => s.Kind == "let-in").Select(s => made[s.Number].Measured).LastOrDefault(m => m is not null) is { } letIn ? RunJson.Read<LetIn>(letIn).Answers : null;

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<RestoreQuestion>();
        if (run.Row.Kind == LeftOpen)
        {
            // Nobody opened it, so it proves nothing.
            return Conclude(run, end, $"stands on {asked.Host} as {asked.Instance}, open for log, with all up to {Instants.Write(Result(run)?.Reached ?? asked.Planned.Reaches)}", keepsClaim: end.State == RunState.Done, now) with { Proofs = null };
        }

        if (run.Row.Kind == Refresh)
        {
            var refreshed = Conclude(run, end, $"{asked.Instance} on {asked.Host} is as of {Instants.Write(Result(run)?.Reached ?? asked.Planned.Reaches)}", keepsClaim: false, now);
            return end.State == RunState.Done ? refreshed : refreshed with { Note = $"{refreshed.Note}; nobody is let into {asked.Instance} until it is refreshed" };
        }

        var bad = Result(run)?.Checks.Count(c => !c.Passed) ?? 0;
        var ended = Conclude(run, end, $"stands on {asked.Host} as {asked.Instance} until {Instants.Write(run.Row.Until!.Value)}{(bad == 0 ? "" : $"; {bad} checks did not pass")}", keepsClaim: end.State == RunState.Done, now);

        // What was opened where it lies says nothing of how long a restore takes.
        return asked.Mounted ? ended with { Proofs = null } : ended;
    }
}
