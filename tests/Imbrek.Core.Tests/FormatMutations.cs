using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>Every member of the open files, made wrong in every way: never an exception, always a fault that names the member.</summary>
public class FormatMutations
{
    private static readonly string[] WrongKinds = ["""{"a":1}""", "[[]]", "true", "-17.5", "\"?\""];

    /// <summary>Values of the right kind that nobody means.</summary>
    private static readonly string[] Odd = ["\"\"", "\"\\u0000\"", "\"..\"", "\"2026-02-30T25:00:00Z\"", "-1", "0", "1e300", "9007199254740993", "null"];

    internal static FleetModel Rich => WithReplicas(Harbour(2, farCapacity: 10_000_000_000_000)).WithPlans(
    [
        Usual() with
        {
            Members = new Selection { Tags = ["t"], Except = [new("d1")] },
            Tell = new TellRule(["a"], true, true, Duration.FromHours(3), true),
            Tasks =
            [
                .. Usual().Tasks,
                Task(TaskKind.Full, "last Friday of the month 22:00", "aside") with
                {
                    OutsideChain = true, Window = Duration.FromHours(3), Offsets = new Dictionary<string, Duration> { ["d0"] = Duration.FromMinutes(3) }, Key = "east-key",
                    TimeLimit = Duration.FromHours(9), Lock = Duration.FromDays(7), Keep = new RetentionRule(Duration.FromDays(3), 1, 2, 3, 4, 5, Duration.FromDays(6), false),
                    KeepCopies = RetentionRule.For(Duration.FromDays(2)),
                },
            ],
        },
    ]);

    private static FleetModel WithReplicas(FleetModel f) => new(
        f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, f.EngineList, f.ObjectiveList, f.ServiceList, [.. f.Databases.Select(d => d with { LogRoomBytes = 9_000_000_000 })],
        [
            new Replica
            {
                Id = new("d0-west"), Database = new("d0"), Place = new ReplicaPlace.OnHost(new("spare")), Mode = ReplicaMode.Sync, DelaySeconds = 60, RewindSeconds = 600, RewindTakesSeconds = 30, Apart = true,
                WatchSeconds = 5, ApplyBytesPerSecond = 60e6, PromoteSeconds = 40, TakesOver = TakesOver.ByItself, Priority = 2, KeepLogSeconds = 21_600, KeepLogBytes = 10_000_000_000, LogRoomBytes = 8_000_000_000,
                WhenCut = WhenCut.Stop, Resume = ResumeRule.ByHand, CutAfterSeconds = 20, Since = Instant.FromUtc(2026, 3, 1, 0, 0),
            },
            new Replica
            {
                Id = new("d0-ships"), Database = new("d0"), Place = new ReplicaPlace.OnHost(new("spare")), From = new Id<Replica>("d0-west"), Mode = ReplicaMode.Shipped, Readable = ReplicaReadable.BetweenApplies,
                Stages = new ShippingStages(new(300, 5), new(300, 8), new(300, 20), 21_600, null),
            },
            new Replica { Id = new("d1-blocks"), Database = new("d1"), Place = new ReplicaPlace.OnArray(new("array"), [new("host")]), Mode = ReplicaMode.Array, Waits = true, Readable = ReplicaReadable.Never },
        ],
        [new ReplicaGroup(new("g"), "Group", [new("d0")], [new("host"), new("spare")]) { NoticeSeconds = 15 }, new ReplicaGroup(new("g2"), "Other", [new("d1")], [])]);

    internal static LagStretch Lag => new(
        new("d0-west"), 1, Monday, Monday + Duration.FromHours(2), Duration.FromSeconds(1.5), Duration.FromSeconds(75), Duration.FromSeconds(60), 1234, 77);

    private static BackupSet[] Sets =>
    [
        new()
        {
            Id = new("full"), Database = new("d0"), Kind = SetKind.Full, ToPosition = 5, CoversTo = Monday, FinishedAt = Monday, DataBytes = 10,
            Copies = [new(Near, Monday, null, Monday + Duration.FromDays(3), 4, CopyState.Good), new(Far, Monday, Monday + Duration.FromDays(9), null, 4, CopyState.Unverified)],
        },
        new()
        {
            Id = new("log"), Database = new("d0"), Kind = SetKind.Log, FromPosition = 5, ToPosition = 9, CoversFrom = Monday, CoversTo = Monday + Duration.FromHours(1),
            FinishedAt = Monday + Duration.FromHours(1), DataBytes = 10, Copies = [new(Near, Monday + Duration.FromHours(1), null, null, 4, CopyState.Good)],
        },
    ];

    private static IEnumerable<JsonNode> All(JsonNode? node) => node switch
    {
        JsonObject o => o.Select(p => p.Value).OfType<JsonNode>().SelectMany(v => All(v).Prepend(v)),
        JsonArray a => a.OfType<JsonNode>().SelectMany(v => All(v).Prepend(v)),
        _ => [],
    };

    private static string Kind(JsonNode? node) => node switch
    {
        JsonObject => "object",
        JsonArray => "array",
        null => "null",
        _ => node.GetValueKind() switch { JsonValueKind.True or JsonValueKind.False => "boolean", JsonValueKind.Number => "number", _ => "text" },
    };

    /// <summary>Reads the document with each member in turn replaced by each of these.</summary>
    private static void EachMember(string document, string[] by, Func<byte[], IReadOnlyList<Fault>?> read, Action<string, string, IReadOnlyList<Fault>?> then)
    {
        var paths = All(JsonNode.Parse(document)).Select(n => n.GetPath()).ToArray();
        Assert.NotEmpty(paths);
        foreach (var path in paths)
        {
            foreach (var value in by)
            {
                var changed = JsonNode.Parse(document)!;
                var target = All(changed).Single(n => n.GetPath() == path);
                var replacement = JsonNode.Parse(value);
                if (ReferenceEquals(by, WrongKinds) && Kind(replacement) == Kind(target))
                {
                    continue;
                }

                target.ReplaceWith(replacement);
                then(path[2..], value, read(Encoding.UTF8.GetBytes(changed.ToJsonString())));
            }
        }
    }

    private static void WrongKindsAreNamed(string document, Func<byte[], IReadOnlyList<Fault>?> read) => EachMember(document, WrongKinds, read, (member, value, faults) =>
    {
        Assert.True(faults is not null, $"{member} = {value} was taken");
        Assert.True(
            faults.Any(f => f.Member.StartsWith(member, StringComparison.Ordinal) || (f.Member.Length > 0 && member.StartsWith(f.Member, StringComparison.Ordinal))),
            $"{member} = {value}: named {string.Join(", ", faults.Select(f => $"'{f.Member}'"))}");
    });

    private static void OddValuesNeverThrow(string document, Func<byte[], IReadOnlyList<Fault>?> read) => EachMember(document, Odd, read, (member, value, faults) =>
    {
        if (faults is not null)
        {
            Assert.True(faults.Count > 0 && faults.All(f => f.Message.Length > 0), $"{member} = {value}");
        }
    });

    private static Func<byte[], IReadOnlyList<Fault>?> Plan => utf8 => PlanFile.Read(utf8, Rich, new LocalDate(2026, 3, 1)) is { Value: null } bad ? bad.Faults : null;

    private static Func<byte[], IReadOnlyList<Fault>?> FleetOf => utf8 => FleetFile.Read(utf8, "fleet.json") is { Value: null } bad ? bad.Faults : null;

    private static IReadOnlyList<Fault>? Catalogue(byte[] utf8) => CatalogueFile.Read(utf8, "catalogue.jsonl", Rich) is { Value: null } bad ? bad.Faults : null;

    [Fact]
    public void A_member_of_a_plan_of_a_wrong_kind_is_named() => WrongKindsAreNamed(PlanFile.Write(Rich.Plans[0]).ToJsonString(), Plan);

    [Fact]
    public void An_odd_value_in_a_plan_is_read_or_refused_with_a_reason() => OddValuesNeverThrow(PlanFile.Write(Rich.Plans[0]).ToJsonString(), Plan);

    [Fact]
    public void A_member_of_a_fleet_of_a_wrong_kind_is_named() => WrongKindsAreNamed(FleetFile.Write(Rich), FleetOf);

    [Fact]
    public void An_odd_value_in_a_fleet_is_read_or_refused_with_a_reason() => OddValuesNeverThrow(FleetFile.Write(Rich), FleetOf);

    [Fact]
    public void A_member_of_a_set_of_a_wrong_kind_is_named() => Assert.All(Sets, s => WrongKindsAreNamed(CatalogueFile.WriteLine(s), Catalogue));

    [Fact]
    public void An_odd_value_in_a_set_is_read_or_refused_with_a_reason() => Assert.All(Sets, s => OddValuesNeverThrow(CatalogueFile.WriteLine(s), Catalogue));

    [Fact]
    public void A_member_of_a_stretch_of_lag_of_a_wrong_kind_is_named() => WrongKindsAreNamed(CatalogueFile.WriteLine(Lag), Catalogue);

    [Fact]
    public void An_odd_value_in_a_stretch_of_lag_is_read_or_refused_with_a_reason() => OddValuesNeverThrow(CatalogueFile.WriteLine(Lag), Catalogue);

    [Fact]
    public void A_set_that_is_read_in_one_pass_is_the_one_that_is_read_member_by_member()
    {
        BackupSet[] sorts =
        [
            .. Sets,
            Sets[0] with { Id = new("diff"), Kind = SetKind.Differential, Parent = new("full"), OutsideChain = true, Key = "east-key", FinishedAt = Monday + Duration.FromMilliseconds(7), Copies = [] },
            Sets[0] with { Id = new("export"), Kind = SetKind.Export, RollForward = false, Copies = [.. Sets[0].Copies, .. Sets[0].Copies.Take(1).Select(c => c with { RemovedAt = Monday })] },
        ];
        byte[][] lines = [.. sorts.Select(s => Encoding.UTF8.GetBytes(CatalogueFile.WriteLine(s)))];
        var inOnePass = new SetLines(Rich);
        Assert.All(lines, l => Assert.NotNull(inOnePass.Read(l)));
        var (random, all, simple) = (new Random(28), 6_000, 0);
        for (var i = 0; i < all; i++)
        {
            var line = lines[random.Next(lines.Length)];
            line = random.Next(2) == 0 ? Mutations.Of(line, random) : Rearranged(JsonNode.Parse(line)!.AsObject(), random);
            var read = inOnePass.Read(line) is not null;
            simple += read ? 1 : 0;

            // What it leaves is read member by member in either case: of those a few do.
            if (!read && i % 16 != 0)
            {
                continue;
            }

            Assert.Equal(Said(CatalogueFile.ReadWith(null, line, "c", Rich, false)), Said(CatalogueFile.ReadWith(inOnePass, line, "c", Rich, false)));
        }

        Assert.InRange(simple, all / 20, all / 2);

        static string Said(ReadResult<BackupCatalogue> read) => string.Join(
            '\n',
            [
                .. read.Faults.Select(f => $"fault {f}"),
                .. read.Warnings.Select(f => $"warning {f}"),
                .. read.Value is null ? ["refused"] : read.Value.All.SelectMany(c => c.Sets).Select(s => $"{s with { UsableOn = [], Copies = [] }} on {string.Join('|', s.UsableOn)} in {string.Join('|', s.Copies)}"),
            ]);

        // Members in any order, left out, given twice, null, with room between them.
        static byte[] Rearranged(JsonObject line, Random random)
        {
            var members = line.SelectMany(m => Enumerable.Repeat($"\"{m.Key}\"{Room()}:{Room()}{(random.Next(30) == 0 ? "null" : Value(m.Value))}", random.Next(60) switch { 0 => 0, 1 => 2, _ => 1 })).ToArray();
            random.Shuffle(members);
            return Encoding.UTF8.GetBytes($"{Room()}{{{string.Join(Room() + ",", members)}}}{Room()}");

            string Room() => random.Next(8) == 0 ? " \t" : "";

            string Value(JsonNode? value) => value is JsonArray copies ? $"[{string.Join(',', copies.Select(c => Encoding.UTF8.GetString(Rearranged(c!.AsObject(), random))))}]" : value?.ToJsonString() ?? "null";
        }
    }

    [Fact]
    public void A_file_cut_anywhere_is_refused_with_a_line_and_never_taken_for_whole()
    {
        var whole = Encoding.UTF8.GetBytes(FleetFile.Write(Rich).TrimEnd());
        for (var length = 0; length < whole.Length; length += 7)
        {
            var read = FleetFile.Read(whole.AsSpan(0, length).ToArray(), "fleet.json");
            Assert.Null(read.Value);
            Assert.NotEmpty(read.Faults);
        }
    }
}
