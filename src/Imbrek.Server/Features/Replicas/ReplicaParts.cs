using System.Text;
using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Replication;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.State;

namespace Imbrek.Server.Features.Replicas;

/// <summary>A replica as it would stand in the fleet file, read by the rules of that file.</summary>
internal static class ReplicaParts
{
    /// <summary>The fleet with a replica in it; nothing is kept.</summary>
    /// <exception cref="BadInputException">It cannot stand there; names the member at fault.</exception>
    public static FleetModel Put(FleetModel fleet, string id, JsonObject part) => Put(fleet, [FleetParts.Put("replicas", id, part)]);

    /// <summary>The fleet with some of its parts changed; nothing is kept.</summary>
    /// <exception cref="BadInputException">They cannot stand there; names the member at fault.</exception>
    public static FleetModel Put(FleetModel fleet, IEnumerable<FleetParts.Change> changes)
    {
        var document = JsonNode.Parse(FleetFile.Write(fleet.WithPlans([])))!.AsObject();
        FleetParts.Apply(document, changes);
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(document.ToJsonString()), "replica");
        if (read.Value is { } model)
        {
            return model.WithPlans(fleet.Plans);
        }

        // What is wrong with it is said of it, not of its place in the file.
        var fault = read.Faults[0];
        throw new BadInputException(fault.Member.Contains("].", StringComparison.Ordinal) ? fault.Member[(fault.Member.IndexOf("].", StringComparison.Ordinal) + 2)..] : fault.Member, fault.Message);
    }

    /// <summary>A replica read by itself.</summary>
    /// <exception cref="BadInputException">It cannot stand in the fleet; names the member at fault.</exception>
    public static Replica Read(FleetModel fleet, string id, JsonObject part) => Put(fleet, id, part).Replicas[new(id)];
}
