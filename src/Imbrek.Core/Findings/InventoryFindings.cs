using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;
using NodaTime;

namespace Imbrek.Core.Findings;

/// <summary>What hosts tell otherwise than the fleet has it, as findings of databases (ways, section 13).</summary>
public static class InventoryFindings
{
    /// <summary>The findings of one host, each at the database it is about; what the fleet does not know stands at the first of its host and engine.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="host">The host.</param>
    /// <param name="asked">When it was asked.</param>
    /// <param name="changes">What it told otherwise.</param>
    public static IEnumerable<Finding> Of(FleetModel fleet, Id<Host> host, Instant asked, IReadOnlyList<InventoryChange> changes)
    {
        foreach (var c in changes)
        {
            var at = c.Seen.Of ?? c.Seen.In ?? fleet.Databases.Where(d => d.Host == host).OrderBy(d => d.Engine != c.Seen.Engine).Select(d => (Id<Database>?)d.Id).FirstOrDefault();
            if (at is not { } database || !fleet.DatabaseById.ContainsKey(database))
            {
                continue;
            }

            var finding = (c.What, c.Seen.Of, c.Seen.In) switch
            {
                (InventoryWord.New, null, null) => new Finding(
                    "not-in-fleet", database, Urgency.Soon, $"{c.Seen.Name} runs beside it on {host}, and is not in the fleet", "nobody plans for it, and nobody would miss its backup until it is needed", "add it to the fleet and put it under a plan, or have it removed"),
                (InventoryWord.New, _, _) => new Finding(
                    "new-since-asked", database, Urgency.Later, $"{c.Seen.Name} is new in it", "it is backed up with the rest, and may be what makes the rest grow", "say who owns it; nothing else has to be done"),
                (InventoryWord.Gone, not null, _) => new Finding(
                    "gone-from-host", database, Urgency.Now, $"{host} does not run it", "what is planned and computed for it is for a database that is not there", "say where it runs now, or take it out of the fleet"),
                (InventoryWord.Larger, _, _) => new Finding(
                    "larger-by-half", database, Urgency.Soon, $"{c.Seen.Name} is {c.Said}", "a restore takes longer, and needs more room, than is said", "state its size in the fleet, and look whether its objective still holds"),
                (InventoryWord.LogMode, _, _) => new Finding("log-mode-changed", database, Urgency.Now, c.Said, "the fleet says otherwise, and what could be lost is computed from that", "set its log mode back, or state it in the fleet and plan for it"),
                (InventoryWord.Version, _, _) => new Finding("version-changed", database, Urgency.Soon, $"it {c.Said}", "sets taken before may not fit, and hosts without this version cannot run it", "state its version in the fleet, and take a new full"),
                _ => null,
            };
            if (finding is not null)
            {
                yield return finding with { Since = asked };
            }
        }
    }
}
