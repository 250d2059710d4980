using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.DumpedMove;

/// <summary>A kind of run that dumps a database, loads it where it is to live, and checks it against the dump.</summary>
internal abstract class ByDumpKind(Drivers drivers, FleetState fleet, IClock clock) : FollowingKind(drivers, fleet, clock)
{
    /// <summary>The dump is taken, and removed, by calls of their own.</summary>
    private const int DumpPart = 800, ClearPart = 900;

    /// <summary>What was asked.</summary>
    /// <param name="Restore">Where it is loaded.</param>
    /// <param name="Dump">What is dumped, and where to.</param>
    /// <param name="From">The host it runs on when it is asked for.</param>
    public sealed record Question(RestoreQuestion Restore, TakeSpec Dump, string From);

    /// <summary>The question about an instance of its own.</summary>
    /// <param name="order">What is dumped and loaded.</param>
    /// <param name="settings">When settings are changed, as it was answered; null where nobody was asked.</param>
    /// <param name="now">The instant.</param>
    protected static Question Ask(MoveByDump.Order order, string? settings, Instant now) =>
        new(new RestoreQuestion("none", now, null, null, null, order.Host.Id.Value, order.Instance, new RestoreQuestion.Promise(now, 0, 0, 0, "profile"), Settings: settings), order.Take, order.Database.Host.Value);

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (family, asked) = (Drivers.Named(run.Row.Driver!), run.Question<Question>());
        switch (step.Kind)
        {
            case MoveByDump.Dump:
                return await TaskSteps.TakeAsync(family.Backup, run.Call.Part(DumpPart), step, cancel);
            case MoveByDump.Load:
                if (SetOf(run.Run) is not { } set)
                {
                    return new StepResult("nothing was dumped", Failed: true);
                }

                if (Fleet[run.Row.Database].Subject.Catalogue.IndexOf(set) < 0)
                {
                    return new StepResult($"{set} is not in the catalogue yet", LookAgainAfter: Duration.FromSeconds(1));
                }

                var loaded = await family.Restore.RestoreSetAsync(run.Call, asked.Restore.Spec(run), new(set, new(asked.Dump.Store)), cancel);
                return new StepResult(null, RestoreAside.Write(new(loaded.Seconds, loaded.Bytes, loaded.Reached is { } r ? Core.Formats.Instants.Write(r) : null, loaded.Position)));
            case "check":
                // What it must hold is what it was dumped with.
                var reached = Core.Formats.Instants.Parse(RunJson.Read<RestoreAside.Measured>(run.Run[run.Run.Plan.Steps.First(s => s.Kind == MoveByDump.Load).Number].Measured!).Reached!);
                return Checked(new RestoreAside.Measured(0, 0, Checks: await family.Restore.CheckAsync(run.Call, asked.Restore.Spec(run), reached, null, cancel)));
            case MoveByDump.Clear:
                var removed = SetOf(run.Run) is { } dumped ? await family.Backup.RemoveAsync(run.Call.Part(ClearPart), new(run.Row.Database), [new(dumped, new(asked.Dump.Store))], cancel) : [];
                return new StepResult(null, Sets: [.. removed.Select(t => t.Set).OfType<BackupSet>()]);
            default:
                return await base.DoAsync(run, step, progress, cancel);
        }
    }

    /// <inheritdoc/>
    public override (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => (null, "begun anew, it is dumped anew");

    /// <summary>What the checks come to.</summary>
    protected abstract StepResult Checked(RestoreAside.Measured measured);

    /// <summary>What is said of a dump that stays; empty where none does.</summary>
    protected static string DumpLeft(RunContext run, Question asked, Ending end) => end.State != RunState.Done && SetOf(run.Run) is { } stays ? $"; its dump {stays} stays in {asked.Dump.Store}, outside the chain" : "";

    /// <summary>What it measured; null until it is checked.</summary>
    protected MoveByDump.Measured? MeasuredBy(RunContext run) => Fleet.Has(run.Row.Database) ? MoveByDump.MeasuredBy(run.Run, Fleet[run.Row.Database].Subject.Database.RedirectSeconds) : null;

    private static Id<BackupSet>? SetOf(Run run) => run.Plan.Steps.Where(s => s.Kind == MoveByDump.Dump).Select(s => run[s.Number].Measured).LastOrDefault(m => m is not null) is { } measured && RunJson.Read<TaskSteps.Measured>(measured).Set is { } set ? new Id<BackupSet>(set) : null;
}
