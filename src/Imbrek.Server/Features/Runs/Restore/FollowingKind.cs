using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>A kind of run that restores, and whose restore then follows its database in rounds of log.</summary>
internal abstract class FollowingKind(Drivers drivers, FleetState fleet, IClock clock) : RestoringKind(drivers, fleet, clock)
{
    /// <summary>What is taken at the end is a call of its own, and so is each round: the numbers of their steps lie below it.</summary>
    private const int BasePart = 1_000;

    /// <inheritdoc/>
    public override Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel) => step.Kind switch
    {
        LogRounds.Save or "base" => TaskSteps.TakeAsync(Drivers.Named(run.Row.Driver!).Backup, run.Call.Part(step.Kind == "base" ? BasePart : step.Number), step, cancel),
        LogRounds.Round => FollowAsync(run, step, progress, cancel),
        "restore" when LogKept.Restores(step) => RestoreTakenAsync(run, step, progress, cancel),
        _ => base.DoAsync(run, step, progress, cancel),
    };

    /// <summary>Restores the full that this run itself has taken.</summary>
    private async Task<StepResult> RestoreTakenAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (set, notYet) = TakenBy(run, run.Run.Plan.Steps.First(s => s.Kind == LogRounds.Save).Number);
        if (set is null)
        {
            return notYet ?? throw new DriverException(DriverProblem.Refused, "there was nothing to take");
        }

        var asked = RestoreQuestion.Of(run.Row)!;
        var measured = await RestoreAside.DoAsync(LogKept.With(step, set.Id), Drivers.Named(run.Row.Driver!).Restore, asked.Call(run), asked.Spec(run), asked.Planned.Reaches, null, progress, cancel);
        return new StepResult(set.Id.Value, RestoreAside.Write(measured with { Reached = measured.Reached ?? Instants.Write(set.CoversTo) }));
    }

    /// <summary>The set that a step of this run took; null where it took none, or where the catalogue does not know of it yet, with what to say then.</summary>
    private (BackupSet? Set, StepResult? NotYet) TakenBy(RunContext run, int step)
    {
        var catalogue = Fleet[run.Row.Database].Subject.Catalogue;
        return TaskSteps.TakenBy(run.Run, step) is not { } set ? (null, null)
            : catalogue.IndexOf(new(set)) is >= 0 and var i ? (catalogue[i], null)
            : (null, new StepResult($"{set} is not in the catalogue yet", LookAgainAfter: Duration.FromSeconds(1)));
    }

    /// <summary>Applies all log that there is to what is there: also that which a plan took in between.</summary>
    private async Task<StepResult> FollowAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (set, notYet) = TakenBy(run, step.After[0]);
        if (notYet is not null)
        {
            return notYet;
        }

        var (s, asked) = (Fleet[run.Row.Database].Subject, RestoreQuestion.Of(run.Row)!);
        var now = Clock.GetCurrentInstant();
        now = set is null ? now : LogRounds.AsOf(set, now);
        var host = s.Fleet.Hosts[new(asked.Host)];
        if (PathFinder.Onwards(s, now, host, s.Database.LiveBranch, LogRounds.ReachedBy(run.Run) ?? asked.Planned.Reaches) is not { } path)
        {
            return new StepResult("nothing was written meanwhile", RestoreAside.Write(new RestoreAside.Measured(0, 0)));
        }

        var logs = Core.Recovery.TemporaryCopy.FurtherLog(s.Database, s.Fleet.Engines[s.Database.Engine], host.Id, path, open: false)[0];
        var measured = await RestoreAside.DoAsync(logs, Drivers.Named(run.Row.Driver!).Restore, asked.Call(run), asked.Spec(run), path.Reaches, null, progress, cancel);
        return new StepResult($"{path.Steps.Count} log {(path.Steps.Count == 1 ? "set" : "sets")}", RestoreAside.Write(measured));
    }
}
