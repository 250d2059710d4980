using System.Collections.Concurrent;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
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

    private sealed record Standing(int Failures, Instant Since, string? Why, string? Oddity);

    /// <summary>Reads how things stand from the history.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var going = await data.TaskRuns.AsNoTracking().Where(r => r.State == (short)TaskRunState.Running).ToDictionaryAsync(r => r.Id, r => r.ToRun(), cancel);
        foreach (var over in underWay.Keys.Where(k => !going.ContainsKey(k)))
        {
            underWay.TryRemove(over, out _);
        }

        foreach (var (id, run) in going)
        {
            underWay[id] = run;
        }

        // For each task on each database: what failed since it last went well, and how the last good one was.
        await using var command = source.CreateCommand(
            $"""
            with good as (
              select distinct on (database, plan, task) database, plan, task, due, oddity from task_runs
              where state = {(short)TaskRunState.Done} order by database, plan, task, due desc)
            select r.database, r.plan, r.task, count(*) filter (where r.state = {(short)TaskRunState.Failed}),
              min(r.ended) filter (where r.state = {(short)TaskRunState.Failed}), max(r.note) filter (where r.state = {(short)TaskRunState.Failed}), g.oddity
            from (select distinct database, plan, task from task_runs) k
            left join good g using (database, plan, task)
            left join task_runs r on r.database = k.database and r.plan = k.plan and r.task = k.task and r.due >= coalesce(g.due, '-infinity')
            group by 1, 2, 3, 7
            """);
        command.CommandTimeout = 300;
        await using var reader = await command.ExecuteReaderAsync(cancel);
        while (await reader.ReadAsync(cancel))
        {
            Of(new(reader.GetString(0)))[(reader.GetString(1), reader.GetString(2))] = new Standing(
                (int)reader.GetInt64(3),
                await reader.IsDBNullAsync(4, cancel) ? default : reader.GetFieldValue<Instant>(4),
                await reader.IsDBNullAsync(5, cancel) ? null : reader.GetString(5),
                await reader.IsDBNullAsync(6, cancel) ? null : reader.GetString(6));
        }
    }

    private ConcurrentDictionary<(string Plan, string Task), Standing> Of(Id<Database> database) => standings.GetOrAdd(database, _ => new());

    /// <summary>Hears how runs stand.</summary>
    public void Hear(IReadOnlyCollection<TaskRun> runs)
    {
        foreach (var r in runs)
        {
            if (r.State == TaskRunState.Running)
            {
                underWay[r.Id] = r;
            }
            else
            {
                underWay.TryRemove(r.Id, out _);
            }
        }

        foreach (var r in runs.Where(r => r.State is TaskRunState.Done or TaskRunState.Failed))
        {
            Of(r.Database).AddOrUpdate(
                (r.Plan.Value, r.Task),
                _ => r.State == TaskRunState.Done ? new Standing(0, default, null, r.Oddity) : new Standing(1, r.Ended!.Value, r.Note, null),
                (_, s) => r.State == TaskRunState.Done ? new Standing(0, default, null, r.Oddity) : new Standing(s.Failures + 1, s.Failures == 0 ? r.Ended!.Value : s.Since, r.Note, null));
        }
    }

    /// <summary>How often a plan's runs failed lately, and how far their durations spread; null when there were too few.</summary>
    public async Task<(double Share, double Spread)?> FailuresOfAsync(Id<Core.Planning.Plan> plan, Instant since, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.TaskRuns.AsNoTracking()
            .Where(r => r.Plan == plan.Value && r.Due >= since && (r.State == (short)TaskRunState.Done || r.State == (short)TaskRunState.Failed))
            .OrderByDescending(r => r.Due).Take(LearnFrom).ToListAsync(cancel);
        return Chances.LearnedFrom(rows.Select(r => r.ToRun()));
    }

    /// <summary>What its runs say about a database.</summary>
    public IEnumerable<Finding> Findings(FleetModel fleet, Database database, Instant at)
    {
        foreach (var r in underWay.Values.Where(r => r.Database == database.Id))
        {
            if (Overdue.Of(r, fleet.Plans.FirstOrDefault(p => p.Id == r.Plan)?.Task(r.Task), at) is { } why)
            {
                yield return new Finding(
                    "does-not-end", database.Id, Urgency.Now, $"\"{r.Task}\" does not end: {why}", "It holds its slot, and the runs after it wait or are left out", "End it, look at why it stands still, and give the task a time limit");
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
                    $"\"{task}\" has failed {s.Failures} times in a row, for {Core.Recovery.PlainDuration.Of((at - s.Since).TotalSeconds)}",
                    s.Why ?? "it does not say why",
                    "Mend the cause and run it now");
            }
            else if (s.Oddity is { } oddity)
            {
                yield return new Finding("run-stands-out", database.Id, Urgency.Soon, $"The last \"{task}\" is {oddity}", "A set unlike all before it may not hold what it should", "Restore it aside and check it");
            }
        }
    }
}
