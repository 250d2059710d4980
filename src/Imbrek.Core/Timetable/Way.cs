using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>One way to copy a database, beside the others its engine family allows: what it costs and what it gives.</summary>
/// <param name="Name">What it is.</param>
/// <param name="Kinds">The kinds of set it takes; none for a copy that is kept all the time.</param>
/// <param name="TakeSeconds">Seconds to take the largest of its sets, or to make the copy that is kept, when nothing else runs.</param>
/// <param name="StoredBytesPerWeek">Bytes it stores in a week, one copy.</param>
/// <param name="MovedBytesPerDay">Bytes that leave the host a day.</param>
/// <param name="RestoreSeconds">Service seconds of its longest restore; null when there is none.</param>
/// <param name="WorstExposureSeconds">The worst exposure of a week, of a copy that is kept by design when its host is lost; null when nothing could be restored.</param>
/// <param name="DoesNotKeep">What it does not keep.</param>
public sealed record Way(
    string Name,
    IReadOnlyList<SetKind> Kinds,
    double TakeSeconds,
    double StoredBytesPerWeek,
    double MovedBytesPerDay,
    double? RestoreSeconds,
    double? WorstExposureSeconds,
    IReadOnlyList<string> DoesNotKeep)
{
    private static readonly (string Name, (TaskKind Kind, string When)[] Tasks, string[] DoesNotKeep)[] All =
    [
        ("full every night", [(TaskKind.Full, "daily 01:00")], ["what changed since the last night"]),
        ("full every night, log every 15 minutes", [(TaskKind.Full, "daily 01:00"), (TaskKind.Log, "every 15 minutes")], []),
        ("full on Sundays, differential on the other nights, log every 15 minutes",
            [(TaskKind.Full, "Sundays 01:00"), (TaskKind.Differential, "Monday to Saturday 01:00"), (TaskKind.Log, "every 15 minutes")], []),
        ("full on Sundays, incremental on the other nights, log every 15 minutes",
            [(TaskKind.Full, "Sundays 01:00"), (TaskKind.Incremental, "Monday to Saturday 01:00"), (TaskKind.Log, "every 15 minutes")], ["one damaged incremental costs all after it"]),
        ("full on Sundays, log every 15 minutes", [(TaskKind.Full, "Sundays 01:00"), (TaskKind.Log, "every 15 minutes")], ["a quick restore at the end of the week: all log since Sunday is replayed"]),
        ("snapshot every night", [(TaskKind.Snapshot, "daily 01:00")], ["what changed since the last night"]),
        ("snapshot every night, log every 15 minutes", [(TaskKind.Snapshot, "daily 01:00"), (TaskKind.Log, "every 15 minutes")], []),
        ("export every night", [(TaskKind.Export, "daily 01:00")], ["any instant between two exports: no log can follow", "indexes: they are built again", "what is damaged inside: it is found, not copied"]),
    ];

    /// <summary>The ways that a database's family allows, each simulated alone for a week.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="store">Where its sets would go.</param>
    /// <param name="from">Where the week begins.</param>
    /// <param name="load">How it lives; null for what the fleet states.</param>
    /// <param name="cancel">Whoever asked does not wait any more.</param>
    public static IReadOnlyList<Way> Of(FleetModel fleet, Database database, Id<Store> store, Instant from, DatabaseLoad? load = null, CancellationToken cancel = default)
    {
        var engine = fleet.Engines[database.Engine];
        var zone = DateTimeZoneProviders.Tzdb[fleet.Sites[fleet.Hosts[database.Host].Site].TimeZone];
        var start = (from - Duration.FromDays(60)).InZone(zone).Date;
        var ways = new List<Way>();
        foreach (var (name, tasks, lacks) in All)
        {
            if (tasks.Any(t => !engine.CanTake(t.Kind.Makes()!.Value) || (t.Kind == TaskKind.Log && database.LogMode == LogMode.Discarded)))
            {
                continue;
            }

            var plan = new Plan(
                new("way"),
                name,
                new Selection { Databases = [database.Id] },
                [.. tasks.Select(t => new PlanTask { Id = t.Kind.ToString(), Kind = t.Kind, Store = store, Recurrence = RecurrenceWords.TryParse(t.When, zone, start, out var r, out var e) ? r : throw new InvalidOperationException(e) })],
                TellRule.Nobody);
            var answer = Designer.Design(new DesignQuestion { Fleet = fleet, Series = Series.Of(plan, fleet), Databases = [database], From = from, LoadOf = load is null ? null : _ => load, Cancel = cancel });
            var none = answer.ByDatabase[database.Id].FirstOrDefault(f => f.Loss.Kind == LossKind.None) ?? answer.ByDatabase[database.Id][0];
            var sets = answer.Subjects[database.Id].Catalogue.Sets.Where(s => s.CoversTo >= from && s.CoversTo < answer.To).ToArray();
            var stored = sets.Sum(s => (double)s.Copies[0].StoredBytes);
            ways.Add(new Way(
                name,
                [.. tasks.Select(t => t.Kind.Makes()!.Value)],
                sets.Select(s => (s.Copies[0].AvailableAt - s.CoversTo).TotalSeconds).DefaultIfEmpty(0).Max(),
                stored,
                stored / 7,
                none.LongestRestore?.ServiceSeconds,
                none.Window.SecondsUnprotected > 0 ? null : none.Window.WorstExposureSeconds,
                [.. lacks, .. engine.TracksChanges || !tasks.Any(t => t.Kind is TaskKind.Differential or TaskKind.Incremental) ? [] : new[] { "time: without change tracking the whole database is read each time" }]));
        }

        return [.. ways, .. fleet.ReplicasOf(database.Id).Where(r => r.TakesOver != TakesOver.Never && !(from >= r.Until) && r.ReceiveRateIn(fleet) > 0).Select(r => LiveCopy(fleet, database, r))];
    }

    /// <summary>A copy that is kept all the time and detached when it is needed: the same blocks, usable at once, and the same mistakes.</summary>
    private static Way LiveCopy(FleetModel fleet, Database database, Replica replica)
    {
        var held = replica.DelaySeconds + replica.RewindSeconds;
        return new Way(
            $"live copy on {(replica.Place is ReplicaPlace.OnArray a ? $"array {a.Array}" : replica.Place.Hosts[0].Value)} ({replica.Id}), detached when it is needed",
            [],
            database.SizeBytes / Seeding.CopyRate(fleet, database, replica),
            database.SizeBytes,
            (database.LogBytesPerSecond ?? 0) * 86_400,
            database.ServiceSeconds(replica.PromoteSeconds),
            ByDesign.LossSeconds(fleet, replica),
            [
                held > 0 ? $"instants more than {PlainDuration.Of(held)} before now" : "any instant before now: what is deleted by mistake is deleted there too",
                "tidiness: it is the same blocks, with the same damage and the same unused room",
            ]);
    }
}
