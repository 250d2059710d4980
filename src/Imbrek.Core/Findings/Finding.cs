using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Findings;

/// <summary>Something that weakens a database's protection: what, why it matters, and the one action that mends it.</summary>
/// <param name="Code">A stable name for the rule.</param>
/// <param name="Database">The database.</param>
/// <param name="Urgency">How soon somebody should look.</param>
/// <param name="What">What was found.</param>
/// <param name="Why">Why it matters.</param>
/// <param name="Remedy">The one action that mends it.</param>
/// <param name="Seconds">How large it is, where that is a span of time: the hole, what would be lost, how long it has been failing.</param>
/// <param name="Since">The instant it is about, where it is about one.</param>
public sealed record Finding(string Code, Id<Database> Database, Urgency Urgency, string What, string Why, string Remedy, double? Seconds = null, Instant? Since = null);
