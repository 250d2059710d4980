using System.Collections.Concurrent;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.State;

/// <summary>How the runs of each task on each database have ended lately: what fails again and again, and what stands out.</summary>
internal sealed class RunHealth(NpgsqlDataSource source)
{
    private const int Worrying = 2;
    private const int LearnFrom = 5000;

    private readonly ConcurrentDictionary<Id<Database>, ConcurrentDictionary<(string Plan, string Task), Standing>> standings = new();

    private readonly ConcurrentDictionary<Guid, TaskRun> underWay = new();

    private readonly Lock gate = new();

    private Instant? heardTo;

    /// <summary>What was heard while the history is read, which may not be in it yet; null while it is not.</summary>
    private List<TaskRun>? meanwhile;

    /// <param name="Last">The run that ended last.</param>
    /// <param name="Failures">How many in a row have failed up to it.</param>
    /// <param name="Since">Since when.</param>
    /// <param name="Why">What the last of them said.</param>
    /// <param name="Oddity">How the last that went well stands out.</param>
    /// <param name="Stored">Bytes that the last that stored any did.</param>
    private sealed record Standing(Guid Last, int Failures, Instant Since, string? Why, string? Oddity, long Stored);

    /// <summary>Reads how things stand from the history, the second time from what came to it.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        await ReadUnderWayAsync(data, cancel);

        // Of each task on each database the last run that went well and what failed since; later only what ended since the last look.
        var ended = heardTo is { } since
            ? data.Runs.Where(r => r.Plan != null && r.Ended >= since)
            : data.Runs.FromSql(
                $"""
                select r.* from (
                  select database, plan, task, max(due) filter (where state = {(short)RunState.Done}) as good from runs where plan is not null group by 1, 2, 3) k
                join runs r on r.database = k.database and r.plan = k.plan and r.task = k.task and r.due >= coalesce(k.good, '-infinity')
                """);
        data.Database.SetCommandTimeout(300);
        Hear([.. (await ended.AsNoTracking().Where(r => r.State == (short)RunState.Done || r.State == (short)RunState.Failed).OrderBy(r => r.Ended).ToListAsync(cancel)).Select(r => r.ToTaskRun())]);
    }

    /// <summary>Reads what is under way. What is heard meanwhile counts for more: what was read may not know of it.</summary>
    private async Task ReadUnderWayAsync(ImbrekContext data, CancellationToken cancel)
    {
        lock (gate)
        {
            meanwhile = [];
        }

        TaskRun[]? going = null;
        try
        {
            going = [.. (await data.Runs.AsNoTracking().Where(r => r.Plan != null && r.State == (short)RunState.Running).ToListAsync(cancel)).Select(r => r.ToTaskRun())];
        }
        finally
        {
            lock (gate)
            {
                if (going is not null)
                {
                    foreach (var over in underWay.Keys.Except(going.Select(r => r.Id)))
                    {
                        underWay.TryRemove(over, out _);
                    }

                    foreach (var run in going.Concat(meanwhile ?? []))
                    {
                        Follow(run);
                    }
                }

                meanwhile = null;
            }
        }
    }

    private ConcurrentDictionary<(string Plan, string Task), Standing> Of(Id<Database> database) => standings.GetOrAdd(database, _ => new());

    /// <summary>What failed the last time it ran.</summary>
    public IEnumerable<(Id<Core.Planning.Plan> Plan, string Task, Id<Database> Database)> Failing =>
        from database in standings
        from standing in database.Value
        where standing.Value.Failures > 0
        select (new Id<Core.Planning.Plan>(standing.Key.Plan), standing.Key.Task, database.Key);

    /// <summary>Hears how runs stand.</summary>
    public void Hear(IReadOnlyCollection<TaskRun> runs)
    {
        lock (gate)
        {
            meanwhile?.AddRange(runs);
            foreach (var r in runs)
            {
                Follow(r);
            }
        }

        foreach (var r in runs.Where(r => r.State is RunState.Done or RunState.Failed))
        {
            Of(r.Database).AddOrUpdate((r.Plan.Value, r.Task), _ => After(r, null), (_, before) => before.Last == r.Id ? before : After(r, before));
            heardTo = heardTo is { } latest ? Instant.Max(latest, r.Ended!.Value) : r.Ended;
        }
    }

    /// <summary>Bytes that the last run of a task that stored any did; null while none has.</summary>
    public long? StoredLast(Id<Database> database, Id<Core.Planning.Plan> plan, string task) =>
        standings.TryGetValue(database, out var tasks) && tasks.TryGetValue((plan.Value, task), out var s) && s.Stored > 0 ? s.Stored : null;

    private void Follow(TaskRun run)
    {
        if (run.State == RunState.Running)
        {
            underWay[run.Id] = run;
        }
        else
        {
            underWay.TryRemove(run.Id, out _);
        }
    }

    private static Standing After(TaskRun run, Standing? before) =>
        run.State == RunState.Done ? new Standing(run.Id, 0, default, null, run.Oddity, run.StoredBytes > 0 ? run.StoredBytes : before?.Stored ?? 0)
        : new Standing(run.Id, (before?.Failures ?? 0) + 1, before is { Failures: > 0 } ? before.Since : run.Ended!.Value, run.Note, before?.Oddity, before?.Stored ?? 0);

    /// <summary>How often a plan's runs failed lately, and how far their durations spread; null when there were too few.</summary>
    public async Task<(double Share, double Spread)?> FailuresOfAsync(Id<Core.Planning.Plan> plan, Instant since, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Runs.AsNoTracking()
            .Where(r => r.Plan == plan.Value && r.Due >= since && (r.State == (short)RunState.Done || r.State == (short)RunState.Failed))
            .OrderByDescending(r => r.Due).Take(LearnFrom).ToListAsync(cancel);
        return Chances.LearnedFrom(rows.Select(r => r.ToTaskRun()));
    }

    /// <summary>What its runs say about a database.</summary>
    public IEnumerable<Finding> Findings(FleetModel fleet, Database database, Instant at)
    {
        foreach (var r in underWay.Values.Where(r => r.Database == database.Id))
        {
            if (Overdue.Of(r, fleet.Plans.FirstOrDefault(p => p.Id == r.Plan)?.Task(r.Task), at) is { } why)
            {
                yield return new Finding(
                    "does-not-end", database.Id, Urgency.Now, $"\"{r.Task}\" does not end: {why}", "It holds its slot, and the runs after it wait or are left out", "End it, look at why it stands still, and give the task a time limit", (at - (r.Started ?? at)).TotalSeconds, r.Started);
            }
        }

        foreach (var ((_, task), s) in Of(database.Id))
        {
            if (s.Failures >= Worrying)
            {
                yield return new Finding(
                    "keeps-failing",
                    database.Id,
                    Urgency.Now,
                    $"\"{task}\" has failed {s.Failures:N0} times in a row, for {Core.Recovery.PlainDuration.Of((at - s.Since).TotalSeconds)}",
                    s.Why ?? "it does not say why",
                    "Mend the cause and run it now",
                    (at - s.Since).TotalSeconds,
                    s.Since);
            }
            else if (s.Oddity is { } oddity)
            {
                yield return new Finding("run-stands-out", database.Id, Urgency.Soon, $"The last \"{task}\" is {oddity}", "A set unlike all before it may not hold what it should", "Restore it aside and check it");
            }
        }
    }
}
