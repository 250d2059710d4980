using Imbrek.Core.Fleet;

namespace Imbrek.Core.Findings;

/// <summary>Something that weakens a database's protection: what, why it matters, and the one action that mends it.</summary>
/// <param name="Code">A stable name for the rule.</param>
/// <param name="Database">The database.</param>
/// <param name="Urgency">How soon somebody should look.</param>
/// <param name="What">What was found.</param>
/// <param name="Why">Why it matters.</param>
/// <param name="Remedy">The one action that mends it.</param>
public sealed record Finding(string Code, Id<Database> Database, Urgency Urgency, string What, string Why, string Remedy);
