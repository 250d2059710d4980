using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Tests;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>What is kept and cannot be read, what an import would leave dangling, and requests meant to end, fill or freeze the server.</summary>
public sealed class HardeningTests
{
    private const string Stage = """{"format":"imbrek-fleet/1","sites":[{"id":"a"}],"hosts":[{"id":"h","site":"a","writeBytesPerSecond":100}],"stores":[{"id":"s","site":"a","readBytesPerSecond":100,"writeBytesPerSecond":100},{"id":"t","site":"a","readBytesPerSecond":100,"writeBytesPerSecond":100}],"engines":[{"id":"e","provisionSeconds":1,"perSetSeconds":1,"restoreBytesPerSecond":100,"replayBytesPerSecond":100,"indexBytesPerSecond":100,"openSeconds":1}],"databases":[{"id":"one","engine":"e","host":"h","sizeBytes":10},{"id":"two","engine":"e","host":"h","sizeBytes":10}],"plans":[{"id":"p","members":{"databases":["one"]},"tasks":[{"id":"f","kind":"full","store":"s","recurrence":{"rule":"FREQ=DAILY","start":"2026-01-01T01:00:00"}}]}]}""";

    private static string Set(string id, params string[] stores) =>
        $$"""{"type":"set","id":"{{id}}","database":"one","kind":"full","toPosition":5,"coversTo":"2026-03-01T02:41:00Z","dataBytes":4,"copies":[{{string.Join(',', stores.Select(s => $$"""{"store":"{{s}}","availableAt":"2026-03-01T02:55:00Z","storedBytes":4}"""))}}]}""";

    private static async Task<(int Status, JsonElement Body)> ImportAsync(Session session, string? fleet, string? catalogue)
    {
        using var form = new MultipartFormDataContent();
        foreach (var (text, name, file) in ((string?, string, string)[])[(fleet, "fleet", "fleet.json"), (catalogue, "catalogue", "catalog.jsonl")])
        {
            if (text is not null)
            {
                form.Add(new ByteArrayContent(Encoding.UTF8.GetBytes(text)), name, file);
            }
        }

        using var answer = await session.Http.PostAsync("/api/import", form);
        return ((int)answer.StatusCode, JsonSerializer.Deserialize<JsonElement>(await answer.Content.ReadAsStringAsync()));
    }

    [Fact]
    public async Task What_cannot_be_read_at_start_is_left_out_said_and_mended_and_stops_nothing_else()
    {
        await using var server = await ServerProcess.StartAsync(demo: false);
        using (var admin = await Session.SignInAsync(server.Url, "admin"))
        {
            Assert.Equal(200, (await ImportAsync(admin, Stage, Set("x", "s", "t"))).Status);
        }

        // By a hand in the database, or a version of the product that took it: a plan from year -9998, a store with a rate of nothing, a copy in no store.
        await server.KillAsync();
        await server.ExecuteAsync("update plan_versions set document = jsonb_set(document, '{tasks,0,recurrence,start}', '\"-9998-01-01T00:00:00\"')");
        await server.ExecuteAsync("update fleet_versions set document = jsonb_set(document, '{stores,1,readBytesPerSecond}', '0')");
        await server.RunAsync();
        using var again = await Session.SignInAsync(server.Url, "admin");
        Assert.Equal(2, (await again.GetAsync("/api/fleet")).GetProperty("total").GetInt32());
        var left = (await again.GetAsync("/api/findings")).GetProperty("leftOut").EnumerateArray().Select(l => $"{l.GetProperty("kind").GetString()} {l.GetProperty("id").GetString()}");
        Assert.Equal(["plan p", "store t"], left.Order());
        Assert.Contains("start", (await again.GetAsync("/api/plans")).GetProperty("unreadable")[0].GetProperty("why").GetString(), StringComparison.Ordinal);
        Assert.Contains("\"readBytesPerSecond\": 0", await again.Http.GetStringAsync("/api/export/fleet?kept=true"), StringComparison.Ordinal);

        // Mended in the interface's own ways: the plan saved anew on top of its version, the fleet imported again.
        var view = await again.GetAsync("/api/plans/p");
        var plan = JsonNode.Parse(view.GetProperty("plan").GetRawText())!.AsObject();
        plan["tasks"]![0]!["recurrence"]!["start"] = "2026-01-01T01:00:00";
        Assert.Equal(200, (await again.PutAsync($"/api/plans/p?basedOn={view.GetProperty("version").GetInt32()}", plan)).Status);
        Assert.Equal(200, (await ImportAsync(again, Stage, null)).Status);
        Assert.Empty((await again.GetAsync("/api/findings")).GetProperty("leftOut").EnumerateArray());
    }

    [Fact]
    public async Task An_import_that_would_leave_anything_pointing_at_nothing_is_refused_with_the_list()
    {
        await using var server = await ServerProcess.StartAsync(demo: false);
        using var admin = await Session.SignInAsync(server.Url, "admin");
        Assert.Equal(200, (await ImportAsync(admin, Stage, Set("x", "s", "t"))).Status);
        Assert.Equal(201, (await admin.PostAsync("/api/pauses", new { store = "t", reason = "moved" })).Status);
        var without = JsonNode.Parse(Stage)!.AsObject();
        without["stores"]!.AsArray().RemoveAt(1);
        var (status, body) = await ImportAsync(admin, without.ToJsonString(), null);
        Assert.Equal(422, status);
        var faults = body.GetProperty("faults").EnumerateArray().Select(f => f.GetProperty("message").GetString()!).ToArray();
        Assert.Equal(2, faults.Length);
        Assert.Contains("'t' is not in the file, and 1 copy names it", faults);
        Assert.Contains("'t' is not in the file, and 1 pause names it", faults);
        without["databases"]!.AsArray().RemoveAt(0);
        without["plans"] = new JsonArray();
        Assert.Contains("'one' is not in the file, and 1 set with copies names it", (await ImportAsync(admin, without.ToJsonString(), null)).Body.GetProperty("faults").EnumerateArray().Select(f => f.GetProperty("message").GetString()!));
        Assert.Equal(2, (await admin.GetAsync("/api/fleet")).GetProperty("total").GetInt32());
        Assert.Equal(1L, await server.QueryAsync<long>("select count(*) from fleet_versions"));

        // A set imported again has the copies it is imported with, and no others.
        Assert.Equal(200, (await ImportAsync(admin, null, Set("x", "s"))).Status);
        Assert.Equal(1L, await server.QueryAsync<long>("select count(*) from backup_copies"));
        Assert.Equal("s", (await admin.GetAsync("/api/databases/one/sets")).GetProperty("sets")[0].GetProperty("copies").EnumerateArray().Single().GetProperty("store").GetString());
        Assert.Equal(400, (await admin.PutAsync("/api/plans/q?basedOn=0", JsonNode.Parse("""{"id":"q","tasks":[{"id":"l","kind":"log","store":"s","recurrence":{"words":"every 10 seconds"}}]}""")!)).Status);
    }

    /// <summary>Requests mutated from a seed over all endpoints, and what costs much: no fault of ours, nothing slow, and all is there after a restart.</summary>
    [Fact]
    public async Task Mutated_requests_end_in_an_answer_soon_and_leave_nothing_that_cannot_be_read()
    {
        var tries = int.Parse(Environment.GetEnvironmentVariable("IMBREK_HOSTILE_REQUESTS") ?? "250", CultureInfo.InvariantCulture);
        await using var server = await ServerProcess.StartAsync(demo: true, days: 2);
        var paths = new List<(string Method, string Path, string Role)>();
        using (var anonymous = new Session(server.Url))
        {
            foreach (var path in (await anonymous.GetAsync("/api/openapi.json")).GetProperty("paths").EnumerateObject())
            {
                paths.AddRange(path.Value.EnumerateObject().Select(o => (o.Name.ToUpperInvariant(), path.Name, o.Value.GetProperty("x-role").GetString()!)));
            }
        }

        using var admin = await Session.SignInAsync(server.Url, "admin");
        var plan = (await admin.GetAsync("/api/plans/counters")).GetProperty("plan").GetRawText();
        string[] bodies =
        [
            plan,
            $$"""{"database":"tickets","plan":{{plan}},"days":14}""",
            """{"database":"tickets","target":"2026-11-24T10:00:00Z","loss":"site","instance":"x","query":"select 1"}""",
            """{"moves":[{"plan":"counters","task":"full","database":"tickets","fromSeconds":0,"toSeconds":600}]}""",
            """{"from":"2026-11-24T15:00:00Z","to":"2026-11-25T15:00:00Z","store":"quay-s1","reason":"moved"}""",
            """{"name":"someone","displayName":"Someone","roles":["look"],"role":"look","days":3,"password":"a-long-password-1","code":"x","disabled":false}""",
            """{"plan":"counters","task":"full","database":"tickets","outsideChain":true,"at":"2026-11-25T15:00:00Z","title":"x","set":"y","store":"quay-s1","one":"quay","other":"hill","pace":1,"minutes":1,"full":false,"down":false}""",
        ];
        string[] values = ["tickets", "none", "site:quay", "2026-11-24T10:00:00Z", "9999-12-31T23:59:59Z", "-9998-01-01T00:00:00Z", "%00", "a%ff", "%ED%A0%80", "1e300", "-1", "2147483648", "every%2099999999999%20minutes", "FREQ%3DSECONDLY%3BBYMONTH%3D2%3BBYMONTHDAY%3D30", "$(id)", "'%3B--", new('x', 3000), "Europe/Nowhere", "..%2F..%2Fx"];
        string[] names = ["loss", "at", "target", "from", "to", "take", "before", "find", "host", "base", "without", "text", "zone", "except", "state", "kind", "plan", "database", "store", "left", "right", "leftVersion", "width", "key", "fold", "kept", "basedOn", "task"];
        var dearest = (Seconds: 0.0, What: "");
        for (var seed = 0; seed < tries; seed++)
        {
            var random = new Random(seed);
            var (method, path, _) = paths[random.Next(paths.Count)];
            if (path is "/api/sign-out" or "/api/world/forward" or "/api/world/pace" or "/api/me/password")
            {
                continue;
            }

            var url = System.Text.RegularExpressions.Regex.Replace(path, "\\{[^}]*\\}", _ => random.Next(3) > 0 ? "tickets" : values[random.Next(values.Length)].Replace("%2F", "-", StringComparison.Ordinal));
            url += "?" + string.Join('&', Enumerable.Range(0, random.Next(5)).Select(_ => $"{names[random.Next(names.Length)]}={values[random.Next(values.Length)]}"));
            using var request = new HttpRequestMessage(new HttpMethod(method), url);
            if (method is "POST" or "PUT")
            {
                var body = Mutations.Of(Encoding.UTF8.GetBytes(bodies[random.Next(bodies.Length)]), random);
                request.Content = path == "/api/import" ? new MultipartFormDataContent { { new ByteArrayContent(body), random.Next(2) == 0 ? "fleet" : "catalogue", random.Next(2) == 0 ? "x.json" : "x.csv" } } : new ByteArrayContent(body) { Headers = { ContentType = new MediaTypeHeaderValue("application/json") } };
            }

            var (before, watch) = (server.Processor, Stopwatch.StartNew());
            using var answer = await admin.Http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
            if (path != "/api/events")
            {
                await answer.Content.ReadAsByteArrayAsync();
            }

            // What it cost the server, and not how long a busy machine took over it; who waits without computing is seen by the clock.
            var took = (server.Processor - before).TotalSeconds;
            Assert.True(watch.Elapsed.TotalSeconds < 30, $"seed {seed}: {method} {url}: no answer for {watch.Elapsed.TotalSeconds:0.0} s");
            dearest = took > dearest.Seconds ? (took, $"seed {seed}: {method} {url}") : dearest;
            Assert.True((int)answer.StatusCode < 500, $"seed {seed}: {method} {url}: {(int)answer.StatusCode} {await answer.Content.ReadAsStringAsync()}\n{server.Said}");
        }

        TestContext.Current.TestOutputHelper?.WriteLine($"dearest: {dearest.Seconds:0.00} s of a processor, {dearest.What}");
        Assert.True(dearest.Seconds < 6, $"{dearest.Seconds:0.0} s of a processor for {dearest.What}");
        await server.KillAsync();
        await server.RunAsync();
        using var again = await Session.SignInAsync(server.Url, "admin");
        Assert.Empty((await again.GetAsync("/api/findings")).GetProperty("leftOut").EnumerateArray());
        Assert.Equal(51, (await again.GetAsync("/api/fleet")).GetProperty("total").GetInt32());
    }

    [Fact]
    public async Task Bodies_and_listeners_are_bounded()
    {
        await using var server = await ServerProcess.StartAsync(demo: false);
        using var admin = await Session.SignInAsync(server.Url, "admin");
        using var large = new StringContent($$"""{"id":"{{new string('x', 1_100_000)}}"}""", Encoding.UTF8, "application/json");
        Assert.Equal(HttpStatusCode.RequestEntityTooLarge, (await admin.Http.PostAsync("/api/consequences", large)).StatusCode);

        // Of what computes so many run at once and wait; who asks more is told when to ask again.
        Assert.Equal(200, (await ImportAsync(admin, Stage, null)).Status);
        var answers = await Task.WhenAll(Enumerable.Range(0, 60).Select(_ => admin.Http.GetAsync("/api/fleet")));
        Assert.Contains(answers, a => a.StatusCode == HttpStatusCode.OK);
        Assert.All(answers, a => Assert.True(a.StatusCode == HttpStatusCode.OK || (a.StatusCode == HttpStatusCode.TooManyRequests && a.Headers.RetryAfter is not null), $"{a.StatusCode}"));

        // Plans saved at once are all there, in memory too.
        var saved = await Task.WhenAll(Enumerable.Range(0, 8).Select(i => admin.PutAsync(
            $"/api/plans/at-once-{i}?basedOn=0", JsonNode.Parse($$$"""{"id":"at-once-{{{i}}}","members":{"databases":["two"]},"tasks":[{"id":"f","kind":"full","store":"s","recurrence":{"words":"daily 0{{{i}}}:00"}}]}""")!)));
        Assert.All(saved, s => Assert.Equal(200, s.Status));
        Assert.Equal(9, (await admin.GetAsync("/api/plans")).GetProperty("plans").GetArrayLength());
        var streams = new List<HttpResponseMessage>();
        try
        {
            for (var i = 0; i < 21; i++)
            {
                streams.Add(await admin.Http.GetAsync("/api/events", HttpCompletionOption.ResponseHeadersRead));
            }

            Assert.All(streams[..20], s => Assert.Equal(HttpStatusCode.OK, s.StatusCode));
            Assert.Equal(HttpStatusCode.TooManyRequests, streams[20].StatusCode);
            Assert.NotNull(streams[20].Headers.RetryAfter);
        }
        finally
        {
            streams.ForEach(s => s.Dispose());
        }

        // Who closes pages can open others.
        await Eventually.Async(async () =>
        {
            using var again = await admin.Http.GetAsync("/api/events", HttpCompletionOption.ResponseHeadersRead);
            return again.StatusCode == HttpStatusCode.OK;
        });
    }

    [Fact]
    public async Task A_folder_that_is_not_a_worlds_is_never_emptied_and_a_demos_database_is_no_real_installation()
    {
        await using var server = await ServerProcess.StartAsync(demo: false);
        var folder = Directory.CreateTempSubdirectory("imbrek-mine");
        try
        {
            var mine = Path.Combine(folder.FullName, "thesis.txt");
            await File.WriteAllTextAsync(mine, "years of work");
            var (exit, said) = await server.RefusedAsync("--demo", folder.FullName, "--demo-days", "1");
            Assert.Equal(2, exit);
            Assert.Contains("holds files that are not those of a demo's world", said, StringComparison.Ordinal);
            Assert.Equal("years of work", await File.ReadAllTextAsync(mine));
        }
        finally
        {
            folder.Delete(true);
        }

        // That start made the demo's people before it was refused: everybody knows their passwords.
        Assert.Equal(5L, await server.QueryAsync<long>("select count(*) from people where from_demo or user_name = 'admin'"));
        await server.KillAsync();
        var refused = await server.RefusedAsync();
        Assert.Equal(2, refused.Exit);
        Assert.Contains("--end-demo-sign-ins", refused.Said, StringComparison.Ordinal);
        await using var real = await server.StartPeerAsync("--end-demo-sign-ins", "true");
        using var nobody = new Session(real.Url);
        Assert.Equal(401, (await nobody.PostAsync("/api/sign-in", new { name = "look", password = Session.Password })).Status);
    }

    [Fact]
    public async Task Heads_of_the_ledger_are_written_outside_the_database_signed_by_a_key_that_lies_outside_too()
    {
        var folder = Directory.CreateTempSubdirectory("imbrek-heads");
        try
        {
            var (heads, pem) = (Path.Combine(folder.FullName, "heads"), Path.Combine(folder.FullName, "key.pem"));
            await using var server = await ServerProcess.StartAsync(demo: false, more: ["--ledger-heads", heads, "--signing-key", pem]);
            string[] files = [];
            await Eventually.Async(() => Task.FromResult(Directory.Exists(heads) && (files = Directory.GetFiles(heads, "head-*.json")).Length > 0));
            using var key = System.Security.Cryptography.ECDsa.Create();
            key.ImportFromPem(await File.ReadAllTextAsync(pem));
            Assert.True(Core.Evidence.LedgerFile.ReadLine((await File.ReadAllTextAsync(files[0])).Trim()).Head!.IsSignedBy(key));
            Assert.Equal(1L, await server.QueryAsync<long>("select count(*) from installation where private_key is null"));
        }
        finally
        {
            folder.Delete(true);
        }
    }
}
