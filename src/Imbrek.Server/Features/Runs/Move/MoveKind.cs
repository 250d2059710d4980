using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Move;

/// <summary>
/// A database moves to another host by its own sets: brought up there, followed round by round, held; switched over it lives there, on a branch of its own that is named in the fleet and gets its first base. Called off,
/// failed or thrown away before that, it is where it was.
/// </summary>
internal sealed class MoveKind(Drivers drivers, FleetState fleet, FleetChanges changes, IClock clock) : FollowingKind(drivers, fleet, clock)
{
    public const string KindName = "move";

    /// <summary>What was asked.</summary>
    /// <param name="Restore">What is brought up there.</param>
    /// <param name="From">The host it runs on when it is asked for.</param>
    /// <param name="Figures">The figures it was planned with.</param>
    /// <param name="Forecast">What they come to.</param>
    public sealed record Question(RestoreQuestion Restore, string From, MoveQuestion Figures, MoveForecast Forecast);

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>A run that moves a database; meanwhile it can neither take over, nor be drilled or put back.</summary>
    /// <param name="s">The database.</param>
    /// <param name="path">The path to the other host, to a state that log can be applied to.</param>
    /// <param name="log">How its log is taken.</param>
    /// <param name="figures">The figures.</param>
    /// <param name="driver">Whose database it is.</param>
    /// <param name="who">Who asks for it.</param>
    /// <param name="now">The instant.</param>
    public static RunRow Row(RecoverySubject s, RestorePath path, TakeSpec log, MoveQuestion figures, string driver, string who, Instant now)
    {
        var (d, forecast) = (s.Database, MoveForecast.Of(figures));
        var asked = new RestoreQuestion("none", now, null, null, null, path.Host.Value, $"move-{Guid.CreateVersion7():n}"[..17], RestoreQuestion.Promise.Of(path));
        var steps = MoveByRounds.Steps(d, path, asked.Instance, log, forecast, s.Fleet.Engines[d.Engine].OpenSeconds, Promoting.FirstBaseOf(s.Fleet, d));
        var row = NewRuns.Row(KindName, d.Id.Value, driver, new Question(asked, d.Host.Value, figures, forecast), Run.Of(new RunPlan(steps)), who, now);
        row.Claim = TakeOverKind.ClaimOf(s.Fleet, d.Id);
        return row;
    }

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (family, asked) = (Drivers.Named(run.Row.Driver!), run.Question<Question>());
        switch (step.Kind)
        {
            case MoveByRounds.Out:
                return new StepResult(await family.Fences.FenceAsync(run.Call, new(run.Row.Database), cancel));
            case "check":
                // What it must hold is all that was written until everybody was kept out.
                var checks = await family.Restore.CheckAsync(run.Call, asked.Restore.Spec(run), LogRounds.ReachedBy(run.Run) ?? asked.Restore.Planned.Reaches, null, cancel);
                var bad = checks.Where(c => !c.Passed).Select(c => $"{c.Name}: {c.Detail}").ToArray();
                return new StepResult(bad.Length == 0 ? $"{checks.Count} checks passed" : string.Join("; ", bad), RestoreAside.Write(new RestoreAside.Measured(0, 0, Checks: checks)), Failed: bad.Length > 0);
            case MoveByRounds.Place:
                var p = await family.Restore.PlaceAsync(run.Call, asked.Restore.Spec(run), cancel);
                return new StepResult($"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}", RunJson.Write(Promoted.Of(p)));
            case "name":
                var placed = PlacedIn(run.Run)!;
                if (TakeOverKind.LivesOn(changes, run.Row.Database, placed.ToBranch(), placed.Host, asked.From) is { } lives)
                {
                    await changes.KeepAsync([lives], "it was moved", run.Row.AskedBy!, cancel);
                }

                return new StepResult(placed.Left.Count == 0 ? "all replicas follow" : $"do not follow: {string.Join("; ", placed.Left)}");
            case "discard":
                // Everybody is let in where it was: nothing is done where nobody was kept out.
                await family.Fences.LetInAsync(run.Call, new(run.Row.Database), cancel);
                return await base.DoAsync(run, step, progress, cancel);
            default:
                return await base.DoAsync(run, step, progress, cancel);
        }
    }

    /// <inheritdoc/>
    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) =>
        step.Kind == MoveByRounds.Out ? Drivers.Named(run.Row.Driver!).Fences.LetInAsync(run.Call, new(run.Row.Database), cancel) : base.UndoAsync(run, step, cancel);

    /// <inheritdoc/>
    public override (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => (null, "it stays where it is; begun anew, it reads other copies");

    /// <inheritdoc/>
    public override string? Measured(RunContext run) => null;

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, placed) = (run.Question<Question>(), PlacedIn(run.Run));
        var (rounds, last, downtime) = MoveByRounds.MeasuredBy(run.Run);
        var note = end.State switch
        {
            RunState.Done when placed is not null => $"it lives on {placed.Host}; nobody could write for {PlainDuration.Of(downtime!.Value)}{(placed.Left.Count == 0 ? "" : $"; do not follow: {string.Join("; ", placed.Left)}")}",
            RunState.Done => $"thrown away; it stays on {asked.From}",
            RunState.Cancelled => $"called off; it stays on {asked.From}",
            _ => $"{(end.Failed is { } failed ? run.Run[failed].Note : null) ?? "it could not be completed"}{(placed is null ? $"; it stays on {asked.From}" : "")}",
        };
        if (end.LeftBehind.Count > 0)
        {
            note += $"; could not be taken back: {string.Join(", ", end.LeftBehind.Select(n => run.Run.Plan[n].Title))}";
        }

        var left = end.LeftBehind.Any(n => run.Run.Plan[n].Kind == "provision");
        return new Conclusion(end.State, note, left ? asked.Restore.Claim : null, RunJson.Write(new
        {
            run = run.Row.Id,
            outcome = placed is not null && end.State == RunState.Done ? "moved" : PlanFile.Name(end.State),
            why = note,
            begunBy = run.Row.AskedBy,
            decidedBy = run.Run.Plan.Steps.Select(s => run.Run[s.Number].DecidedBy).LastOrDefault(x => x is not null),
            from = asked.From,
            to = asked.Restore.Host,
            planned = new { rounds = asked.Forecast.Rounds.Count, downtimeSeconds = asked.Forecast.DowntimeSeconds, windowSeconds = asked.Figures.Window },
            measured = new { rounds, last, downtimeSeconds = downtime },
            checks = run.Run.Plan.Steps.Where(s => s.Kind == "check" && run.Run[s.Number].Measured is not null).SelectMany(s => RunJson.Read<RestoreAside.Measured>(run.Run[s.Number].Measured!).Checks ?? []),
        }));
    }
}
