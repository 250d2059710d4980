using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Tests;

/// <summary>The worlds of <see cref="Worlds"/> with replicas that hit every rule: delays, rewinds, chains, arrays, holes, branches, voters. Everything happens at whole minutes.</summary>
internal static class ReplicaWorlds
{
    public sealed record World(RecoverySubject Subject, IReadOnlyList<LagStretch> Stretches, Loss Loss, Instant At)
    {
        public override string ToString() =>
            $"{Loss} at {At}\n{string.Join("\n", Subject.Database.Branches)}\n{string.Join("\n", Subject.Replicas.Select(r => r.Replica))}\n{string.Join("\n", Stretches.Select(Formats.CatalogueFile.WriteLine))}\n{string.Join("\n", Subject.Catalogue.Sets.Select(Formats.CatalogueFile.WriteLine))}";
    }

    public static readonly Gen<World> Gen = CsCheck.Gen.Select(Worlds.Gen, CsCheck.Gen.Int[0, int.MaxValue - 1]).Select((w, seed) => Make(w, new Random(seed)));

    private static World Make(Worlds.World w, Random r)
    {
        var database = w.Database with
        {
            DetectSeconds = r.Next(0, 3) * 60,
            DecideSeconds = r.Next(0, 6) * 60,
            RedirectSeconds = 30,
            CheckSeconds = 100,
            LogBytesPerSecond = r.Next(5) == 0 ? null : r.Next(0, 9) * 1e6,
            LogByHour = r.Next(2) == 0 ? [] : [.. Enumerable.Range(0, 24).Select(_ => r.Next(0, 30) / 10.0)],
            LogRoomBytes = r.Next(3) == 0 ? r.Next(1, 90) * 1_000_000_000L : null,
        };
        var replicas = new List<Replica>();
        for (var i = 0; i < r.Next(1, 4); i++)
        {
            replicas.Add(Replica(r, i, replicas));
        }

        var group = new ReplicaGroup(new("g"), "G", [database.Id], [.. new[] { "h1", "h2", "h3" }.Where(_ => r.Next(3) > 0).Select(h => new Id<Host>(h))]) { NoticeSeconds = 15 };
        var f = w.Fleet;
        var fleet = new FleetModel(f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, f.EngineList, f.ObjectiveList, [], [database], replicas, r.Next(2) == 0 ? [group] : []);
        LagStretch[] stretches = [.. replicas.SelectMany(x => Stretches(r, x, database))];
        var catalogue = new BackupCatalogue(w.Sets).WithLag(fleet, stretches).Of(database.Id);
        return new World(RecoverySubject.Of(fleet, database, catalogue), stretches, w.Loss, w.At);
    }

    private static Replica Replica(Random r, int number, List<Replica> before)
    {
        var mode = (ReplicaMode)r.Next(0, 6);
        return new Replica
        {
            Id = new($"r{number}"),
            Database = new("d"),
            Place = mode == ReplicaMode.Array ? new ReplicaPlace.OnArray(new("arr"), [new("h1"), new("h2")]) : new ReplicaPlace.OnHost(new("h" + r.Next(1, 4))),
            From = before.Count > 0 && r.Next(3) == 0 ? before[r.Next(before.Count)].Id : null,
            Mode = mode,
            Waits = r.Next(2) == 0,
            DelaySeconds = r.Next(3) == 0 ? r.Next(1, 20) * 60 : 0,
            RewindSeconds = r.Next(3) == 0 ? r.Next(1, 20) * 60 : 0,
            RewindTakesSeconds = r.Next(0, 300),
            Apart = r.Next(2) == 0,
            PromoteSeconds = r.Next(0, 90),
            ApplyBytesPerSecond = r.Next(2) == 0 ? null : r.Next(1, 90) * 1e6,
            TakesOver = (TakesOver)r.Next(0, 3),
            Priority = r.Next(1, 3),
            KeepLogSeconds = r.Next(2) == 0 ? null : r.Next(1, 400) * 60,
            KeepLogBytes = r.Next(3) == 0 ? r.Next(1, 90) * 1_000_000_000L : null,
            LogRoomBytes = r.Next(2) == 0 ? r.Next(1, 90) * 1_000_000_000L : null,
            Since = r.Next(4) == 0 ? Worlds.Start + Duration.FromMinutes(r.Next(0, 200)) : null,
            Until = r.Next(4) == 0 ? Worlds.Start + Duration.FromMinutes(r.Next(200, 400)) : null,
            Stages = mode == ReplicaMode.Shipped ? new ShippingStages(new(300, 5), new(300, 8), new(300, 20), 21_600, 43_200) : null,
        };
    }

    private static IEnumerable<LagStretch> Stretches(Random r, Replica replica, Database database)
    {
        var delay = (int)(replica.DelaySeconds / 60);
        for (int from = r.Next(0, 60), to; from < 400; from = to + (r.Next(2) == 0 ? 0 : r.Next(1, 60)))
        {
            to = from + r.Next(0, 120);
            var received = r.Next(2) == 0 ? 0 : r.Next(0, 12);
            var applied = Math.Max(received, delay) + r.Next(0, 12);
            var branch = database.Branches.Count > 0 && r.Next(2) == 0 ? database.Branches[r.Next(database.Branches.Count)].Id : 1;
            var start = Worlds.Start + Duration.FromMinutes(from);
            if (branch != 1 && start - Duration.FromMinutes(received) < database.StartOf(branch))
            {
                branch = 1;
            }

            yield return new LagStretch(
                replica.Id,
                branch,
                start,
                Worlds.Start + Duration.FromMinutes(to),
                Duration.FromMinutes(received),
                Duration.FromMinutes(applied),
                Duration.FromMinutes(r.Next(delay, applied + 1)),
                r.Next(0, 50) * 100_000_000L,
                r.Next(3) == 0 ? r.Next(0, 300) : null);
            if (to == from)
            {
                to++;
            }
        }
    }
}
