using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Tests;

/// <summary>Small random fleets and catalogues that hit every rule: branches, holes, overlaps, idle logs, removals, locks, damage.</summary>
internal static class Worlds
{
    public static readonly Instant Start = Instant.FromUtc(2026, 3, 1, 0, 0);
    public static readonly Instant End = Start + Duration.FromMinutes(400);

    public sealed record World(FleetModel Fleet, Database Database, IReadOnlyList<BackupSet> Sets, Loss Loss, Instant At)
    {
        public override string ToString() =>
            $"{Loss} at {At}\n{string.Join("\n", Database.Branches)}\n{string.Join("\n", Sets.Select(Formats.CatalogueFile.WriteLine))}";
    }

    private static readonly FleetModel Places = new(
        [new(new("a"), "A", "UTC"), new(new("b"), "B", "UTC")],
        [new(new("a"), new("b"), 40e6, 2)],
        [new(new("arr"), new("a"))],
        [Host("h1", "a", "arr"), Host("h2", "a", null), Host("h3", "b", null)],
        [Store("s1", "a", "arr", null, false), Store("s2", "a", null, "h2", false), Store("s3", "b", null, null, false), Store("s4", "b", null, null, true)],
        [new(new("e"), "E", 30, 2, 100e6, 20e6, 10e6, 15)],
        [new(new("o"), "O", 1200, 3600, [LossKind.None], 90)],
        [],
        []);

    private static readonly Loss[] Losses =
        [Loss.None, Loss.Hostile, Loss.Of(new Id<Host>("h2")), Loss.Of(new Id<StorageArray>("arr")), Loss.Of(new Id<Site>("a")), Loss.Of(new Id<Site>("b"))];

    public static readonly Gen<World> Gen = CsCheck.Gen.Select(CsCheck.Gen.Int[0, int.MaxValue - 1], CsCheck.Gen.Int[2, 26]).Select((seed, count) => Make(new Random(seed), count));

    private static World Make(Random r, int count)
    {
        var branches = Branches(r);
        var database = new Database
        {
            Id = new("d"),
            Name = "D",
            Engine = new("e"),
            Host = new("h1"),
            RecoveryHosts = [new("h2"), new("h3")],
            Objective = new Id<Objective>("o"),
            SizeBytes = 1_000_000,
            Branches = branches,
        };
        var fleet = new FleetModel(
            Places.SiteList, Places.Links, Places.ArrayList, Places.HostList, Places.StoreList, Places.EngineList, Places.ObjectiveList, [], [database]);
        var sets = new List<BackupSet>();
        for (var i = 0; i < count; i++)
        {
            sets.Add(Set(r, i, sets, branches));
        }

        // Two that build on each other, or one that builds on itself.
        var incrementals = Enumerable.Range(0, count).Where(i => sets[i].Kind == SetKind.Incremental).ToArray();
        if (incrementals.Length > 0 && r.Next(6) == 0)
        {
            var (one, other) = (incrementals[r.Next(incrementals.Length)], incrementals[r.Next(incrementals.Length)]);
            (sets[one], sets[other]) = (sets[one] with { Parent = sets[other].Id }, sets[other] with { Parent = sets[one].Id });
        }

        return new World(fleet, database, sets, Losses[r.Next(Losses.Length)], Start + Duration.FromMinutes(r.Next(50, 400)));
    }

    private static List<Branch> Branches(Random r)
    {
        var branches = new List<Branch>();
        for (var id = 2; id <= r.Next(1, 5); id++)
        {
            var fork = r.Next(20, 300);
            branches.Add(new Branch(id, r.Next(1, id), fork / 10 * 10, Start + Duration.FromMinutes(fork), Start + Duration.FromMinutes(fork + r.Next(0, 60))));
        }

        return branches;
    }

    /// <summary>Positions are about the minute, in tens, so that sets often meet, overlap, miss, or stand still.</summary>
    private static BackupSet Set(Random r, int number, List<BackupSet> before, List<Branch> branches)
    {
        var minute = r.Next(0, 38) * 10;
        var kind = (SetKind)new[] { 0, 1, 2, 3, 4, 5, 5, 5, 5, 5, 5, 0 }[r.Next(12)];
        var parents = before.Where(b => kind switch
        {
            SetKind.Differential => b.Kind == SetKind.Full,
            SetKind.Incremental => b.Kind is SetKind.Full or SetKind.Snapshot or SetKind.Incremental or SetKind.Differential && b.CoversTo <= Start + Duration.FromMinutes(minute),
            _ => false,
        }).ToArray();
        var log = kind == SetKind.Log;
        var length = r.Next(0, 5) * 10;
        var idle = log && r.Next(5) == 0;
        var to = Start + Duration.FromMinutes(minute + (log ? length : 0));
        var copies = Enumerable.Range(0, r.Next(1, 3)).Select(_ =>
        {
            var available = to + Duration.FromMinutes(r.Next(0, 30));
            return new BackupCopy(
                new("s" + r.Next(1, 5)),
                available,
                r.Next(4) == 0 ? available + Duration.FromMinutes(r.Next(1, 200)) : null,
                r.Next(3) == 0 ? available + Duration.FromMinutes(r.Next(1, 200)) : null,
                r.Next(1, 50) * 1_000_000L,
                r.Next(10) == 0 ? CopyState.Damaged : CopyState.Good);
        }).DistinctBy(c => c.Store).ToArray();
        return new BackupSet
        {
            Id = new($"x{number}"),
            Database = new("d"),
            Kind = kind,
            Branch = branches.Count > 0 && r.Next(2) == 0 ? branches[r.Next(branches.Count)].Id : 1,
            Parent = kind is SetKind.Differential or SetKind.Incremental ? parents.Length > 0 && r.Next(8) > 0 ? parents[r.Next(parents.Length)].Id : new("nowhere") : null,
            FromPosition = log ? minute : null,
            ToPosition = idle ? minute : minute + (log ? length : 0),
            CoversFrom = log ? Start + Duration.FromMinutes(minute) : null,
            CoversTo = to,
            FinishedAt = to,
            DataBytes = r.Next(1, 100) * 1_000_000L,
            RollForward = kind != SetKind.Export && r.Next(8) > 0,
            UsableOn = r.Next(6) == 0 ? [new("h2")] : [],
            Key = r.Next(6) == 0 ? $"key {r.Next(3)}" : null,
            Copies = copies,
        };
    }

    private static Host Host(string id, string site, string? array) =>
        new(new(id), new(site), array is null ? null : new Id<StorageArray>(array), 80e6, null, [], [], []);

    private static Store Store(string id, string site, string? array, string? host, bool offline) =>
        new(new(id), new(site), array is null ? null : new Id<StorageArray>(array), host is null ? null : new Id<Host>(host), offline, 60e6, 60e6);
}
