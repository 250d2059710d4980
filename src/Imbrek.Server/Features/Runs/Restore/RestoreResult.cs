using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Change;
using Imbrek.Server.Features.Runs.DumpedMove;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>What a restore measured; nothing in it comes from the plan.</summary>
/// <param name="Reached">The instant really reached, as the instance says.</param>
/// <param name="DataLostSeconds">Target − reached, seconds; not below 0.</param>
/// <param name="Bytes">Bytes read from stores.</param>
/// <param name="DriverSeconds">Seconds its driver took in all.</param>
/// <param name="SecondsToReady">From its beginning until it was ready and checked.</param>
/// <param name="HoldSeconds">Held until somebody decided; null before.</param>
/// <param name="SecondsToService">From its beginning until clients were let in, hold included; null when they were not.</param>
/// <param name="ServiceSeconds">Detect + decide + to ready + redirect: what RTO is compared with.</param>
/// <param name="ReadyAt">When it was ready and checked.</param>
/// <param name="Checks">What was checked.</param>
internal sealed record RestoreResult(
    Instant Reached,
    double DataLostSeconds,
    long Bytes,
    double DriverSeconds,
    double SecondsToReady,
    double? HoldSeconds,
    double? SecondsToService,
    double ServiceSeconds,
    Instant ReadyAt,
    IReadOnlyList<CheckResult> Checks)
{
    /// <summary>What a run that restores measured, as it is kept; null until it is ready and checked.</summary>
    public static RestoreResult? Kept(RunRow run) => run.Result is not { } json || run.Kind == RehearseMoveKind.KindName ? null : run.Kind == RehearseChangeKind.KindName ? RunJson.Read<ChangeResult>(json).Restore : RunJson.Read<RestoreResult>(json);

    /// <summary>Reads it off the steps; null until it is ready and checked.</summary>
    public static RestoreResult? Of(Run run, Instant? started, RestoreQuestion asked, Core.Fleet.Database d)
    {
        // In place, nobody can work from the step on that keeps them out; what is saved and taken beside it is not what is restored.
        started = run.Plan.Steps.FirstOrDefault(s => s.Kind == "out") is { } keptOut ? run[keptOut.Number].StartedAt : started;

        // Nor does waiting for a maintenance window belong to it: in need nobody would.
        if (started is { } begun && NeededSetting.ChangedBy(run.Plan.Steps).Select(n => n.NotBefore).Max() is { } window && window > begun)
        {
            started = window;
        }

        var measured = RestoreAside.MeasuredBy(run).Where(m => m.Step.Kind is not ("try" or "save" or "place" or "base" or ChangeSteps.Before or ChangeSteps.Part or ChangeSteps.After) && run[m.Step.Number].State is StepState.Done or StepState.Undone && !run[m.Step.Number].Broke).ToArray();
        // What is left open for log is never checked: it is ready when it holds all it was to hold.
        var open = run.Plan.Steps.Any(s => s.Kind == "check");
        var last = measured.LastOrDefault(m => m.Step.Kind == "check" || (!open && m.Step == run.Plan.Steps[^1]));
        if (started is not { } began || last.Step is null || (last.Measured.Checks ?? (open ? null : [])) is not { } checks
            || measured.LastOrDefault(m => m.Measured.Reached is not null).Measured?.Reached is not { } text)
        {
            return null;
        }

        var (reached, ready) = (Instants.Parse(text), run[last.Step.Number].EndedAt!.Value);
        var toReady = (ready - began).TotalSeconds;
        var hold = run.Plan.Steps.LastOrDefault(s => s.IsHold);
        var released = run.Plan.Steps.LastOrDefault(s => s.Kind is "release" or "place" or Core.Recovery.SecondDatabase.Make && run[s.Number].State == StepState.Done);
        return new RestoreResult(
            reached,
            Math.Max(0, (asked.Target - reached).TotalSeconds),
            measured.Sum(m => m.Measured.Bytes),
            measured.Sum(m => m.Measured.Seconds),
            toReady,
            hold is not null && run[hold.Number].EndedAt is { } decided && run[hold.Number].Choice is not null ? (decided - ready).TotalSeconds : null,
            released is not null ? (run[released.Number].EndedAt!.Value - began).TotalSeconds : null,
            d.DetectSeconds + d.DecideSeconds + toReady + d.RedirectSeconds,
            ready,
            checks);
    }
}
