using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.State;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Fleet;

/// <summary>Changes of the fleet that runs make: each a version of its own, in the name of who asked for the run.</summary>
internal sealed class FleetChanges(FleetState fleet, NpgsqlDataSource source, IServiceProvider services, IClock clock)
{
    /// <summary>A part of the fleet as it stands in the newest version; null when it is not there.</summary>
    public JsonObject? Find(string list, string id) =>
        JsonNode.Parse(FleetFile.Write(fleet.Fleet.WithPlans([])))![list]?.AsArray().OfType<JsonObject>().FirstOrDefault(o => o["id"]?.ToString() == id)?.DeepClone().AsObject();

    /// <summary>Names a branch of a database, in place of what was known of it: who follows an engine's log may have named it before.</summary>
    /// <param name="database">The database as it stands in the fleet.</param>
    /// <param name="branch">The branch.</param>
    public static void Name(JsonObject database, Branch branch) =>
        database["branches"] = new JsonArray([.. (database["branches"] as JsonArray ?? []).Where(b => b?["id"]?.GetValue<int>() != branch.Id).Select(b => b?.DeepClone()), FleetFile.Write(branch)]);

    /// <summary>A database joins a group, unless it is in it.</summary>
    public IEnumerable<FleetParts.Change> Joins(string? group, string database)
    {
        if (group is not null && Find("groups", group) is { } part && part["databases"] is JsonArray members && members.All(m => m?.ToString() != database))
        {
            members.Add(database);
            yield return FleetParts.Put("groups", group, part);
        }
    }

    /// <summary>A database leaves a group, if it is in it.</summary>
    public IEnumerable<FleetParts.Change> Leaves(string? group, string database)
    {
        if (group is not null && Find("groups", group) is { } part && part["databases"] is JsonArray members && members.FirstOrDefault(m => m?.ToString() == database) is { } member)
        {
            members.Remove(member);
            yield return FleetParts.Put("groups", group, part);
        }
    }

    /// <summary>Keeps changes as one version.</summary>
    /// <exception cref="BadInputException">It cannot be.</exception>
    public Task KeepAsync(IReadOnlyList<FleetParts.Change> changes, string why, string who, CancellationToken cancel) =>
        FleetParts.ChangeAsync(changes, null, why, fleet, source, new NoGuest(), services.GetRequiredService<Dispatcher>(), clock, who, null, cancel);
}
