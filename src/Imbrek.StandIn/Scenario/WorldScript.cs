using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>A world to be run: the fleet, how its databases live, and what goes wrong when.</summary>
/// <param name="Fleet">The fleet.</param>
/// <param name="Seed">All that is drawn is drawn from it.</param>
/// <param name="Begins">Where history begins.</param>
/// <param name="Now">Where history ends and the live clock starts.</param>
/// <param name="Databases">The databases.</param>
/// <param name="Troubles">What goes wrong during history.</param>
/// <param name="Incidents">Incidents known at the end of history.</param>
public sealed record WorldScript(
    FleetModel Fleet,
    ulong Seed,
    Instant Begins,
    Instant Now,
    IReadOnlyList<DatabaseScript> Databases,
    IReadOnlyList<ScriptedTrouble> Troubles,
    IReadOnlyList<ScriptedIncident> Incidents)
{
    /// <summary>Drills held during history.</summary>
    public IReadOnlyList<ScriptedDrill> Drills { get; init; } = [];

    /// <summary>Databases that run on its hosts, and that nobody put into its fleet.</summary>
    public IReadOnlyList<Neighbour> Neighbours { get; init; } = [];

    /// <summary>Databases that have grown beyond what the fleet says, and how many times its size they have.</summary>
    public IReadOnlyDictionary<Id<Database>, double> GrownBy { get; init; } = new Dictionary<Id<Database>, double>();
}
