using Imbrek.Core.Drills;
using Imbrek.Core.Findings;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Drills;

/// <summary>What the last drill of each database says: one that did not pass is a finding until one does, and so is a step that took far longer than expected, and one with a date that was not held.</summary>
internal sealed class DrillBook : IFindingSource
{
    /// <summary>A step stands out when it took so many times as long as expected, and so many seconds more.</summary>
    private const double SlowFactor = 2, SlowBySeconds = 60;

    private static readonly TimeSpan LooksAgain = TimeSpan.FromSeconds(5);

    private volatile Dictionary<string, Held> last = [];
    private volatile ILookup<string, DatedDrillRow> dated = Array.Empty<DatedDrillRow>().ToLookup(d => d.Database);

    private readonly NpgsqlDataSource source;
    private readonly ReadNowAndThen reading;

    public DrillBook(NpgsqlDataSource source, ILogger<DrillBook> log)
    {
        this.source = source;
        reading = new("what the last drills say", LooksAgain, LoadAsync, log);
    }

    private sealed record Held(Guid Run, Instant Ended, string? Why, bool Completed, IReadOnlyList<string> Slow);

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Core.Fleet.Database d, Instant at)
    {
        reading.Look();
        foreach (var missed in dated[d.Id.Value].Where(m => at >= m.At + DatedDrillReminders.Grace))
        {
            yield return new Finding("drill-missed", d.Id, Urgency.Soon, $"A drill of {missed.Title} was set for {Instants.Write(missed.At)} and not held", "Whoever was told has made ready for it, and nothing is proved", "Hold it, give it another date, or call it off", null, missed.At);
        }

        if (!last.TryGetValue(d.Id.Value, out var held))
        {
            yield break;
        }

        if (held.Why is { } why)
        {
            yield return held.Completed
                ? new Finding("drill-did-not-pass", d.Id, Urgency.Soon, "The last drill did not pass", why, "Mend the cause and hold it again", null, held.Ended)
                : new Finding("drill-not-completed", d.Id, Urgency.Now, "The last drill could not be completed", why, "See in its run where it stands, and go on by hand from the runbook", null, held.Ended);
        }

        foreach (var slow in held.Slow)
        {
            yield return new Finding("drill-step-slow", d.Id, Urgency.Later, slow, "On the day it will take as long again, and the figures do not know", "Find out why, or state how long it takes", null, held.Ended);
        }
    }

    private async Task LoadAsync()
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Runs.AsNoTracking().Where(r => r.Kind == DrillRunKind.KindName && r.Ended != null && r.State != (short)RunState.Cancelled)
            .GroupBy(r => r.Database).Select(g => g.OrderByDescending(r => r.Ended).First()).ToListAsync();
        last = rows.ToDictionary(r => r.Database, Read);
        dated = (await data.DatedDrills.AsNoTracking().Where(d => d.RunId == null && d.CalledOffBy == null).ToListAsync()).ToLookup(d => d.Database);
    }

    private static Held Read(RunRow row)
    {
        var (run, result) = (row.ToRun(), row.Result is null ? null : RunJson.Read<DrillResult>(row.Result));
        var done = row.StateIs == RunState.Done;
        return new(
            row.Id,
            row.Ended!.Value,
            !done ? row.Note ?? "it does not say why" : result?.Passed == false ? string.Join("; ", result.Failed ?? []) : null,
            done,
            [
                // One of many waits for the others where all stop, and agree.
                .. run.Plan.Steps.Where(s => !s.IsHold && s.ExpectedSeconds is not null && !s.NeedsApproval && (row.AfterId is null || s.Kind is not ("stop" or "agree")))
                    .Select(s => (Step: s, Is: run[s.Number]))
                    .Where(s => s.Is is { State: StepState.Done, TakenUp: 0, StartedAt: not null, EndedAt: not null })
                    .Select(s => (s.Step, Took: (s.Is.EndedAt!.Value - s.Is.StartedAt!.Value).TotalSeconds))
                    .Where(s => s.Took > SlowFactor * s.Step.ExpectedSeconds && s.Took > s.Step.ExpectedSeconds + SlowBySeconds)
                    .Select(s => $"In the last drill \"{s.Step.Title}\" took {PlainDuration.Of(s.Took)}, {PlainDuration.Of(s.Step.ExpectedSeconds!.Value)} were expected"),
            ]);
    }
}
