using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>Everything an evaluation of one database looks at. Made once and evaluated for any loss and instant.</summary>
/// <param name="Fleet">The fleet it lies in.</param>
/// <param name="Database">The database.</param>
/// <param name="Lineage">Its sets and which can follow which.</param>
/// <param name="Replicas">Its replicas, in the order of the file (section 7).</param>
public sealed record RecoverySubject(
    FleetModel Fleet,
    Database Database,
    Lineage Lineage,
    IReadOnlyList<ReplicaSource> Replicas)
{
    /// <summary>A database with its sets and its replicas.</summary>
    public static RecoverySubject Of(FleetModel fleet, Database database, DatabaseCatalogue catalogue) => Of(fleet, database, Lineage.Of(database, catalogue));

    private static RecoverySubject Of(FleetModel fleet, Database database, Lineage lineage, IReadOnlyDictionary<Id<Replica>, ReplicaNote>? notes = null) =>
        new(fleet, database, lineage, [.. fleet.ReplicasOf(database.Id).Select(r => new ReplicaSource(fleet, database, r, lineage.Catalogue.LagOf(r.Id), notes?.GetValueOrDefault(r.Id)))]);

    /// <summary>The same with what is known of its replicas beside their lag.</summary>
    public RecoverySubject WithNotes(IReadOnlyDictionary<Id<Replica>, ReplicaNote> notes) => Of(Fleet, Database, Lineage, notes);

    /// <summary>The same with stretches of lag added; its sets are not looked at again.</summary>
    public RecoverySubject With(IEnumerable<LagStretch> stretches)
    {
        var changed = stretches.GroupBy(s => s.Replica).Select(g => Catalogue.LagOf(g.Key).With([.. g])).ToArray();
        return Of(Fleet, Database, Lineage.WithLag([.. Catalogue.Lag.Where(l => changed.All(c => c.Replica != l.Replica)), .. changed]), Replicas.ToDictionary(r => r.Replica.Id, r => r.Note));
    }

    /// <summary>The same without replicas: what its sets alone are worth.</summary>
    public RecoverySubject WithoutReplicas => this with { Replicas = [] };

    /// <summary>The sets of the database.</summary>
    public DatabaseCatalogue Catalogue => Lineage.Catalogue;

    /// <summary>The objective agreed for it; null when none is.</summary>
    public Objective? Objective => Fleet.ObjectiveOf(Database);

    /// <summary>
    /// The first instant after another at which what is recoverable may change without any news: a copy comes, goes or is no longer locked, a branch starts, or a replica begins, ends or moves;
    /// null when there is none.
    /// </summary>
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

        foreach (var replica in Replicas)
        {
            if (replica.NextChange(after.ToUnixTimeMilliseconds()) is { } change && Instant.FromUnixTimeMilliseconds(change) is var then && !(then >= next))
            {
                next = then;
            }
        }

        return next;
    }
}
