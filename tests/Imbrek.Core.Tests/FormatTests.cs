using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The open files: out and in again is the same, and every fault is named with line and member.</summary>
public class FormatTests
{
    private static byte[] Case(string file) => File.ReadAllBytes(Path.Combine(AppContext.BaseDirectory, "Cases", "02-a-bad-change-and-a-new-branch", file));

    private static FleetModel Fleet => FleetFile.Read(Case("fleet.json"), "f").Value!;

    private static (int Line, string Member)[] FaultsOfFleet(string from, string to)
    {
        var text = Encoding.UTF8.GetString(Case("fleet.json"));
        Assert.Contains(from, text, StringComparison.Ordinal);
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(text.Replace(from, to, StringComparison.Ordinal)), "f");
        Assert.Null(read.Value);
        return [.. read.Faults.Select(f => (f.Line, f.Member))];
    }

    [Fact]
    public void A_fleet_written_and_read_is_the_same()
    {
        var once = FleetFile.Write(Fleet);
        var again = FleetFile.Read(Encoding.UTF8.GetBytes(once), "f");
        Assert.Empty(again.Faults);
        Assert.Empty(again.Warnings);
        Assert.Equal(once, FleetFile.Write(again.Value!));
    }

    [Fact]
    public void An_instant_is_the_same_from_bytes_as_from_a_text_however_it_is_written()
    {
        string[] odd = ["2026-02-29T00:00:00Z", "2024-02-29T23:59:59Z", "2026-03-01T24:00:00Z", "2026-03-01T23:60:00Z", "2026-03-01T02:41:00.5Z", "2026-03-01T02:41:00,123Z", "0000-01-01T00:00:00Z", "2200-12-31T23:59:59.999Z", "2201-01-01T00:00:00Z", "1899-12-31T23:59:59Z", "2026-03-01t02:41:00Z", "2026-03-01T02:41:00+01"];
        var of = Gen.Select(Gen.Long[-2_300_000_000_000, 7_400_000_000_000], Gen.Bool, Gen.Int[0, 24], Gen.Char["0123456789-:.TZ+ x"], Gen.Int[0, 3]);
        foreach (var text in odd)
        {
            Same(text);
        }

        of.Sample((millis, whole, at, put, how) =>
        {
            var text = Instants.Write(Instant.FromUnixTimeMilliseconds(whole ? millis / 1000 * 1000 : millis));
            at = Math.Min(at, text.Length - 1);
            Same(how switch { 0 => text, 1 => text[..at] + put + text[(at + 1)..], 2 => text.Remove(at, 1), _ => text.Insert(at, put.ToString()) });
        });

        static void Same(string text)
        {
            var expected = Instants.TryParse(text, out var read);
            Assert.Equal((expected, expected ? read : default), (Instants.TryParse(Encoding.UTF8.GetBytes(text), out var fast), expected ? fast : default));
        }
    }

    [Fact]
    public void A_catalogue_written_and_read_is_the_same_as_lines_and_as_rows() => Worlds.Gen.Sample(
        w =>
        {
            // An incremental may by chance be earlier than its parent, which the files refuse.
            var sets = w.Sets.Where(s => s.Parent is null || w.Sets.All(p => p.Id != s.Parent || p.CoversTo <= s.CoversTo)).ToArray();
            var lines = sets.Select(CatalogueFile.WriteLine).ToArray();
            var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', lines)), "c", w.Fleet);
            Assert.Empty(read.Faults);
            Assert.Equal(lines.Order(), read.Value!.All.SelectMany(c => c.Sets).Select(CatalogueFile.WriteLine).Order());
            var csv = CatalogueCsv.Read(Encoding.UTF8.GetBytes(CatalogueCsv.Write(sets)), "c", w.Fleet);
            Assert.Empty(csv.Faults);
            Assert.Equal(lines.Order(), csv.Value!.All.SelectMany(c => c.Sets).Select(CatalogueFile.WriteLine).Order());
        },
        iter: 300);

    [Fact]
    public void Rows_may_leave_out_what_is_optional_and_must_name_the_rest()
    {
        var rows = CatalogueCsv.Write(CatalogueFile.Read(Case("catalog.jsonl"), "c", Fleet).Value!.All.SelectMany(c => c.Sets));
        Assert.StartsWith("id,database,kind,branch,parent,fromPosition,toPosition,coversFrom,coversTo,finishedAt,dataBytes,outsideChain,rollForward,usableOn,key,store,", rows, StringComparison.Ordinal);
        var without = string.Join('\n', rows.TrimEnd().Split("\r\n").Select(r => r.Split(',')).Select(f => string.Join(',', f.Where((_, i) => i != 14))));
        var read = CatalogueCsv.Read(Encoding.UTF8.GetBytes(without), "c", Fleet);
        Assert.Empty(read.Faults);
        Assert.Equal(5, read.Value!.All.Sum(c => c.Count));
        var named = CatalogueCsv.Read(Encoding.UTF8.GetBytes(rows.Replace("coversTo", "until", StringComparison.Ordinal)), "c", Fleet);
        Assert.Equal([(1, "coversTo")], named.Faults.Select(f => (f.Line, f.Member)));
    }

    [Theory]
    [InlineData("\"array\": \"quay-a1\"", "\"array\": \"quay-a9\"", "hosts[0].array")]
    [InlineData("\"engine\": \"chain\"", "\"engine\": \"train\"", "databases[0].engine")]
    [InlineData("\"rpoSeconds\": 1200", "\"rpoSeconds\": \"soon\"", "objectives[0].rpoSeconds")]
    [InlineData("\"sizeBytes\": 70000000000", "\"sizeBytes\": -1", "databases[0].sizeBytes")]
    [InlineData("\"startsAt\": \"2026-03-02T05:00:00.000Z\"", "\"startsAt\": \"2026-03-02T03:00:00.000Z\"", "databases[0].branches[0].startsAt")]
    [InlineData("\"parent\": 1", "\"parent\": 7", "databases[0].branches[0].parent")]
    [InlineData("\"parent\": 1", "\"parent\": 2", "databases[0].branches[0].parent")]
    [InlineData("\"timeZone\": \"Europe/Oslo\"", "\"timeZone\": \"Europe/Atlantis\"", "sites[0].timeZone")]
    [InlineData("imbrek-fleet/1", "imbrek-fleet/9", "format")]
    public void A_wrong_member_of_a_fleet_is_named(string from, string to, string member) =>
        Assert.Contains(FaultsOfFleet(from, to), f => f.Member == member && f.Line > 0);

    [Fact]
    public void A_second_link_for_a_pair_is_an_error_whichever_way_round() => Assert.Contains(
        FaultsOfFleet("\"links\": [", "\"links\": [ {\"between\": [\"hill\", \"quay\"], \"bytesPerSecond\": 1},"),
        f => f.Member == "links[1].between");

    [Fact]
    public void Every_fault_is_listed_not_only_the_first() =>
        Assert.Equal(2, FaultsOfFleet("\"writeBytesPerSecond\": 400000000", "\"writeBytesPerSecond\": 0").Length);

    [Theory]
    [InlineData("\"kind\": \"log\"", "\"kind\": \"diary\"", "kind")]
    [InlineData("\"fromPosition\": 1000", "\"fromPosition\": null", "fromPosition")]
    [InlineData("\"toPosition\": 1100", "\"toPosition\": 10", "toPosition")]
    [InlineData("\"coversTo\": \"2026-03-02T02:00:00.000Z\"", "\"coversTo\": \"2026-03-02T00:30:00.000Z\"", "coversTo")]
    [InlineData("\"availableAt\": \"2026-03-02T02:01:00.000Z\"", "\"availableAt\": \"2026-03-02T01:59:59.999Z\"", "copies[0].availableAt")]
    [InlineData("\"branch\": 1", "\"branch\": 5", "branch")]
    [InlineData("\"database\": \"tickets\"", "\"database\": \"trinkets\"", "database")]
    public void A_wrong_member_of_a_set_is_named_with_its_line(string from, string to, string member)
    {
        var lines = Encoding.UTF8.GetString(Case("catalog.jsonl")).Split('\n');
        Assert.Contains(from, lines[1], StringComparison.Ordinal);
        lines[1] = lines[1].Replace(from, to, StringComparison.Ordinal);
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', lines)), "c", Fleet);
        Assert.Null(read.Value);
        Assert.Contains(read.Faults, f => f.Line == 2 && f.Member == member);
        Assert.All(read.Faults, f => Assert.Equal(2, f.Line));
    }

    [Fact]
    public void A_missing_parent_and_a_cycle_are_no_errors_but_make_sets_unavailable()
    {
        const string line = """{"type":"set","id":"ID","database":"tickets","kind":"incremental","parent":"PARENT","toPosition":1,"coversTo":"2026-03-01T00:00:00Z","dataBytes":1,"copies":[{"store":"quay-s1","availableAt":"2026-03-01T00:00:00Z","storedBytes":1}]}""";
        string Set(string id, string parent) => line.Replace("ID", id, StringComparison.Ordinal).Replace("PARENT", parent, StringComparison.Ordinal);
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes($"{Set("a", "b")}\n{Set("b", "a")}\n{Set("c", "gone")}"), "c", Fleet);
        Assert.Empty(read.Faults);
        var subject = Recovery.RecoverySubject.Of(Fleet, Fleet.Databases[0], read.Value!.Of(new("tickets")));
        Assert.Empty(Recovery.Evaluator.RecoverableAt(subject, Objectives.Loss.None, NodaTime.Instant.FromUtc(2026, 3, 2, 0, 0)));
    }

    [Fact]
    public void However_long_chains_are_and_however_many_keys_there_are_each_set_is_looked_at_once()
    {
        // Each builds on one that is later, which is a fault unless it comes round in the end: to go along the chain for each of them would take hours.
        const int Count = 200_000;
        string Chain(int i, int parent) =>
            $$"""{"type":"set","id":"s{{i}}","database":"tickets","kind":"incremental","parent":"s{{parent}}","toPosition":1,"coversTo":"{{NodaTime.Instant.FromUnixTimeSeconds(1_772_000_000 + i)}}","dataBytes":1,"key":"k{{i}}","copies":[]}""";
        var closed = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', Enumerable.Range(0, Count).Select(i => Chain(i, (i + 1) % Count)))), "c", Fleet);
        Assert.Empty(closed.Faults);
        Assert.Equal(["k0", "k1"], closed.Value!.Of(new("tickets")).Sets.Take(2).Select(s => s.Key));
        var open = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', Enumerable.Range(0, Count).Select(i => Chain(i, i + 1)))), "c", Fleet);
        Assert.Null(open.Value);
        Assert.Equal(("parent", 1), (open.Faults[0].Member, open.Faults[0].Line));
        Assert.Equal(InputBounds.Faults, open.Faults.Count);
    }

    [Fact]
    public void A_text_that_is_known_is_made_once_however_long_it_is_and_whatever_it_is_of()
    {
        var known = new KnownTexts();
        foreach (var text in new[] { "", "quay", "Kai-Süd ⚓", new string('ß', 5_000) })
        {
            var first = known.Of(Encoding.UTF8.GetBytes(text));
            Assert.Equal(text, first);
            Assert.Same(first, known.Of(Encoding.UTF8.GetBytes(text)));
        }
    }

    [Fact]
    public void More_stores_than_can_be_told_apart_are_refused()
    {
        var f = Fleet;
        var fleet = new FleetModel(f.SiteList, f.Links, f.ArrayList, f.HostList, [.. f.StoreList, .. Enumerable.Range(f.StoreList.Count, 65_536 - f.StoreList.Count).Select(i => f.StoreList[0] with { Id = new($"s{i}") })], f.EngineList, f.ObjectiveList, [], f.Databases);
        Assert.Equal("stores", Assert.Single(FleetFile.Read(Encoding.UTF8.GetBytes(FleetFile.Write(fleet)), "f").Faults).Member);
    }

    [Fact]
    public void Sets_of_a_database_that_lie_apart_are_told_of_each_other_and_the_good_ones_are_there()
    {
        string Set(string id, string database) => $$"""{"type":"set","id":"{{id}}","database":"{{database}}","kind":"full","toPosition":1,"coversTo":"2026-03-01T00:00:00Z","dataBytes":1,"copies":[]}""";
        var (f, one, other) = (Fleet, "tickets", "tolls");
        var fleet = new FleetModel(f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, f.EngineList, f.ObjectiveList, [], [.. f.Databases, f.Databases[0] with { Id = new(other) }]);
        string[] lines = [Set("a", one), Set("a", other), Set("b", one), Set("a", one), Set("b", other)];
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', lines)), "c", fleet, skipBad: true);
        Assert.Equal([(4, "id")], read.Faults.Select(f => (f.Line, f.Member)));
        Assert.Equal(["a", "b"], read.Value!.Of(new(one)).Sets.Select(s => s.Id.Value));
        Assert.Equal(["a", "b"], read.Value.Of(new(other)).Sets.Select(s => s.Id.Value));
    }

    [Fact]
    public void Unknown_members_are_left_aside_with_a_warning_and_broken_lines_are_named()
    {
        var text = Encoding.UTF8.GetString(Case("catalog.jsonl")).Replace("\"id\": \"l0\"", "\"id\": \"l0\", \"mood\": \"fine\"", StringComparison.Ordinal);
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(text), "c", Fleet);
        Assert.Equal([(2, "mood")], read.Warnings.Select(w => (w.Line, w.Member)));
        Assert.NotNull(read.Value);
        var broken = CatalogueFile.Read(Encoding.UTF8.GetBytes(text.TrimEnd() + "\n{\"type\":"), "c", Fleet);
        Assert.Null(broken.Value);
        Assert.Equal(text.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length + 1, Assert.Single(broken.Faults).Line);
    }

    private static string Line(int i, string more = "") =>
        $$"""{"type": "set", "id": "s{{i}}", "database": "tickets", "kind": "full", "toPosition": {{i}}, "coversTo": "2026-03-01T02:40:00Z", "dataBytes": 1, "key": "{{new string('k', 150)}}", "copies": []{{more}}}""";

    [Fact]
    public void A_file_read_in_parts_gives_what_its_lines_give_one_by_one()
    {
        // Some megabytes, so that there are several parts; now and then an empty line, a fault, a member nobody knows, a name with escapes.
        string[] lines =
        [
            .. Enumerable.Range(0, 2_500).Select(i => (i % 97) switch
            {
                3 => "",
                5 => Line(i).Replace("\"dataBytes\": 1", "\"dataBytes\": -1", StringComparison.Ordinal),
                7 => Line(i, ", \"colour\": \"red\""),
                9 => Line(i).Replace("\"kind\"", "\"k\\u0069nd\"", StringComparison.Ordinal).Replace($"\"s{i}\"", $"\"\\u0073{i}\"", StringComparison.Ordinal),
                11 => Line(i, ", \"toPosition\": 1"),
                _ => Line(i, new string(' ', 1_600)),
            }),
        ];
        var whole = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', lines)), "c", Fleet, skipBad: true);
        Assert.Null(CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', lines)), "c", Fleet).Value);
        var each = lines.Select((text, i) => (Read: CatalogueFile.Read(Encoding.UTF8.GetBytes(text), "c", Fleet, skipBad: true), Line: i + 1)).ToArray();
        Assert.Equal(each.SelectMany(e => e.Read.Faults.Select(f => f with { Line = e.Line })), whole.Faults);
        Assert.Equal(each.SelectMany(e => e.Read.Warnings.Select(f => f with { Line = e.Line })), whole.Warnings);
        var alone = each.SelectMany(e => e.Read.Value!.All.SelectMany(c => c.Sets)).Select(CatalogueFile.WriteLine);
        Assert.Equal(alone.Order(StringComparer.Ordinal), whole.Value!.All.SelectMany(c => c.Sets).Select(CatalogueFile.WriteLine).Order(StringComparer.Ordinal));
        Assert.True(whole.Faults.Count >= 40 && whole.Warnings.Count >= 20, "too few lines with something odd");
    }

    [Fact]
    public void Of_faults_in_many_parts_as_many_are_listed_as_may_be_the_first_of_them_and_no_set_is_given()
    {
        var bad = Enumerable.Range(0, 20_000).Select(i => Line(i).Replace("\"dataBytes\": 1", "\"dataBytes\": -1", StringComparison.Ordinal));
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', bad)), "c", Fleet);
        Assert.Null(read.Value);
        Assert.Equal(Enumerable.Range(1, InputBounds.Faults), read.Faults.Select(f => f.Line));
    }

    [Theory]
    [InlineData(3)]
    [InlineData(60)]
    public void A_member_given_twice_is_a_fault_among_few_members_and_among_many(int others)
    {
        var more = string.Concat(Enumerable.Range(0, others).Select(i => $", \"other{i}\": {i}"));
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(Line(1, more + ", \"other1\": 2")), "c", Fleet);
        Assert.Equal("other1", Assert.Single(read.Faults).Member);
        Assert.Equal(others, CatalogueFile.Read(Encoding.UTF8.GetBytes(Line(1, more)), "c", Fleet).Warnings.Count);
    }

    [Fact]
    public void What_one_line_said_is_not_taken_for_what_the_next_leaves_out()
    {
        var text = Encoding.UTF8.GetString(Case("catalog.jsonl")).Split('\n')[0] + "\n" + Line(1) + "\n{\"type\": \"set\"}\n\"text\"\n" + Line(2);
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(text), "c", Fleet, skipBad: true);
        var bare = read.Value!.All.SelectMany(c => c.Sets).Single(s => s.Id.Value == "s1");
        Assert.Equal((null, null, 0, 0), (bare.Parent, bare.CoversFrom, bare.Copies.Count, bare.UsableOn.Count));
        Assert.Equal(["id", "database", "kind", "toPosition", "coversTo", "dataBytes", "copies"], read.Faults.Where(f => f.Line == 3).Select(f => f.Member));
        Assert.Contains(read.Faults, f => f.Line == 4 && f.Message.Contains("object", StringComparison.Ordinal));
    }

    [Fact]
    public void Bytes_that_are_no_text_are_a_fault_of_their_own_line_alone()
    {
        byte[] bad = [.. Encoding.UTF8.GetBytes(Line(1) + "\n" + Line(2)[..^20]), 0xC3, 0x28, .. Encoding.UTF8.GetBytes("\"}\n" + Line(3))];
        var read = CatalogueFile.Read(bad, "c", Fleet, skipBad: true);
        Assert.All(read.Faults, f => Assert.Equal(2, f.Line));
        Assert.NotEmpty(read.Faults);
        Assert.Equal(["s1", "s3"], read.Value!.All.SelectMany(c => c.Sets).Select(s => s.Id.Value).Order());
    }

    [Fact]
    public void Of_copies_in_one_store_one_after_the_other_the_last_is_kept_and_all_else_as_it_was()
    {
        static BackupCopy Copy(string store, int minute) => new(new(store), Instant.FromUtc(2026, 3, 1, 3, minute), null, null, minute, CopyState.Good);
        BackupSet Set(int i, params BackupCopy[] copies) => CatalogueFile.Read(Encoding.UTF8.GetBytes(Line(i)), "c", Fleet).Value!.All.Single()[0] with { Copies = copies };
        var read = new BackupCatalogue([Set(1, Copy("quay-s1", 1), Copy("hill-s1", 2)), Set(2, Copy("quay-s1", 5), Copy("hill-s1", 2), Copy("quay-s1", 3)), Set(3)]);
        var one = read.WithOneCopyAStore(out var changed);
        Assert.Equal(1, changed);
        Assert.Equal([("s1", "1 2"), ("s2", "5 2"), ("s3", "")], one.All.Single().Sets.Select(s => (s.Id.Value, string.Join(' ', s.Copies.Select(c => c.StoredBytes)))).Order());
        Assert.Same(one, one.WithOneCopyAStore(out changed));
        Assert.Equal(0, changed);
    }

    private static string SchemaFile(string file)
    {
        var root = new DirectoryInfo(AppContext.BaseDirectory);
        while (!Directory.Exists(Path.Combine(root.FullName, "docs", "formats")))
        {
            root = root.Parent!;
        }

        return Path.Combine(root.FullName, "docs", "formats", file);
    }

    [Theory]
    [InlineData("fleet.schema.json", "properties.databases")]
    [InlineData("fleet.schema.json", "properties.replicas")]
    [InlineData("catalogue.schema.json", "oneOf.0.properties.copies")]
    [InlineData("catalogue.schema.json", "oneOf.1.properties.receivedLagSeconds")]
    public void A_schema_ships_with_the_product(string file, string member)
    {
        var at = JsonNode.Parse(File.ReadAllText(SchemaFile(file)))!;
        foreach (var step in member.Split('.'))
        {
            at = int.TryParse(step, out var index) ? at[index]! : at[step]!;
            Assert.NotNull(at);
        }
    }

    /// <summary>What a line of the catalogue is written with, the schema names, and nothing else.</summary>
    [Fact]
    public void The_schema_knows_the_members_of_a_stretch_of_lag()
    {
        var line = JsonNode.Parse(CatalogueFile.WriteLine(FormatMutations.Lag))!.AsObject();
        var schema = JsonNode.Parse(File.ReadAllText(SchemaFile("catalogue.schema.json")))!["oneOf"]![1]!["properties"]!.AsObject();
        Assert.Equal(line.Select(m => m.Key).Order(), schema.Select(m => m.Key).Order());
        Assert.Equal(FormatMutations.Lag, CatalogueFile.Read(Encoding.UTF8.GetBytes(line.ToJsonString()), "c", FormatMutations.Rich).Value!.Of(new("d0")).LagOf(FormatMutations.Lag.Replica)[0]);
    }

    [Theory]
    [InlineData("\"replica\":\"d0-west\"", "\"replica\":\"nobody\"", "replica")]
    [InlineData("\"branch\":1", "\"branch\":4", "branch")]
    [InlineData("\"to\":\"2026", "\"to\":\"2020", "to")]
    [InlineData("\"appliedLagSeconds\":75", "\"appliedLagSeconds\":1", "appliedLagSeconds")]
    [InlineData("\"appliedLeastLagSeconds\":60", "\"appliedLeastLagSeconds\":76", "appliedLeastLagSeconds")]
    [InlineData("\"appliedLeastLagSeconds\":60", "\"appliedLeastLagSeconds\":59.9", "appliedLeastLagSeconds")]
    [InlineData("\"receivedLagSeconds\":1.5", "\"receivedLagSeconds\":-1", "receivedLagSeconds")]
    public void A_wrong_member_of_a_stretch_of_lag_is_named_with_its_line(string from, string to, string member)
    {
        var line = CatalogueFile.WriteLine(FormatMutations.Lag);
        Assert.Contains(from, line, StringComparison.Ordinal);
        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes("\n" + line.Replace(from, to, StringComparison.Ordinal)), "c", FormatMutations.Rich);
        Assert.Null(read.Value);
        Assert.Contains(read.Faults, f => f.Line == 2 && f.Member == member);
    }

    [Fact]
    public void Stretches_of_a_replica_may_touch_and_not_overlap()
    {
        var one = FormatMutations.Lag;
        string[] Read(NodaTime.Duration after) => [.. CatalogueFile.Read(
            Encoding.UTF8.GetBytes($"{CatalogueFile.WriteLine(one with { From = one.To + after, To = one.To + NodaTime.Duration.FromHours(5) })}\n{CatalogueFile.WriteLine(one)}"), "c", FormatMutations.Rich).Faults.Select(f => $"{f.Line} {f.Member}")];
        Assert.Empty(Read(NodaTime.Duration.Zero));
        Assert.Equal(["1 from"], Read(NodaTime.Duration.FromMilliseconds(-1)));
    }

    /// <summary>What follows feeders goes from one to the next: a chain without end must not be one for the program.</summary>
    [Theory]
    [InlineData(InputBounds.Feeders + 1, 0)]
    [InlineData(InputBounds.Feeders + 2, 1)]
    [InlineData(50_000, InputBounds.Faults)]
    public void Replicas_feed_each_other_only_so_far(int count, int faults)
    {
        var file = JsonNode.Parse(FleetFile.Write(FormatMutations.Rich))!;
        var chain = new JsonArray([.. Enumerable.Range(0, count).Select(i => (JsonNode)new JsonObject
        {
            ["id"] = $"r{i}", ["database"] = "d0", ["host"] = "spare", ["mode"] = "async", ["from"] = i == 0 ? null : $"r{i - 1}",
        })]);
        file["replicas"] = chain;
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(file.ToJsonString()), "f");
        Assert.Equal(faults, read.Faults.Count(f => f.Member.EndsWith(".from", StringComparison.Ordinal)));
        if (read.Value is { } fleet)
        {
            Assert.NotNull(Replication.ByDesign.ReadSeconds(fleet, fleet.Replicas[new($"r{count - 1}")]));
        }
    }

    [Theory]
    [InlineData("\"host\": \"spare\",\n      \"array\": null", "\"host\": \"spare\",\n      \"array\": \"array\"", "replicas[0].host")]
    [InlineData("\"host\": \"spare\",\n      \"array\": null", "\"host\": null,\n      \"array\": null", "replicas[0].host")]
    [InlineData("\"mode\": \"sync\"", "\"mode\": \"array\"", "replicas[0].array")]
    [InlineData("\"mode\": \"sync\"", "\"mode\": \"shipped\"", "replicas[0].stages")]
    [InlineData("\"mode\": \"shipped\"", "\"mode\": \"async\"", "replicas[1].stages")]
    [InlineData("\"mode\": \"array\"", "\"mode\": \"burst\"", "replicas[2].array")]
    [InlineData("\"opensOn\": [\n        \"host\"", "\"opensOn\": [\n        \"spare\"", "replicas[2].opensOn")]
    [InlineData("\"from\": \"d0-west\"", "\"from\": \"d0-ships\"", "replicas[1].from")]
    [InlineData("\"from\": \"d0-west\"", "\"from\": \"d1-blocks\"", "replicas[1].from")]
    [InlineData("\"from\": \"d0-west\"", "\"from\": \"gone\"", "replicas[1].from")]
    [InlineData("\"since\": \"2026-03-01T00:00:00Z\",\n      \"until\": null", "\"since\": \"2026-03-01T00:00:00Z\",\n      \"until\": \"2026-03-01T00:00:00Z\"", "replicas[0].until")]
    [InlineData("\"voters\": [\n        \"host\"", "\"voters\": [\n        \"nobody\"", "groups[0].voters")]
    [InlineData("\"databases\": [\n        \"d1\"", "\"databases\": [\n        \"d0\"", "groups[1].databases")]
    public void A_wrong_member_of_a_replica_or_group_is_named(string from, string to, string member)
    {
        var text = FleetFile.Write(FormatMutations.Rich);
        Assert.Contains(from, text, StringComparison.Ordinal);
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(text.Replace(from, to, StringComparison.Ordinal)), "f");
        Assert.Null(read.Value);
        Assert.Contains(read.Faults, f => f.Member == member);
    }

    /// <summary>With IMBREK_WRITE_SCHEMA set, the schema is written instead.</summary>
    [Fact]
    public void The_schema_says_of_members_that_may_be_left_out_what_the_code_does_with_them()
    {
        var file = SchemaFile("fleet.schema.json");
        var schema = JsonNode.Parse(File.ReadAllText(file))!;
        var differ = new List<string>();
        foreach (var (list, members) in FleetMembers.Schemas)
        {
            var written = schema["properties"]![list]!["items"]!["properties"]!.AsObject();
            foreach (var (name, said) in members)
            {
                var own = JsonNode.Parse(said.ToJsonString());
                if (!JsonNode.DeepEquals(written[name], own))
                {
                    differ.Add($"{list}.{name}: {own!.ToJsonString()}");
                    written[name] = own;
                }
            }
        }

        if (Environment.GetEnvironmentVariable("IMBREK_WRITE_SCHEMA") is not null)
        {
            File.WriteAllText(file, schema.ToJsonString(new JsonSerializerOptions { WriteIndented = true, Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping }) + "\n");
            return;
        }

        Assert.Empty(differ);
    }

    [Fact]
    public void Each_member_that_may_be_left_out_is_read_back_as_it_was_written()
    {
        var text = FleetFile.Write(FormatMutations.Rich);
        foreach (var (list, members) in FleetMembers.Schemas)
        {
            foreach (var (name, schema) in members)
            {
                var changed = JsonNode.Parse(text)!;
                var item = changed[list]![0]!.AsObject();
                item[name] = Another(schema, item[name]);
                var read = FleetFile.Read(Encoding.UTF8.GetBytes(changed.ToJsonString()), "f");
                Assert.Empty(read.Faults);
                Assert.Empty(read.Warnings);
                Assert.True(JsonNode.DeepEquals(item[name], JsonNode.Parse(FleetFile.Write(read.Value!))![list]![0]![name]), $"{list}.{name} comes back as something else");
            }
        }

        Assert.Equal(text, FleetFile.Write(FleetFile.Read(Encoding.UTF8.GetBytes(text), "f").Value!));
    }

    /// <summary>A value the schema allows that is not the one there.</summary>
    private static JsonNode Another(JsonObject schema, JsonNode? now) => schema switch
    {
        _ when schema["enum"] is JsonArray words => words.First(w => w!.ToString() != now?.ToString())!.DeepClone(),
        _ when schema["$ref"]?.ToString().EndsWith("names", StringComparison.Ordinal) == true => new JsonArray("one", "two"),
        _ when schema["$ref"]?.ToString().EndsWith("seconds", StringComparison.Ordinal) == true => 17.5,
        _ when schema["items"]?["enum"] is JsonArray words => new JsonArray(words[1]!.DeepClone(), words[0]!.DeepClone()),
        _ when schema["items"]?["properties"]?["value"] is not null => new JsonArray(new JsonObject { ["name"] = "one", ["value"] = "on" }, new JsonObject { ["name"] = "two", ["value"] = "off" }),
        _ when schema["type"]!.ToString() == "boolean" => !now!.GetValue<bool>(),
        _ when schema["maxLength"] is not null => "another",
        _ when schema["format"] is not null => "2031-05-06T07:08:09Z",
        _ => 37,
    };
}
