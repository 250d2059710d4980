using System.Text;
using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Accounts, jobs, keys and the machine of an instance: named in the fleet, restored before what needs them, missed where no plan has them.</summary>
public class InstanceDataTests
{
    private static readonly Instant At = Instant.FromUtc(2026, 3, 2, 8, 0);

    private static ReadResult<FleetModel> Read(string databases, string more = "") => FleetFile.Read(Encoding.UTF8.GetBytes($$"""
        {"format":"imbrek-fleet/1","sites":[{"id":"home"},{"id":"away"}],"links":[{"between":["home","away"],"bytesPerSecond":50000000}],
         "hosts":[{"id":"near","site":"home","writeBytesPerSecond":200000000},{"id":"other","site":"home","writeBytesPerSecond":200000000},{"id":"far","site":"away","writeBytesPerSecond":200000000,"slots":2}],
         "stores":[{"id":"vault","site":"away","readBytesPerSecond":100000000,"writeBytesPerSecond":100000000}],
         "engines":[{"id":"e","provisionSeconds":10,"perSetSeconds":2,"restoreBytesPerSecond":150000000,"replayBytesPerSecond":90000000,"indexBytesPerSecond":90000000,"openSeconds":5}],
         "objectives":[{"id":"quick","rpoSeconds":900,"rtoSeconds":600,"against":["host"],"proofDays":30},{"id":"slow","rpoSeconds":900,"rtoSeconds":1800,"against":["host"],"proofDays":30}],
         "databases":[{{databases}}]{{more}}}
        """), "fleet.json");

    private static FleetModel Fleet(string databases, string more = "") => Read(databases, more) is { Value: { } fleet } ? fleet : throw new FormatException(string.Join('\n', Read(databases, more).Faults));

    private static string One(string id, string holds = "", string objective = "slow", string host = "near") =>
        $$"""{"id":"{{id}}","engine":"e","host":"{{host}}","recoveryHosts":["far"],"objective":"{{objective}}","sizeBytes":10000000000,"detectSeconds":60,"decideSeconds":30,"checkSeconds":40,"redirectSeconds":20{{(holds.Length == 0 ? "" : $",\"holds\":[{string.Join(',', holds.Split(' ').Select(h => $"\"{h}\""))}]")}}}""";

    private static RecoverySubject With(FleetModel fleet, Database d, long gigabytes, bool backedUp = true) => RecoverySubject.Of(fleet, d, new(d.Id, !backedUp ? [] :
    [
        new BackupSet
        {
            Id = new("full"),
            Database = d.Id,
            Kind = SetKind.Full,
            ToPosition = 10,
            CoversTo = At - Duration.FromHours(1),
            FinishedAt = At - Duration.FromHours(1),
            DataBytes = gigabytes * 1_000_000_000L,
            Copies = [new BackupCopy(new("vault"), At - Duration.FromMinutes(30), null, null, gigabytes * 500_000_000L, CopyState.Good)],
        },
    ]));

    [Fact]
    public void It_is_read_and_written_by_its_words_and_others_are_faults()
    {
        var fleet = Fleet($"{One("s", "accounts keys image")},{One("d")}");
        Assert.Equal([InstancePart.Accounts, InstancePart.Keys, InstancePart.Image], fleet.Databases[0].Holds);
        Assert.Equal(fleet.Databases[0].Holds, FleetFile.Read(Encoding.UTF8.GetBytes(FleetFile.Write(fleet)), "again").Value!.Databases[0].Holds);
        Assert.Equal(["databases[0].holds[1]"], Read(One("s", "accounts wishes")).Faults.Select(f => f.Member));
        Assert.Equal(["databases[0].holds"], Read(One("s", "keys keys")).Faults.Select(f => f.Member));
    }

    [Fact]
    public void The_machine_comes_before_the_accounts_and_they_before_the_databases_of_their_host_alone()
    {
        var fleet = Fleet($"{One("d")},{One("accounts", "accounts jobs")},{One("machine", "image")},{One("else", host: "other")}");
        IEnumerable<string> Before(string id) => fleet.Before(fleet.DatabaseById[new(id)]).Select(d => d.Id.Value);
        Assert.Equal(["accounts", "machine"], Before("d"));
        Assert.Equal(["machine"], Before("accounts"));
        Assert.Empty(Before("machine"));
        Assert.Empty(Before("else"));
        Assert.Equal(["d", "accounts"], fleet.Needing(fleet.DatabaseById[new("machine")]).Select(d => d.Id.Value));
    }

    [Fact]
    public void When_a_site_returns_nothing_is_restored_before_what_it_needs_works_whatever_was_agreed() => Gen.Int[0, int.MaxValue - 1].Sample(
        seed =>
        {
            var r = new Random(seed);
            var fleet = Fleet(string.Join(',', Enumerable.Range(0, r.Next(2, 9)).Select(i =>
                One($"d{i}", r.Next(4) switch { 0 => "accounts keys", 1 when r.Next(2) == 0 => "image", _ => "" }, r.Next(2) == 0 ? "quick" : "slow", r.Next(3) == 0 ? "other" : "near"))));
            var backed = fleet.Databases.ToDictionary(d => d.Id, _ => r.Next(6) > 0);
            var subjects = fleet.Databases.Select(d => With(fleet, d, r.Next(1, 90), backed[d.Id])).ToArray();
            var plan = SiteLoss.Of(subjects, fleet, new("home"), At, r.Next(3) == 0 ? 1 : null);
            var by = plan.Returns.ToDictionary(x => x.Database);
            foreach (var x in plan.Returns.Where(x => x.Way is not null))
            {
                // All that can come back do, and what cannot keeps nobody waiting.
                Assert.NotNull(x.ServiceSeconds);
                Assert.All(fleet.Before(fleet.DatabaseById[x.Database]).Where(n => by[n.Id].Way is not null), n => Assert.True(by[n.Id].ServiceSeconds <= x.StartsSeconds + 1e-6, $"{x.Database} begins at {x.StartsSeconds}, {n.Id} works at {by[n.Id].ServiceSeconds}"));
            }

            // Instance data goes no later in the order than the first that needs it.
            var order = plan.Returns.Select(x => x.Database).ToList();
            Assert.All(fleet.Databases.Where(d => d.IsInstanceData && backed[d.Id]), d => Assert.All(fleet.Needing(d).Where(n => backed[n.Id]), n => Assert.True(order.IndexOf(d.Id) < order.IndexOf(n.Id))));
        },
        iter: 400);

    [Fact]
    public void Several_to_one_instant_wait_for_what_they_need_and_go_after_it()
    {
        var fleet = Fleet($"{One("d", objective: "quick")},{One("accounts", "accounts")},{One("machine", "image")}");
        var ordered = RestoreTogether.InOrder(fleet.Databases.Select(d => With(fleet, d, 1))).Select(s => s.Database.Id.Value);
        Assert.Equal(["machine", "accounts", "d"], ordered);
        var plan = RestoreTogether.Of([new(new("machine"), new("far"), 10), new(new("accounts"), new("far"), 10, [0]), new(new("d"), new("far"), 10, [0, 1])], At, _ => 5);
        Assert.Equal([[], [1], [1, 2]], plan.Steps.Take(3).Select(s => s.After.Order().ToArray()));
    }

    [Fact]
    public void What_does_not_come_along_is_said_from_what_holds_it()
    {
        static string Said(FleetModel fleet, string host = "far") => string.Join('\n', Prechecks.DoesNotComeAlong(fleet, fleet.DatabaseById[new("d")], fleet.Hosts[new(host)]));
        Assert.DoesNotContain("they are in", Said(Fleet(One("d"))), StringComparison.Ordinal);
        Assert.DoesNotContain("Keys", Said(Fleet(One("d"))), StringComparison.Ordinal);
        var bare = Said(Fleet($"{One("d")},{One("s", "accounts keys")}"));
        Assert.Contains("Keys of the instance: they are in s, which no plan backs up", bare, StringComparison.Ordinal);
        Assert.Contains("Scheduled jobs of the instance", bare, StringComparison.Ordinal);
        const string Plan = ",\"plans\":[{\"id\":\"p\",\"name\":\"P\",\"members\":{\"databases\":[\"s\"]},\"tasks\":[{\"id\":\"full\",\"kind\":\"full\",\"recurrence\":{\"words\":\"daily 01:00\",\"zone\":\"Etc/UTC\"},\"windowSeconds\":3600,\"store\":\"vault\"}]}]";
        Assert.Contains("they are in s, which is restored first", Said(Fleet($"{One("d")},{One("s", "accounts keys")}", Plan)), StringComparison.Ordinal);
        var fleet = Fleet($"{One("d")},{One("s", "accounts keys")}", Plan);
        var d = fleet.DatabaseById[new("d")];
        Assert.Contains("no plan", Assert.Single(Prechecks.DoesNotComeAlong(fleet, d, fleet.Hosts[d.Host])), StringComparison.Ordinal);
        Assert.Empty(Prechecks.DoesNotComeAlong(fleet, d, fleet.Hosts[d.Host], planned: true));
        Assert.Contains("far has its own, in t", Said(Fleet($"{One("d")},{One("s", "accounts")},{One("t", "accounts", host: "far")}", Plan)), StringComparison.Ordinal);
    }

    [Fact]
    public void No_plan_for_it_is_found_with_who_would_suffer_and_an_instance_nobody_names_where_others_are()
    {
        static string[] Codes(FleetModel fleet, string id) => [.. FindingRules.Of(With(fleet, fleet.DatabaseById[new(id)], 1), null, At, Duration.FromDays(7)).Where(f => f.Code.StartsWith("instance-data", StringComparison.Ordinal)).Select(f => $"{f.Code}: {f.Why}")];
        var fleet = Fleet($"{One("d")},{One("s", "accounts keys")},{One("x", host: "other")}");
        Assert.StartsWith("instance-data-uncovered: d would come back without them", Assert.Single(Codes(fleet, "s")), StringComparison.Ordinal);
        Assert.Empty(Codes(fleet, "d"));
        Assert.StartsWith("instance-data-unknown", Assert.Single(Codes(fleet, "x")), StringComparison.Ordinal);
        Assert.Empty(Codes(Fleet(One("x")), "x"));
    }
}
