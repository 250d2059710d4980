using CsCheck;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>What a host tells of its databases, held against the fleet and against the asking before.</summary>
public class InventoryTests
{
    private static readonly FleetModel Fleet = PlanWorlds.Harbour(3).Changed((d, _) => d with { Version = "14", SizeBytes = 100_000_000_000 });
    private static readonly Id<Host> Host = Fleet.Databases[0].Host;
    private static readonly Database[] There = [.. Fleet.Databases.Where(d => d.Host == Host)];

    private static SeenDatabase Seen(Database d) => new(d.Name, d.Id, null, d.Engine, d.Version, d.SizeBytes, d.LogMode);

    private static SeenDatabase Stranger(string name, Id<Database>? inside = null, long size = 1_000) => new(name, null, inside, There[0].Engine, null, size, null);

    private static HostAnswer Answer(IEnumerable<SeenDatabase> seen, params string[] unseen) => new([.. seen], unseen);

    private static (InventoryWord, string)[] Told(HostAnswer now, HostAnswer? before = null) => [.. InventoryComparison.Of(Fleet, Host, now, before).Select(c => (c.What, c.Seen.Name))];

    [Fact]
    public void What_is_as_the_fleet_has_it_is_not_named() => Assert.Empty(Told(Answer(There.Select(Seen)), Answer(There.Select(Seen))));

    [Fact]
    public void What_the_fleet_does_not_know_stays_new_until_it_does_and_stands_beside_its_neighbours()
    {
        var now = Answer(There.Select(Seen).Append(Stranger("pilot")));
        var first = Assert.Single(InventoryComparison.Of(Fleet, Host, now, null));
        Assert.Equal((InventoryWord.New, true), (first.What, first.SinceBefore));
        var again = Assert.Single(InventoryComparison.Of(Fleet, Host, now, now));
        Assert.Equal((InventoryWord.New, false), (again.What, again.SinceBefore));
        var found = Assert.Single(InventoryFindings.Of(Fleet, Host, Instant.FromUtc(2026, 1, 2, 3, 4), [again]));
        Assert.Equal(("not-in-fleet", There[0].Id, Instant.FromUtc(2026, 1, 2, 3, 4)), (found.Code, found.Database, found.Since!.Value));
        Assert.Contains("pilot", found.What, StringComparison.Ordinal);
    }

    [Fact]
    public void What_is_missing_is_gone_only_where_the_host_told_all_it_runs()
    {
        var seen = There.Skip(1).Select(Seen).ToArray();
        Assert.Equal([(InventoryWord.Gone, There[0].Name)], Told(Answer(seen)));
        Assert.Equal([(InventoryWord.NotSeen, There[0].Name)], Told(Answer(seen, "one more that the account may not see")));

        // Also what the fleet never knew, and the asking before did.
        Assert.Equal([(InventoryWord.Gone, "pilot")], Told(Answer(There.Select(Seen)), Answer(There.Select(Seen).Append(Stranger("pilot")))));

        // An instance that answered told all that lies in it, whatever else of the host was not seen.
        var inside = Stranger("ledger", There[0].Id);
        Assert.Equal([(InventoryWord.Gone, "ledger")], Told(Answer(There.Select(Seen), "another instance"), Answer(There.Select(Seen).Append(inside))));
        Assert.Contains((InventoryWord.NotSeen, "ledger"), Told(Answer(seen, "its instance does not answer"), Answer(There.Select(Seen).Append(inside))));
        Assert.Equal("gone-from-host", Assert.Single(InventoryFindings.Of(Fleet, Host, default, InventoryComparison.Of(Fleet, Host, Answer(seen), null))).Code);
        Assert.Empty(InventoryFindings.Of(Fleet, Host, default, InventoryComparison.Of(Fleet, Host, Answer(seen, "?"), null)));
    }

    [Fact]
    public void What_lies_in_an_instance_is_new_only_since_the_asking_before()
    {
        var now = Answer(There.Select(Seen).Append(Stranger("ledger", There[0].Id)));
        Assert.Empty(Told(now));
        Assert.Equal([(InventoryWord.New, "ledger")], Told(now, Answer(There.Select(Seen))));
        Assert.Empty(Told(now, now));
    }

    [Theory]
    [InlineData(149_999_999_999, false)]
    [InlineData(150_000_000_000, true)]
    [InlineData(1, false)]
    public void Larger_by_half_is_named(long size, bool named)
    {
        var now = Answer(There.Skip(1).Select(Seen).Prepend(Seen(There[0]) with { SizeBytes = size }));
        Assert.Equal(named ? [(InventoryWord.Larger, There[0].Name)] : [], Told(now));
        if (named)
        {
            // What paths count on is the fleet's own size: it is named until that is put right.
            Assert.False(Assert.Single(InventoryComparison.Of(Fleet, Host, now, now)).SinceBefore);
        }
    }

    [Fact]
    public void Another_log_mode_and_another_version_are_named_and_what_was_not_told_is_not()
    {
        var told = Seen(There[0]) with { LogMode = LogMode.Discarded, Version = "15" };
        var now = Answer(There.Skip(1).Select(Seen).Prepend(told));
        Assert.Equal([(InventoryWord.LogMode, There[0].Name), (InventoryWord.Version, There[0].Name)], Told(now));
        Assert.Equal(["log-mode-changed", "version-changed"], InventoryFindings.Of(Fleet, Host, default, InventoryComparison.Of(Fleet, Host, now, null)).Select(f => f.Code));
        Assert.Empty(Told(Answer(There.Skip(1).Select(Seen).Prepend(told with { LogMode = null, Version = null, SizeBytes = null }))));
    }

    [Fact]
    public void What_is_kept_of_an_answer_reads_the_same() => Gen.Select(Gen.String[1, 8], Gen.Long.Nullable(), Gen.Bool, Gen.Bool).Array[0, 6].Sample(seen =>
    {
        var answer = new HostAnswer([.. seen.Select(s => new SeenDatabase(s.Item1, s.Item3 ? There[0].Id : null, s.Item4 ? There[1].Id : null, There[0].Engine, s.Item3 ? "14" : null, s.Item2, s.Item4 ? LogMode.Kept : null))], seen.Length > 3 ? ["more"] : []);
        var read = RunJson.Read<HostAnswer>(RunJson.Write(answer));
        Assert.Equal(answer.Databases, read.Databases);
        Assert.Equal(answer.IsPartial, read.IsPartial);
    });
}
