using System.Diagnostics;
using System.Reflection;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Evidence;
using Imbrek.Core.Formats;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The commands on the open files: as they come out of their program, and, where a process of its own would tell no more, of what it runs within this one.</summary>
public sealed class CliTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-cli-").FullName;

    static CliTests()
    {
        Console.SetOut(Heard.Out);
        Console.SetError(Heard.Error);
    }

    public static TheoryData<string> Folders() => WorkedCases.Folders();

    private static string Case(string folder, string file) => Path.Combine(AppContext.BaseDirectory, "Cases", folder, file);

    /// <summary>Runs a command within this process: to start one takes ten times as long as most of them.</summary>
    private static (int Exit, string Out, string Error) Imbrek(params string[] arguments)
    {
        var (output, error) = (new StringWriter(), new StringWriter());
        (Heard.Out.By, Heard.Error.By) = (output, error);
        try
        {
            var exit = (int)Assembly.Load("imbrek-cli").EntryPoint!.Invoke(null, [arguments])!;
            return (exit, output.ToString(), error.ToString().TrimEnd());
        }
        finally
        {
            (Heard.Out.By, Heard.Error.By) = (null, null);
        }
    }

    /// <summary>Runs a command as a person or a script would.</summary>
    private static (int Exit, string Out, string Error) Started(params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(Path.Combine(AppContext.BaseDirectory, "imbrek-cli"), arguments) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return (process.ExitCode, output, error.Result.TrimEnd());
    }

    /// <summary>What is written to the console of this process: whoever hears it, hears what is written while they do, and nobody else does.</summary>
    private sealed class Heard(TextWriter otherwise) : TextWriter
    {
        private readonly AsyncLocal<StringWriter?> by = new();

        public static Heard Out { get; } = new(Console.Out);

        public static Heard Error { get; } = new(Console.Error);

        public override Encoding Encoding => otherwise.Encoding;

        /// <summary>Who hears what is written from here on; null when nobody does.</summary>
        public StringWriter? By { set => by.Value = value; }

        private TextWriter To => by.Value ?? otherwise;

        public override void Write(char value) => To.Write(value);

        public override void Write(string? value) => To.Write(value);

        public override void Write(char[] buffer, int index, int count) => To.Write(buffer, index, count);
    }

    private static string[] Files(string folder) => ["--fleet", Case(folder, "fleet.json"), "--catalog", Case(folder, "catalog.jsonl")];

    private string Written(string name, string content)
    {
        var path = Path.Combine(folder, name);
        File.WriteAllText(path, content);
        return path;
    }

    private static void Agree(JsonNode? expected, JsonNode? actual, string where)
    {
        if (expected is JsonObject members)
        {
            Assert.All(members, m => Agree(m.Value, actual![m.Key], $"{where}.{m.Key}"));
        }
        else if (expected is JsonArray items)
        {
            Assert.Equal(items.Count, actual!.AsArray().Count);
            Assert.All(items.Zip(actual.AsArray()), p => Agree(p.First, p.Second, where));
        }
        else if (expected?.GetValueKind() == JsonValueKind.Number)
        {
            Assert.True(Math.Abs(expected.GetValue<double>() - actual!.GetValue<double>()) <= Math.Max(1e-9, 1e-6 * Math.Abs(expected.GetValue<double>())), $"{where}: {expected}, not {actual}");
        }
        else if (expected?.GetValueKind() == JsonValueKind.String && Instants.TryParse((string)expected!, out var instant))
        {
            Assert.True(Instants.TryParse((string)actual!, out var other) && other == instant, $"{where}: {instant}, not {actual}");
        }
        else
        {
            Assert.True(JsonNode.DeepEquals(expected, actual), $"{where}: {expected?.ToJsonString() ?? "null"}, not {actual?.ToJsonString() ?? "null"}");
        }
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void The_worked_cases_come_out_as_json(string folder)
    {
        var question = JsonNode.Parse(File.ReadAllText(Case(folder, "expected.json")))!.AsArray().Last(q => q!["path"] is not null)!;
        string[] window = question["from"] is { } from ? ["--from", (string)from!] : [];
        var (exit, output, error) = Imbrek(["evaluate", .. Files(folder), "--at", (string)question["at"]!, "--loss", (string)question["loss"]!, .. window, "--json"]);
        Assert.Equal((0, ""), (exit, error));
        Agree(question["evaluate"], JsonNode.Parse(output), folder);

        var path = question["path"]!;
        string[] host = path["host"] is { } named ? ["--host", (string)named!] : [];
        (exit, output, error) = Imbrek(["path", .. Files(folder), "--database", (string)path["database"]!, "--target", (string)path["target"]!, "--at", (string)path["at"]!, "--loss", (string)path["loss"]!, .. host, "--json"]);
        Assert.Equal((0, ""), (exit, error));
        var answer = JsonNode.Parse(output)!;
        var expect = path["expect"]!.DeepClone().AsObject();
        if (expect.Remove("replica", out var replica))
        {
            Assert.Equal((string?)replica, (string?)answer["steps"]!.AsArray().FirstOrDefault()?["replica"]);
        }

        Agree(expect, answer, folder);
        Assert.Equal(answer["reaches"] is null, answer["reason"] is not null);
        Assert.Equal(answer["reaches"] is null, answer["steps"]!.AsArray().Count == 0);
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Replicas_come_out_as_json(string folder)
    {
        var question = JsonNode.Parse(File.ReadAllText(Case(folder, "expected.json")))!.AsArray().Last()!;
        var (exit, output, error) = Imbrek(["replicas", .. Files(folder), "--at", (string)question["at"]!, "--json"]);
        Assert.Equal((0, ""), (exit, error));
        Agree(question["replicas"] ?? new JsonArray(), JsonNode.Parse(output), folder);
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Drills_come_out_as_json(string folder)
    {
        if (JsonNode.Parse(File.ReadAllText(Case(folder, "expected.json")))!.AsArray().Select(q => q!["drill"]).LastOrDefault(d => d is not null) is not { } drill)
        {
            return;
        }

        var (exit, output, error) = Imbrek(["drill", .. Files(folder), "--database", (string)drill["database"]!, "--to", (string)drill["to"]!, "--kind", (string)drill["kind"]!, "--at", (string)drill["at"]!, "--json"]);
        Assert.Equal((0, ""), (exit, error));
        var (answer, expect) = (JsonNode.Parse(output)!.AsObject(), drill["expect"]!.DeepClone().AsObject());
        Assert.True(expect.Remove("refused", out var refused));
        Assert.Equal((bool)refused!, answer["refused"]!.AsArray().Count > 0);
        Assert.Equal((string[])["database", "to", "kind", "at", "refused", "lostSeconds", "lostBytes", "writeStopSeconds", "serviceSeconds", "approval"], answer.Select(m => m.Key));
        Agree(expect, answer, folder);
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Common_instants_come_out_as_json(string folder)
    {
        if (JsonNode.Parse(File.ReadAllText(Case(folder, "expected.json")))!.AsArray().LastOrDefault(q => q!["common"] is not null) is not { } q)
        {
            return;
        }

        var ids = string.Join(',', q["common"]!["databases"]!.AsArray().Select(d => (string)d!).Reverse());
        var (exit, output, error) = Imbrek(["common", .. Files(folder), "--databases", ids, "--at", (string)q["at"]!, "--loss", (string)q["loss"]!, "--json"]);
        Assert.Equal((0, ""), (exit, error));
        Agree(q["common"]!["expect"], JsonNode.Parse(output), folder);
    }

    [Theory]
    [InlineData("tickets,dale", "--databases: the fleet has no database 'dale'")]
    [InlineData("tickets,tickets", "--databases: 'tickets' is named twice")]
    [InlineData("tickets,", "--databases: the fleet has no database ''")]
    public void Which_databases_have_nothing_in_common_is_said(string ids, string said)
    {
        var (exit, output, error) = Imbrek(["common", .. Files("replicas-01-behind-and-cut-off"), "--databases", ids, "--at", "2026-03-02T07:15:00Z"]);
        Assert.Equal((2, ""), (exit, output));
        Assert.StartsWith($"imbrek: {said}", error, StringComparison.Ordinal);
    }

    [Theory]
    // 1,000 s and 10 s; 1 − e^(−1.01) of the data changed at 1,000 B/s meanwhile.
    [InlineData("--size 1000000 --change 1 --rate 1000 --round 10 --window 60 --metadata 5 --check 15 --json", """{"rounds":[{"data":1000000,"seconds":1010}],"last":{"data":1009.4900017,"seconds":11.0094900},"downtimeSeconds":31.0094900,"fits":true,"totalSeconds":1041.0094900}""")]
    [InlineData("--size 1000 --change 0 --rate 10 --round 0 --window 0 --metadata 0 --check 0 --read 5 --json", """{"rounds":[{"data":1000,"seconds":200},{"data":0,"seconds":200}],"last":{"data":0,"seconds":200},"downtimeSeconds":200,"fits":false,"totalSeconds":600}""")]
    [InlineData("--size 1000 --change 1 --rate 10 --round 0 --window 0 --metadata 0 --check 0 --most 0 --json", """{"rounds":[{"data":1000,"seconds":100}],"last":{"data":95.1625820,"seconds":9.5162582},"downtimeSeconds":9.5162582,"fits":false,"totalSeconds":109.5162582}""")]
    public void A_move_comes_out_as_json(string arguments, string expected)
    {
        var (exit, output, error) = Imbrek(["move", .. arguments.Split(' ')]);
        Assert.Equal((0, ""), (exit, error));
        Agree(JsonNode.Parse(expected), JsonNode.Parse(output), arguments);
    }

    [Theory]
    [InlineData("--size", "0", "--size: must be above 0")]
    [InlineData("--rate", "-1", "--rate: must be above 0")]
    [InlineData("--read", "0", "--read: must be above 0")]
    [InlineData("--change", "-1", "--change: must be at least 0")]
    [InlineData("--window", "soon", "--window: 'soon' is not a number")]
    [InlineData("--round", "1e999", "--round: '1e999' is not a number")]
    [InlineData("--most", "1.5", "--most: '1.5' is not a whole number")]
    [InlineData("--most", "10001", "--most: must be 0 to 10000")]
    public void What_a_move_cannot_be_asked_is_said(string option, string value, string said)
    {
        var asked = new[] { "--size", "--change", "--rate", "--round", "--window", "--metadata", "--check" }.ToDictionary(o => o, _ => "1");
        asked[option] = value;
        var (exit, output, error) = Imbrek(["move", .. asked.SelectMany(a => new[] { a.Key, a.Value })]);
        Assert.Equal((2, ""), (exit, output));
        Assert.StartsWith($"imbrek: {said}", error, StringComparison.Ordinal);
    }

    [Fact]
    public void The_return_of_a_site_comes_out_as_json()
    {
        const string Name = "01-chain-with-a-hole-offsite";
        var fleet = JsonNode.Parse(File.ReadAllText(Case(Name, "fleet.json")))!;
        var (database, host) = (fleet["databases"]![0]!, (string)fleet["databases"]![0]!["host"]!);
        var site = (string)fleet["hosts"]!.AsArray().Single(h => (string)h!["id"]! == host)!["site"]!;
        var (exit, output, error) = Imbrek(["site-return", .. Files(Name), "--loss", $"site:{site}", "--at", "2026-03-02T07:15:00Z", "--json"]);
        Assert.Equal((0, ""), (exit, error));
        var first = JsonNode.Parse(output)!.AsArray()[0]!.AsObject();
        Assert.Equal((string[])["database", "host", "startsAt", "readyAt", "serviceAt", "withinRto"], first.Select(m => m.Key));
        Assert.Equal((string)database["id"]!, (string)first["database"]!);
        Assert.Equal((2, "imbrek: --loss: 'none' is not site:ID"), Imbrek(["site-return", .. Files(Name), "--loss", "none", "--at", "2026-03-02T07:15:00Z"]) is var (code, _, said) ? (code, said) : default);
    }

    [Fact]
    public void Versions_names_who_must_move_on_and_a_calendar_with_a_fault_is_refused_by_its_member()
    {
        var parts = JsonNode.Parse(File.ReadAllText(Case("01-chain-with-a-hole-offsite", "fleet.json")))!;
        var database = parts["databases"]![0]!;
        database["version"] = "9";
        var fleet = Written("versioned.json", parts.ToJsonString());
        var calendar = Written("versions.json", $$"""{"versions":[{"engine":"{{database["engine"]}}","version":"9","supportedUntil":"2026-03-31"}]}""");
        var (exit, output, error) = Imbrek("versions", "--fleet", fleet, "--versions", calendar, "--at", "2026-03-01T12:00:00Z", "--json");
        Assert.Equal((0, ""), (exit, error));
        var row = Assert.Single(JsonNode.Parse(output)!.AsArray())!;
        Assert.Equal(("9", "2026-03-31", 30), (row["version"]!.ToString(), row["supportedUntil"]!.ToString(), (int)row["daysLeft"]!));
        var bad = Written("bad.json", """{"versions":[{"engine":"e","version":"9","supportedUntil":"x"}]}""");
        Assert.Contains("versions[0].supportedUntil", Imbrek("versions", "--fleet", fleet, "--versions", bad, "--at", "2026-03-01T12:00:00Z").Error, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("--population 100 --confidence 0.95 --share 0.1 --json", """{"needed":23}""")]
    [InlineData("--population 48 --confidence 0.95 --tested 20 --failed 1 --json", """{"atMostFailing":8,"share":0.16666666666666666}""")]
    [InlineData("--population 10 --confidence 0.5 --share 1 --json", """{"needed":0}""")]
    public void What_tests_show_comes_out_as_json(string arguments, string expected)
    {
        var (exit, output, error) = Imbrek(["programme", .. arguments.Split(' ')]);
        Assert.Equal((0, ""), (exit, error));
        Agree(JsonNode.Parse(expected), JsonNode.Parse(output), arguments);
    }

    [Theory]
    [InlineData("--population 0 --confidence 0.9 --share 0.1", "--population: '0' is not a whole number from 1 to")]
    [InlineData("--population 9 --confidence 1 --share 0.1", "--confidence: '1' is not above 0 and below 1")]
    [InlineData("--population 9 --confidence 0.9 --share 1.1", "--share: '1.1' is not 0 to 1")]
    [InlineData("--population 9 --confidence 0.9 --tested 10 --failed 0", "--tested: '10' is not a whole number from 0 to 9")]
    [InlineData("--population 9 --confidence 0.9 --tested 5 --failed 6", "--failed: '6' is not a whole number from 0 to 5")]
    [InlineData("--population 9 --confidence 0.9 --tested 5", "give --share, or --tested and --failed")]
    [InlineData("--population 9 --confidence 0.9 --share 0.1 --tested 5 --failed 0", "--share: goes without --tested and --failed")]
    [InlineData("--population 9 --confidence 9/10 --share 0.1", "--confidence: '9/10' is not a decimal number")]
    public void What_a_programme_cannot_be_asked_is_said(string arguments, string said)
    {
        var (exit, output, error) = Imbrek(["programme", .. arguments.Split(' ')]);
        Assert.Equal((2, ""), (exit, output));
        Assert.StartsWith($"imbrek: {said}", error, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("--to", "dale", "--to: the fleet has no replica 'dale'")]
    [InlineData("--kind", "sudden", "--kind: 'sudden' is neither switchover nor forced")]
    [InlineData("--at", "noon", "--at: 'noon' is not an instant")]
    [InlineData("--loss", "hostile", "--loss: 'hostile' takes no host, array or site of 'tickets'")]
    public void What_a_drill_cannot_be_asked_is_said(string option, string value, string said)
    {
        var asked = new Dictionary<string, string> { ["--database"] = "tickets", ["--to"] = "hill", ["--kind"] = "forced", ["--at"] = "2026-03-02T07:15:00Z", [option] = value };
        var (exit, output, error) = Imbrek(["drill", .. Files("replicas-01-behind-and-cut-off"), .. asked.SelectMany(a => new[] { a.Key, a.Value })]);
        Assert.Equal((2, ""), (exit, output));
        Assert.StartsWith($"imbrek: {said}", error, StringComparison.Ordinal);
    }

    [Fact]
    public void Every_command_is_reached_by_the_one_entry_of_the_project_and_its_help()
    {
        var entry = File.ReadAllText(Path.Combine(LayerTests.Root(), "imbrek"));
        var (_, help, _) = Started("--help");
        var commands = help.Split('\n').SkipWhile(l => !l.StartsWith("Commands:", StringComparison.Ordinal)).Skip(1).Select(l => l.Trim().Split(' ')[0]).Where(c => c.Length > 0).ToArray();
        Assert.Contains("drill", commands);
        Assert.All(commands, c => Assert.Matches($"(?m)^  ([a-z-]+ \\| )*{c}( \\| [a-z-]+)*\\)$", entry));
        Assert.All(commands, c => Assert.Contains($"  ./imbrek {c} ", entry, StringComparison.Ordinal));
    }

    [Fact]
    public void For_people_there_are_tables_with_units()
    {
        const string Name = "01-chain-with-a-hole-offsite";
        var (exit, output, _) = Started(["evaluate", .. Files(Name), "--at", "2026-03-02T07:30:00Z", "--from", "2026-03-02T01:00:00Z", "--database", "tickets"]);
        Assert.Equal(0, exit);
        Assert.Contains("lose (s)", output, StringComparison.Ordinal);
        Assert.Contains("1,800", output, StringComparison.Ordinal);
        Assert.Contains("15,360", output, StringComparison.Ordinal);
        (exit, output, _) = Started(["path", .. Files(Name), "--database", "tickets", "--target", "2026-03-02T06:45:00Z", "--at", "2026-03-02T07:30:00Z"]);
        Assert.Equal(0, exit);
        Assert.Contains("takes 610 s, service back in 730 s", string.Join(' ', output.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)), StringComparison.Ordinal);
        (exit, output, _) = Started(["path", .. Files(Name), "--database", "tickets", "--target", "2020-01-01T00:00:00Z"]);
        Assert.Equal(0, exit);
        Assert.StartsWith("No path: ", output, StringComparison.Ordinal);
        const string Behind = "replicas-01-behind-and-cut-off";
        (exit, output, _) = Started(["path", .. Files(Behind), "--database", "tickets", "--target", "2026-03-02T07:15:00Z", "--loss", "site"]);
        Assert.Equal(0, exit);
        Assert.Contains("Replica hill takes over: 0.6 s to bring it there, 40 s to promote it.", string.Join(' ', output.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)), StringComparison.Ordinal);
        (exit, output, _) = Started(["replicas", .. Files(Behind), "--at", "2026-03-02T05:50:00Z", "--replica", "hill"]);
        Assert.Equal(0, exit);
        Assert.Contains("cut off", output, StringComparison.Ordinal);
        Assert.Contains("3,960", output, StringComparison.Ordinal);
        (exit, output, var said) = Started(["replicas", .. Files(Behind), "--at", "2026-03-02T05:50:00Z", "--replica", "dale"]);
        Assert.Equal((2, "", "imbrek: --replica: the fleet has no replica 'dale'"), (exit, output, said.Trim()));
    }

    [Theory]
    [InlineData("--at", "yesterday", "--at: 'yesterday' is not an instant")]
    [InlineData("--loss", "flood", "--loss: ")]
    [InlineData("--from", "2027-01-01T00:00:00Z", "--from: the window starts after --at")]
    [InlineData("--database", "nobody", "--database: the fleet has no database 'nobody'")]
    [InlineData("--colour", "red", "--colour")]
    [InlineData("--fleet", "/nowhere/fleet.json", "cannot read /nowhere/fleet.json")]
    public void What_is_wrong_with_what_is_asked_is_said_in_one_line_and_nothing_else_is_printed(string option, string value, string said)
    {
        string[] right = ["--fleet", Case("random-11", "fleet.json"), "--catalog", Case("random-11", "catalog.jsonl"), "--at", "2026-03-02T07:30:00Z"];
        var at = Array.IndexOf(right, option);
        var (exit, output, error) = Imbrek(["evaluate", .. at < 0 ? right : [.. right[..at], .. right[(at + 2)..]], option, value]);
        Assert.Equal((2, ""), (exit, output));
        Assert.StartsWith("imbrek: ", error, StringComparison.Ordinal);
        Assert.Contains(said, error, StringComparison.Ordinal);
        Assert.Single(error.Split('\n'));
    }

    [Fact]
    public void Of_a_wrong_file_the_first_fault_is_named_with_its_line_and_all_when_asked()
    {
        var lines = File.ReadAllLines(Case("random-11", "catalog.jsonl"));
        var set = Array.FindIndex(lines, l => l.Contains("\"kind\"", StringComparison.Ordinal));
        lines[set] = lines[set].Replace("\"kind\":", "\"kind\":\"cold\",\"was\":", StringComparison.Ordinal);
        lines[^1] = "{";
        var wrong = Written("wrong.jsonl", string.Join('\n', lines));
        string[] asked = ["evaluate", "--fleet", Case("random-11", "fleet.json"), "--catalog", wrong, "--at", "2026-03-02T07:30:00Z"];
        var (exit, output, error) = Imbrek(asked);
        Assert.Equal((2, ""), (exit, output));
        Assert.Single(error.Split('\n'));
        Assert.Contains($"wrong.jsonl:{set + 1}", error, StringComparison.Ordinal);
        Assert.Contains("--all-faults lists them", error, StringComparison.Ordinal);
        var all = Imbrek([.. asked, "--all-faults"]).Error;
        Assert.Contains($"wrong.jsonl:{lines.Length}", all, StringComparison.Ordinal);
        Assert.True(all.Split('\n').Length > 1);
    }

    [Fact]
    public void A_member_nobody_knows_is_warned_of_in_one_line_and_the_answer_is_the_same()
    {
        var fleet = Written("fleet.json", File.ReadAllText(Case("random-11", "fleet.json")).Replace("\"format\":", "\"mood\": \"fine\", \"colour\": \"grey\", \"format\":", StringComparison.Ordinal));
        string[] asked = ["--catalog", Case("random-11", "catalog.jsonl"), "--at", "2026-03-02T07:30:00Z", "--json"];
        var (exit, output, error) = Imbrek(["evaluate", "--fleet", fleet, .. asked]);
        Assert.Equal(0, exit);
        Assert.Equal(Imbrek(["evaluate", "--fleet", Case("random-11", "fleet.json"), .. asked]).Out, output);
        Assert.Contains("warning: ", Assert.Single(error.Split('\n')), StringComparison.Ordinal);
        Assert.Contains("mood", error, StringComparison.Ordinal);
        Assert.Contains("(and 1 more;", error, StringComparison.Ordinal);
        Assert.Equal(2, Imbrek(["evaluate", "--fleet", fleet, .. asked, "--all-faults"]).Error.Split('\n').Length);
    }

    [Fact]
    public void A_ledger_that_holds_is_said_to_and_one_that_was_changed_is_not()
    {
        using var key = System.Security.Cryptography.ECDsa.Create(System.Security.Cryptography.ECCurve.NamedCurves.nistP256);
        var ledger = EvidenceTests.Ledger(4);
        string[] lines = [.. ledger.Select(LedgerFile.WriteLine), LedgerFile.WriteLine(LedgerHead.Sign(4, ledger[^1].Hash, ledger[^1].At, key))];
        var whole = Written("whole.jsonl", string.Join('\n', lines) + "\n");
        var pem = Written("key.pem", key.ExportSubjectPublicKeyInfoPem());
        var (exit, output, error) = Imbrek("verify-ledger", whole, "--key", pem, "--head", ledger[1].Hash);
        Assert.Equal((0, ""), (exit, error));
        Assert.StartsWith("4 entries hold, from 2026-03-02T06:01:00", output, StringComparison.Ordinal);
        Assert.Contains("signed by key", output, StringComparison.Ordinal);
        Assert.Equal(0, Imbrek("verify-ledger", whole).Exit);
        Assert.Equal(2, Imbrek("verify-ledger", whole, "--head", new string('0', 63) + "1").Exit);
        Assert.Equal(2, Imbrek("verify-ledger", whole, "--head", "short").Exit);
        Assert.Equal(2, Imbrek("verify-ledger", whole, "--key", whole).Exit);
        Assert.Contains("its head is missing", Imbrek("verify-ledger", Written("empty.jsonl", "")).Error, StringComparison.Ordinal);
        Assert.Contains("its head is missing", Imbrek("verify-ledger", Written("cut.jsonl", string.Join('\n', lines[..3]))).Error, StringComparison.Ordinal);
        File.WriteAllBytes(Path.Combine(folder, "damaged.jsonl"), [.. System.Text.Encoding.UTF8.GetBytes(lines[0]), 0xff, 0xfe]);
        Assert.Contains("not valid UTF-8", Imbrek("verify-ledger", Path.Combine(folder, "damaged.jsonl")).Error, StringComparison.Ordinal);

        (exit, output, error) = Imbrek("verify-ledger", Written("changed.jsonl", string.Join('\n', [lines[0], lines[1].Replace("night", "day", StringComparison.Ordinal), .. lines[2..]])));
        Assert.Equal((2, ""), (exit, output));
        Assert.Contains("entry 2 was changed", error, StringComparison.Ordinal);
        (exit, _, error) = Imbrek("verify-ledger", Written("broken.jsonl", $"{lines[0]}\n\n{{\"number\":2}}"));
        Assert.Equal(2, exit);
        Assert.Contains("broken.jsonl:3: at: expected", error, StringComparison.Ordinal);
        Assert.Contains("cannot read", Imbrek("verify-ledger", Path.Combine(folder, "none")).Error, StringComparison.Ordinal);
    }

    public void Dispose() => Directory.Delete(folder, recursive: true);
}
