using System.Text.Json.Nodes;
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

    /// <summary>Keeps changes as one version.</summary>
    /// <exception cref="BadInputException">It cannot be.</exception>
    public Task KeepAsync(IReadOnlyList<FleetParts.Change> changes, string why, string who, CancellationToken cancel) =>
        FleetParts.ChangeAsync(changes, null, why, fleet, source, new NoGuest(), services.GetRequiredService<Dispatcher>(), clock, who, null, cancel);
}
