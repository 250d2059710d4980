using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Runs.DumpedMove;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TakeOver;

namespace Imbrek.Server.Features.Runs.Move;

/// <summary>What every move does, whichever way its data came there: everybody is kept out, it lives there, and the fleet names that; thrown away, everybody is let in where it was.</summary>
/// <param name="drivers">The drivers of this installation.</param>
/// <param name="changes">Changes of the fleet.</param>
internal sealed class Moving(Drivers drivers, FleetChanges changes)
{
    /// <summary>Whether runs of a kind move, or rehearse it: what they bring up is the database to be, and no copy that people ask.</summary>
    public static bool Is(string kind) => kind is MoveKind.KindName or DumpedMoveKind.KindName or RehearseMoveKind.KindName;

    /// <summary>A name for what is brought up.</summary>
    public static string NewInstance() => $"move-{Guid.CreateVersion7():n}"[..17];

    /// <summary>Does a step of its own; null for another.</summary>
    /// <param name="run">The run.</param>
    /// <param name="step">The step.</param>
    /// <param name="restore">What was brought up there.</param>
    /// <param name="from">The host it ran on when it was asked for.</param>
    /// <param name="placed">What taking its place came to; null before.</param>
    /// <param name="cancel">Breaks it off.</param>
    public async Task<StepResult?> DoAsync(RunContext run, Step step, RestoreQuestion restore, string from, Promoted? placed, CancellationToken cancel)
    {
        var family = drivers.Named(run.Row.Driver!);
        switch (step.Kind)
        {
            case MoveByRounds.Out:
                return new StepResult(await family.Fences.ShutOutAsync(run.Call, new(run.Row.Database), null, cancel));
            case MoveByRounds.Place:
                var p = await family.Restore.PlaceAsync(run.Call, restore.Spec(run), cancel);
                return new StepResult($"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}", RunJson.Write(Promoted.Of(p)));
            case "name":
                if (TakeOverKind.LivesOn(changes, run.Row.Database, placed!.ToBranch(), placed.Host, from) is { } lives)
                {
                    await changes.KeepAsync([lives], "it was moved", run.Row.AskedBy!, cancel);
                }

                return new StepResult(placed.Left.Count == 0 ? "all replicas follow" : $"do not follow: {string.Join("; ", placed.Left)}");
            case "discard":
                // Everybody is let in where it was: nothing is done where nobody was kept out.
                await LetInAsync(run, cancel);
                return null;
            default:
                return null;
        }
    }

    /// <summary>Everybody is let in where it was.</summary>
    public Task LetInAsync(RunContext run, CancellationToken cancel) => drivers.Named(run.Row.Driver!).Fences.LetInAsync(run.Call, new(run.Row.Database), cancel);

    /// <summary>Checks of which one that does not pass ends it.</summary>
    /// <param name="measured">The checks.</param>
    /// <param name="tells">Whether what each found is said where all pass; how many they are otherwise.</param>
    public static StepResult Checked(RestoreAside.Measured measured, bool tells = false)
    {
        var bad = measured.Checks!.Where(c => !c.Passed).Select(c => $"{c.Name}: {c.Detail}").ToArray();
        return new StepResult(bad.Length > 0 ? string.Join("; ", bad) : tells ? measured.Checks!.Count == 0 ? null : string.Join("; ", measured.Checks.Select(c => c.Detail)) : $"{measured.Checks!.Count} checks passed", RestoreAside.Write(measured), Failed: bad.Length > 0);
    }

    /// <summary>What is kept when it ends.</summary>
    /// <param name="run">The run.</param>
    /// <param name="end">How it ended.</param>
    /// <param name="restore">What was brought up there.</param>
    /// <param name="from">The host it ran on when it was asked for.</param>
    /// <param name="placed">What taking its place came to; null where it did not.</param>
    /// <param name="more">What is said beside.</param>
    /// <param name="planned">What was expected; null for nothing.</param>
    /// <param name="measured">What was measured.</param>
    public static Conclusion Conclude(RunContext run, Ending end, RestoreQuestion restore, string from, Promoted? placed, string more, object? planned, object? measured)
    {
        var note = end.State switch
        {
            RunState.Done when placed is not null => $"it lives on {placed.Host}; nobody could write for {PlainDuration.Of(MoveByRounds.DowntimeOf(run.Run)!.Value)}{(placed.Left.Count == 0 ? "" : $"; do not follow: {string.Join("; ", placed.Left)}")}",
            RunState.Done => $"thrown away; it stays on {from}",
            RunState.Cancelled => $"called off; it stays on {from}",
            _ => $"{(end.Failed is { } failed ? run.Run[failed].Note : null) ?? "it could not be completed"}{(placed is null ? $"; it stays on {from}" : "")}",
        } + more + end.NotTakenBack(run.Run.Plan);
        var left = end.LeftBehind.Any(n => run.Run.Plan[n].Kind == "provision");
        return new Conclusion(end.State, note, left ? restore.Claim : null, RunJson.Write(new
        {
            run = run.Row.Id,
            outcome = placed is not null && end.State == RunState.Done ? "moved" : PlanFile.Name(end.State),
            why = note,
            begunBy = run.Row.AskedBy,
            decidedBy = run.Run.Plan.Steps.Select(s => run.Run[s.Number].DecidedBy).LastOrDefault(x => x is not null),
            from,
            to = restore.Host,
            planned,
            measured,
            checks = run.Run.Plan.Steps.Where(s => s.Kind == "check" && run.Run[s.Number].Measured is not null).SelectMany(s => RunJson.Read<RestoreAside.Measured>(run.Run[s.Number].Measured!).Checks ?? []),
        }));
    }
}
