using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>An incident that people know of: its title, when it happened and to which database.</summary>
public sealed record ScriptedIncident(string Title, Instant At, Id<Database> Database);
