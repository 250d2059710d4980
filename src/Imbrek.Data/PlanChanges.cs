using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Data;

/// <summary>When what a plan does was changed: its name, who is told, and when within its day it starts do not count.</summary>
public static class PlanChanges
{
    private sealed record Row(string Plan, Instant At);

    /// <summary>The instant since which each plan's tasks have been the same; compared where they lie, however large they are.</summary>
    public static async Task<IReadOnlyDictionary<Id<Plan>, Instant>> ReadAsync(ImbrekContext context, CancellationToken cancel)
    {
        var rows = await context.Database.SqlQuery<Row>(
            $"""
            select plan, max(at) as at from (
              select plan, at, tasks is distinct from lag(tasks) over (partition by plan order by number) as changed from (
                select plan, number, at, case when not removed and jsonb_typeof(document -> 'tasks') = 'array' then (
                  select jsonb_agg(task - array['offsets', 'spreadSeconds', 'windowSeconds', 'overlap', 'missed', 'attempts', 'backOffSeconds', 'timeLimitSeconds'])
                  from jsonb_array_elements(document -> 'tasks') task) end as tasks
                from plan_versions) versions) steps
            where changed group by plan
            """).ToListAsync(cancel);
        return rows.ToDictionary(r => new Id<Plan>(r.Plan), r => r.At);
    }
}
