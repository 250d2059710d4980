using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>Everything an evaluation of one database looks at. Made once and evaluated for any loss and instant.</summary>
/// <param name="Fleet">The fleet it lies in.</param>
/// <param name="Database">The database.</param>
/// <param name="Lineage">Its sets and which can follow which.</param>
/// <param name="FurtherSources">Sources of recoverable instants other than backup sets, such as replicas (section 7).</param>
public sealed record RecoverySubject(
    FleetModel Fleet,
    Database Database,
    Lineage Lineage,
    IReadOnlyList<IRecoverySource> FurtherSources)
{
    /// <summary>A subject with backup sets alone.</summary>
    public static RecoverySubject Of(FleetModel fleet, Database database, DatabaseCatalogue catalogue) =>
        new(fleet, database, Lineage.Of(database, catalogue), []);

    /// <summary>The sets of the database.</summary>
    public DatabaseCatalogue Catalogue => Lineage.Catalogue;

    /// <summary>The objective agreed for it; null when none is.</summary>
    public Objective? Objective => Fleet.ObjectiveOf(Database);

    /// <summary>The first instant after another at which what is recoverable may change without any news: a copy comes, goes or is no longer locked, or a branch starts; null when there is none.</summary>
    /// <param name="after">The other instant, not counted itself.</param>
    public Instant? NextChange(Instant after)
    {
        var next = Catalogue.NextCopyEvent(after);
        foreach (var branch in Database.Branches)
        {
            if (branch.StartsAt > after && (next is null || branch.StartsAt < next))
            {
                next = branch.StartsAt;
            }
        }

        return next;
    }
}
