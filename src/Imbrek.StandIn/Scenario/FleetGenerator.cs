using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>
/// Fleets of any size with plain full-and-log catalogues, from a seed, for benchmarks and load tests. Not a world: nothing is
/// simulated and there are no bytes behind the sets.
/// </summary>
public static class FleetGenerator
{
    private const int DatabasesPerHost = 20;

    /// <summary>A fleet on two sites; every database has a recovery host at each.</summary>
    /// <param name="databases">How many databases.</param>
    public static FleetModel Fleet(int databases)
    {
        var hosts = Math.Max(1, (databases + DatabasesPerHost - 1) / DatabasesPerHost);
        Id<Site> east = new("east"), west = new("west");
        return new FleetModel(
            [new(east, "East quay", "Europe/Oslo"), new(west, "West quay", "Europe/Oslo")],
            [new(east, west, 1e9, 2)],
            [.. Enumerable.Range(0, hosts).Select(h => new StorageArray(new($"array-{h}"), east))],
            [
                .. Enumerable.Range(0, hosts).Select(h => new Host(new($"host-{h}"), east, new Id<StorageArray>($"array-{h}"), 4e8, null, [], [], [])),
                new(new("spare-east"), east, null, 4e8, null, [], [], []),
                new(new("spare-west"), west, null, 4e8, null, [], [], []),
            ],
            [new(new("store-east"), east, null, null, false, 1e9, 1e9), new(new("store-west"), west, null, null, true, 1e9, 1e9)],
            [new(new("chain"), "Chain-log engine", 30, 1, 4e8, 1e8, 5e7, 20)],
            [new(new("all"), "Against everything", 900, 14_400, Enum.GetValues<LossKind>(), 90)],
            [.. Enumerable.Range(0, hosts).Select(h => new Service(new($"service-{h}"), $"Service {h}", null))],
            [
                .. Enumerable.Range(0, databases).Select(i => new Database
                {
                    Id = new($"db-{i}"),
                    Name = $"Database {i}",
                    Engine = new("chain"),
                    Host = new($"host-{i / DatabasesPerHost}"),
                    RecoveryHosts = [new("spare-east"), new("spare-west")],
                    Objective = new Id<Objective>("all"),
                    Service = new Id<Service>($"service-{i / DatabasesPerHost}"),
                    SizeBytes = 50_000_000_000,
                }),
            ]);
    }

    /// <summary>The same fleet with a replica of every database at the other site: one in three is delayed, one in three takes a commit's wait, the others come after it.</summary>
    public static FleetModel WithReplicas(FleetModel f) => new(
        f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, f.EngineList, f.ObjectiveList, f.ServiceList, [.. f.Databases.Select(d => d with { LogBytesPerSecond = 400_000 })],
        f.Databases.Select((d, i) => new Replica
        {
            Id = new($"{d.Id}-west"),
            Database = d.Id,
            Place = new ReplicaPlace.OnHost(new("spare-west")),
            Mode = i % 3 == 0 ? ReplicaMode.Sync : ReplicaMode.Async,
            DelaySeconds = i % 3 == 1 ? 3600 : 0,
            PromoteSeconds = 40,
            KeepLogSeconds = 86_400,
            LogRoomBytes = 100_000_000_000,
        }));

    /// <summary>Stretches of lag of one replica, evenly over the days before now, with a pause after every tenth.</summary>
    /// <param name="replica">The replica.</param>
    /// <param name="stretches">How many.</param>
    /// <param name="days">Over how many days.</param>
    /// <param name="now">Where the last one ends.</param>
    public static IEnumerable<LagStretch> Lag(Replica replica, int stretches, double days, Instant now)
    {
        var own = Draw.Of(1, replica.Id.Value);
        var length = Duration.FromDays(days) / stretches;
        for (var i = 0; i < stretches; i++)
        {
            var from = now - Duration.FromDays(days) + (length * i);
            var (received, applied) = (Math.Round(Draw.Unit(own, i) * 20, 3), replica.DelaySeconds + Math.Round(Draw.Unit(own, i + stretches) * 60, 3) + 20);
            yield return new LagStretch(
                replica.Id, 1, from, i % 10 == 9 ? from + (length / 2) : from + length, Duration.FromSeconds(received), Duration.FromSeconds(applied), Duration.FromSeconds(replica.DelaySeconds), 1_000_000, null);
        }
    }

    /// <summary>The sets of one database: a full every so many sets, logs between, evenly over the days before now; every tenth log is copied west an hour late.</summary>
    /// <param name="database">The database.</param>
    /// <param name="sets">How many sets.</param>
    /// <param name="days">Over how many days.</param>
    /// <param name="now">When the last one was taken.</param>
    /// <param name="seed">What is drawn is drawn from it.</param>
    public static IEnumerable<BackupSet> Sets(Id<Database> database, int sets, double days, Instant now, ulong seed = 1)
    {
        var own = Draw.Of(seed, database.Value);
        var period = Duration.FromDays(days) / sets;
        const int perFull = 50;
        var before = now - Duration.FromDays(days) - period;
        var position = 0L;
        for (var i = 0; i < sets; i++)
        {
            var at = now - Duration.FromDays(days) + (period * i);
            var full = i % perFull == 0;
            var delay = Duration.FromSeconds(20 + (Draw.Unit(own, i) * 120));
            var available = at + delay;
            BackupCopy[] copies =
            [
                new(new("store-east"), available, null, null, full ? 20_000_000_000 : 200_000_000, CopyState.Good),
                .. full || i % 10 == 0 ? [new BackupCopy(new("store-west"), available + Duration.FromHours(1), null, null, 200_000_000, CopyState.Good)] : Array.Empty<BackupCopy>(),
            ];
            yield return new BackupSet
            {
                Id = new($"s{i}"),
                Database = database,
                Kind = full ? SetKind.Full : SetKind.Log,
                FromPosition = full ? null : position,
                ToPosition = full ? position : position + 100,
                CoversFrom = full ? null : before,
                CoversTo = at,
                FinishedAt = available,
                DataBytes = full ? 50_000_000_000 : 400_000_000,
                Copies = copies,
            };
            if (!full || i == 0)
            {
                before = at;
                position += full ? 0 : 100;
            }
        }
    }
}
