using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.DumpedMove;

/// <summary>A move by dump and load, rehearsed: dumped, loaded where it would live, checked against the dump, timed, and thrown away with it.</summary>
internal sealed class RehearseMoveKind(Drivers drivers, FleetState fleet, IClock clock) : ByDumpKind(drivers, fleet, clock)
{
    public const string KindName = "rehearse-move";

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>A run that rehearses it.</summary>
    /// <param name="order">What is dumped and loaded.</param>
    /// <param name="settings">When settings are changed, as it was answered; null where nobody was asked.</param>
    /// <param name="driver">Whose database it is.</param>
    /// <param name="who">Who asks for it.</param>
    /// <param name="now">The instant.</param>
    public static RunRow Row(MoveByDump.Order order, string? settings, string driver, string who, Instant now)
    {
        var row = NewRuns.Row(KindName, order.Database.Id.Value, driver, Ask(order, settings, now), Run.Of(new RunPlan(MoveByDump.Rehearsed(order))), who, now);
        (row.Claim, row.OutsideChain) = ($"{order.Database.Id}:{KindName}", true);
        return row;
    }

    /// <inheritdoc/>
    public override string? Measured(RunContext run) => MeasuredBy(run) is { } m ? RunJson.Write(m) : null;

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, m) = (run.Question<Question>(), MeasuredBy(run));
        var note = end.State switch
        {
            RunState.Done when m is not null => $"dumped in {PlainDuration.Of(m.DumpSeconds)}, loaded on {asked.Restore.Host} in {PlainDuration.Of(m.LoadSeconds)}, opened and checked in {PlainDuration.Of(m.CheckSeconds)}: nobody could write for {PlainDuration.Of(m.DowntimeSeconds)}, with {PlainDuration.Of(m.RedirectSeconds)} to send clients over"
                + (m.Failed.Count == 0 ? $"; all {m.Checks} checks passed, and all was thrown away" : $"; thrown away, for {m.Failed.Count} of {m.Checks} checks did not pass: {string.Join("; ", m.Failed.Take(3))}"),
            RunState.Cancelled => "called off",
            _ => (end.Failed is { } failed ? run.Run[failed].Note : null) ?? "it could not be completed",
        } + DumpLeft(run, asked, end) + end.NotTakenBack(run.Run.Plan);
        var state = end.State == RunState.Done && m is { Failed.Count: > 0 } ? RunState.Failed : end.State;
        var left = end.LeftBehind.Any(n => run.Run.Plan[n].Kind == "provision");
        return new Conclusion(state, note, left ? asked.Restore.Claim : null, RunJson.Write(new { run = run.Row.Id, outcome = PlanFile.Name(state), why = note, begunBy = run.Row.AskedBy, to = asked.Restore.Host, measured = m }));
    }

    /// <inheritdoc/>
    protected override StepResult Checked(RestoreAside.Measured measured) => SaidOf(measured);
}
