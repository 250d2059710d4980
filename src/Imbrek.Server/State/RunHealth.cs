using System.Collections.Concurrent;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.State;

/// <summary>How the runs of each task on each database have ended lately: what fails again and again, and what stands out.</summary>
internal sealed class RunHealth(NpgsqlDataSource source)
{
    private const int Worrying = 2;

    private readonly ConcurrentDictionary<(string Database, string Plan, string Task), Standing> standings = new();

    private sealed record Standing(int Failures, Instant Since, string? Why, string? Oddity);

    /// <summary>Reads how things stand from the history.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
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
            standings[(reader.GetString(0), reader.GetString(1), reader.GetString(2))] = new Standing(
                (int)reader.GetInt64(3),
                await reader.IsDBNullAsync(4, cancel) ? default : reader.GetFieldValue<Instant>(4),
                await reader.IsDBNullAsync(5, cancel) ? null : reader.GetString(5),
                await reader.IsDBNullAsync(6, cancel) ? null : reader.GetString(6));
        }
    }

    /// <summary>Hears how runs ended.</summary>
    public void Hear(IEnumerable<TaskRun> runs)
    {
        foreach (var r in runs.Where(r => r.State is TaskRunState.Done or TaskRunState.Failed))
        {
            standings.AddOrUpdate(
                (r.Database.Value, r.Plan.Value, r.Task),
                _ => r.State == TaskRunState.Done ? new Standing(0, default, null, r.Oddity) : new Standing(1, r.Ended!.Value, r.Note, null),
                (_, s) => r.State == TaskRunState.Done ? new Standing(0, default, null, r.Oddity) : new Standing(s.Failures + 1, s.Failures == 0 ? r.Ended!.Value : s.Since, r.Note, null));
        }
    }

    /// <summary>The share of attempts of a plan's runs that failed since an instant, and how far their durations spread; null when there were too few.</summary>
    public async Task<(double Share, double Spread)?> FailuresOfAsync(Id<Core.Planning.Plan> plan, Instant since, CancellationToken cancel)
    {
        await using var command = source.CreateCommand(
            $"""
            select count(*), coalesce(sum(attempts), 0), count(*) filter (where state = {(short)TaskRunState.Done}),
              coalesce(stddev(ln(greatest(extract(epoch from ended - started), 0.5) / expected_seconds)) filter (where state = {(short)TaskRunState.Done} and expected_seconds > 0), 0.2)
            from task_runs where plan = $1 and due >= $2 and state in ({(short)TaskRunState.Done}, {(short)TaskRunState.Failed})
            """);
        command.Parameters.AddWithValue(plan.Value);
        command.Parameters.AddWithValue(since);
        await using var reader = await command.ExecuteReaderAsync(cancel);
        await reader.ReadAsync(cancel);
        var (runs, attempts, good) = (reader.GetInt64(0), reader.GetInt64(1), reader.GetInt64(2));
        return runs < 50 ? null : (Math.Clamp(1 - (good / (double)Math.Max(attempts, 1)), 0, 0.5), Math.Clamp(reader.GetDouble(3), 0, 1));
    }

    /// <summary>What its runs say about a database.</summary>
    public IEnumerable<Finding> Findings(Database database, Instant at)
    {
        foreach (var ((d, plan, task), s) in standings.Where(x => x.Key.Database == database.Id.Value))
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
