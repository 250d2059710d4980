using Imbrek.Core.Drivers;
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

    private readonly Moving moving = new(drivers, changes);

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
    /// <param name="needs">What is changed meanwhile on the host it leaves.</param>
    /// <param name="settings">When, as it was answered; null where nobody was asked.</param>
    /// <param name="kept">The full it begins with, where log is kept for the move alone.</param>
    /// <param name="driver">Whose database it is.</param>
    /// <param name="who">Who asks for it.</param>
    /// <param name="now">The instant.</param>
    public static RunRow Row(RecoverySubject s, RestorePath path, TakeSpec log, MoveQuestion figures, IReadOnlyList<NeededSetting> needs, string? settings, LogKept? kept, string driver, string who, Instant now)
    {
        var (d, forecast) = (s.Database, MoveForecast.Of(figures));
        var asked = new RestoreQuestion("none", now, null, null, null, path.Host.Value, Moving.NewInstance(), RestoreQuestion.Promise.Of(path), Settings: settings);
        var steps = MoveByRounds.Steps(d, path, asked.Instance, log, forecast, s.Fleet.Engines[d.Engine].OpenSeconds, Promoting.FirstBaseOf(s.Fleet, d), needs, kept);
        var row = NewRuns.Row(KindName, d.Id.Value, driver, new Question(asked, d.Host.Value, figures, forecast), Run.Of(new RunPlan(steps)), who, now);
        row.Claim = TakeOverKind.ClaimOf(s.Fleet, d.Id);
        return row;
    }

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        if (step.Kind == "check")
        {
            // What it must hold is all that was written until everybody was kept out.
            return Moving.Checked(new(0, 0, Checks: await Drivers.Named(run.Row.Driver!).Restore.CheckAsync(run.Call, asked.Restore.Spec(run), LogRounds.ReachedBy(run.Run) ?? asked.Restore.Planned.Reaches, null, cancel)));
        }

        return await moving.DoAsync(run, step, asked.Restore, asked.From, PlacedIn(run.Run), cancel) ?? await base.DoAsync(run, step, progress, cancel);
    }

    /// <inheritdoc/>
    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => step.Kind == MoveByRounds.Out ? moving.LetInAsync(run, cancel) : base.UndoAsync(run, step, cancel);

    /// <inheritdoc/>
    public override (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) => (null, "it stays where it is; begun anew, it reads other copies");

    /// <inheritdoc/>
    public override string? Measured(RunContext run) => null;

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, (rounds, last, downtime)) = (run.Question<Question>(), MoveByRounds.MeasuredBy(run.Run));
        return Moving.Conclude(
            run,
            end,
            asked.Restore,
            asked.From,
            PlacedIn(run.Run),
            "",
            new { rounds = asked.Forecast.Rounds.Count, downtimeSeconds = asked.Forecast.DowntimeSeconds, windowSeconds = asked.Figures.Window },
            new { rounds, last, downtimeSeconds = downtime });
    }
}
