using Imbrek.Core.Fleet;
using Npgsql;

namespace Imbrek.Data;

/// <summary>What is kept beside the fleet and names parts of it: a new fleet must have them all, or those things would point at nothing.</summary>
public static class FleetReferences
{
    /// <summary>One thing a fleet lacks.</summary>
    /// <param name="List">The list of the fleet file it is missing from, such as <c>stores</c>.</param>
    /// <param name="Id">Its identifier.</param>
    /// <param name="Named">By how many of what it is named, in words.</param>
    public sealed record Missing(string List, string Id, string Named);

    /// <summary>A restored instance that is still there is named by the run that made it.</summary>
    private const string OpenRuns = "(state < 4 or claim is not null)";

    /// <summary>The kind of run that makes a database: until it has, what it names is not there.</summary>
    public const string NewDatabases = "new-database";

    /// <summary>Lists what is named and not in a fleet. Copies that were removed long since, and runs that are over, may name what is gone.</summary>
    /// <param name="connection">An open connection; inside a transaction it sees what that has written.</param>
    /// <param name="fleet">The fleet with its plans.</param>
    /// <param name="cancel">Stops looking.</param>
    /// <param name="setsAreOfIt">Whether all sets there are were read for this very fleet, and so name nothing it lacks.</param>
    public static async Task<IReadOnlyList<Missing>> FindAsync(NpgsqlConnection connection, FleetModel fleet, CancellationToken cancel, bool setsAreOfIt = false)
    {
        var missing = new List<Missing>();
        var databases = fleet.DatabaseById.Keys.Select(d => d.Value).ToHashSet();
        var stores = fleet.Stores.Keys.Select(s => s.Value).ToHashSet();
        var hosts = fleet.Hosts.Keys.Select(h => h.Value).ToHashSet();
        var plans = fleet.Plans.Select(p => p.Id.Value).ToHashSet();
        if (!setsAreOfIt)
        {
            var gone = (await CatalogueTable.WithSetsAsync(connection, cancel)).Select(d => d.Value).Where(d => !databases.Contains(d)).ToArray();
            await Look("databases", databases, "set with copies", "sets with copies", "select s.database, count(*) from backup_sets s where s.database = any(@among) and exists (select 1 from backup_copies c where c.database = s.database and c.set_id = s.id and c.removed_at is null) group by 1", gone);
            await Look("stores", stores, "copy", "copies", "select store, count(*) from backup_copies where removed_at is null group by 1");
            await Look("hosts", hosts, "set usable there alone", "sets usable there alone", "select h, count(*) from backup_sets, unnest(usable_on) h where usable_on is not null group by 1");
            await Branches("sets", "select database, branch, count(*) from backup_sets where branch <> 1 group by 1, 2", d => fleet.DatabaseById.GetValueOrDefault(new(d)));
        }

        await Look("replicas", fleet.Replicas.Keys.Select(r => r.Value).ToHashSet(), "stretch of lag", "stretches of lag", "select replica, count(*) from replica_lag group by 1");
        await Look("databases", databases, "run", "runs", $"select database, count(*) from runs where {OpenRuns} and kind <> '{NewDatabases}' group by 1");
        await Look("hosts", hosts, "run", "runs", "select split_part(claim, '/', 1), count(*) from runs where claim is not null and claim not like 'replica:%' group by 1");
        await Look("plans", plans, "run that waits or goes on", "runs that wait or go on", "select plan, count(*) from runs where plan is not null and state < 4 group by 1");
        foreach (var (list, known, column) in new[] { ("databases", databases, "database"), ("stores", stores, "store"), ("hosts", hosts, "host"), ("plans", plans, "plan") })
        {
            await Look(list, known, "pause", "pauses", $"select {column}, count(*) from pauses where {column} is not null and (\"to\" is null or \"to\" > now()) group by 1");
        }

        await Branches("stretches of lag", "select replica, branch, count(*) from replica_lag where branch <> 1 group by 1, 2", r => fleet.Replicas.TryGetValue(new(r), out var replica) ? fleet.DatabaseById[replica.Database] : null);
        return missing;

        async Task Branches(string what, string sql, Func<string, Database?> of)
        {
            await using var branches = new NpgsqlCommand(sql, connection);
            await using var r = await branches.ExecuteReaderAsync(cancel);
            while (await r.ReadAsync(cancel))
            {
                if (of(r.GetString(0)) is { } d && d.Branches.All(b => b.Id != r.GetInt32(1)))
                {
                    missing.Add(new Missing("databases", d.Id.Value, $"has no branch {r.GetInt32(1)}, which {r.GetInt64(2):N0} of its {what} are of"));
                }
            }
        }

        async Task Look(string list, HashSet<string> known, string one, string several, string sql, string[]? among = null)
        {
            await using var command = new NpgsqlCommand(sql, connection) { CommandTimeout = 300 };
            if (among is not null)
            {
                command.Parameters.AddWithValue("among", among);
            }

            await using var reader = await command.ExecuteReaderAsync(cancel);
            while (await reader.ReadAsync(cancel))
            {
                if (!known.Contains(reader.GetString(0)))
                {
                    var count = reader.GetInt64(1);
                    missing.Add(new Missing(list, reader.GetString(0), $"is not in the file, and {count:N0} {(count == 1 ? one : several)} {(count == 1 ? "names" : "name")} it"));
                }
            }
        }
    }
}
