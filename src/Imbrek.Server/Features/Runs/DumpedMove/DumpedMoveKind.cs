using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.DumpedMove;

/// <summary>
/// A database moves to another host by dump and load: held until somebody says when, everybody is kept out, dumped, loaded there, checked; it lives there then, on a branch of its own that is named in the fleet and gets its first
/// base. Called off, failed or thrown away before that, everybody is let in where it was.
/// </summary>
internal sealed class DumpedMoveKind(Drivers drivers, FleetState fleet, FleetChanges changes, IClock clock) : ByDumpKind(drivers, fleet, clock)
{
    public const string KindName = "move-by-dump";

    private readonly Moving moving = new(drivers, changes);

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>A run that moves a database; meanwhile it can neither take over, nor be drilled, put back or moved otherwise.</summary>
    /// <param name="s">The database.</param>
    /// <param name="order">What is dumped and loaded.</param>
    /// <param name="expectedSeconds">Seconds in which nobody can write, as they were rehearsed; null where nothing tells.</param>
    /// <param name="settings">When settings are changed, as it was answered; null where nobody was asked.</param>
    /// <param name="driver">Whose database it is.</param>
    /// <param name="who">Who asks for it.</param>
    /// <param name="now">The instant.</param>
    public static RunRow Row(RecoverySubject s, MoveByDump.Order order, double? expectedSeconds, string? settings, string driver, string who, Instant now)
    {
        var log = Core.Recovery.RestoreInPlace.Saves(s.Fleet, s.Database) is { Kind: Core.Catalogue.SetKind.Log } taken ? taken : null;
        var steps = MoveByDump.CarriedOut(order, log, Promoting.FirstBaseOf(s.Fleet, s.Database), expectedSeconds);
        var row = NewRuns.Row(KindName, s.Database.Id.Value, driver, Ask(order, settings, now), Run.Of(new RunPlan(steps)), who, now);
        row.Claim = TakeOverKind.ClaimOf(s.Fleet, s.Database.Id);
        return row;
    }

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        return step.Kind == MoveByDump.Try
            ? Moving.Checked(new(0, 0, Checks: await Drivers.Named(run.Row.Driver!).Restore.TryMoveAsync(run.Call, asked.Restore.Spec(run), cancel)), tells: true)
            : await moving.DoAsync(run, step, asked.Restore, asked.From, PlacedIn(run.Run), cancel) ?? await base.DoAsync(run, step, progress, cancel);
    }

    /// <inheritdoc/>
    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => step.Kind == MoveByRounds.Out ? moving.LetInAsync(run, cancel) : base.UndoAsync(run, step, cancel);

    /// <inheritdoc/>
    public override string? Measured(RunContext run) => null;

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, m) = (run.Question<Question>(), MeasuredBy(run));
        return Moving.Conclude(
            run,
            end,
            asked.Restore,
            asked.From,
            PlacedIn(run.Run),
            DumpLeft(run, asked, end),
            null,
            m is null ? null : new { dumpSeconds = m.DumpSeconds, loadSeconds = m.LoadSeconds, checkSeconds = m.CheckSeconds, dumpBytes = m.DumpBytes, downtimeSeconds = MoveByRounds.DowntimeOf(run.Run) });
    }

    /// <inheritdoc/>
    protected override StepResult Checked(RestoreAside.Measured measured) => Moving.Checked(measured);
}
