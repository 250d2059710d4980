using System.Globalization;
using System.Net;
using System.Text.Json;
using Xunit;
using static Imbrek.Server.Tests.Members;

namespace Imbrek.Server.Tests;

/// <summary>One truth: what different pages say of one database at one instant is the same, and none of them has a hole.</summary>
[Collection("demo")]
public class FigureTests(DemoServer demo)
{
    private static string Written(DateTimeOffset at) => at.ToUniversalTime().ToString("yyyy-MM-dd'T'HH:mm:ss.fff'Z'", CultureInfo.InvariantCulture);

    /// <summary>Somebody who looks, and an instant of the past, so that nothing moves under them.</summary>
    private async Task<(Session Look, string At)> LookAsync(double hoursAgo = 7)
    {
        var look = await demo.StillAsync("look");
        return (look, await DemoServer.AgoAsync(look, hoursAgo * 60));
    }

    [Fact]
    public async Task The_fleet_page_by_page_is_the_whole_fleet()
    {
        var (look, at) = await LookAsync();
        using var _ = look;
        await look.GetAsync("/api/databases/tickets/plan"); // waits until figures are designed
        var whole = await look.GetAsync($"/api/fleet?at={at}&loss=site");
        var rows = new List<string>();
        for (int? from = 0; from is not null;)
        {
            var page = await look.GetAsync($"/api/fleet?at={at}&loss=site&from={from}&take=7");
            Assert.Equal(whole.GetProperty("answer").GetRawText(), page.GetProperty("answer").GetRawText());
            Assert.Equal(whole.GetProperty("total").GetInt32(), page.GetProperty("total").GetInt32());
            rows.AddRange(Of(page, "rows").Select(r => r.GetRawText()));
            from = page.GetProperty("next").ValueKind == JsonValueKind.Null ? null : page.GetProperty("next").GetInt32();
        }

        Assert.Equal(Of(whole, "rows").Select(r => r.GetRawText()), rows);
        Assert.Equal(whole.GetProperty("total").GetInt32(), rows.Count);

        // Found by name, host and service; what is found is still said of the whole fleet above it.
        var some = Of(whole, "rows")[5];
        foreach (var word in new[] { Text(some, "id"), Text(some, "host").ToUpperInvariant(), Text(some, "name")[..5] })
        {
            var found = await look.GetAsync($"/api/fleet?at={at}&find={Uri.EscapeDataString(word)}");
            Assert.Contains(Of(found, "rows"), r => Text(r, "id") == Text(some, "id"));
            Assert.All(Of(found, "rows"), r => Assert.Contains(word, $"{Text(r, "id")}\n{Text(r, "name")}\n{Text(r, "host")}\n{r.GetProperty("service").GetString()}", StringComparison.OrdinalIgnoreCase));
            Assert.Equal(Of(found, "rows").Length, found.GetProperty("total").GetInt32());
        }

        Assert.Empty(Of(await look.GetAsync("/api/fleet?find=no-such-thing"), "rows"));
    }

    [Fact]
    public async Task The_fleet_and_the_page_of_each_database_say_the_same_for_every_loss()
    {
        var (look, at) = await LookAsync();
        using var _ = look;
        var places = Of(await look.GetAsync("/api/places"), "things");
        string[] losses = ["none", "hostile", "host", "array", "site", .. new[] { "site", "host" }.Select(k => $"{k}:{Text(places.First(p => Text(p, "kind") == k), "id")}")];
        foreach (var loss in losses)
        {
            var fleet = Of(await look.GetAsync($"/api/fleet?at={at}&loss={loss}"), "rows");
            foreach (var row in fleet.Where((_, i) => i % 6 == Array.IndexOf(losses, loss) % 6))
            {
                var page = await look.GetAsync($"/api/databases/{Text(row, "id")}?at={at}&loss={loss}");
                var supposed = page.GetProperty("supposed");
                foreach (var (inFleet, onPage) in new[] { ("couldLoseSeconds", "couldLoseSeconds"), ("worstSeconds", "worstSeconds"), ("backInSeconds", "backInSeconds"), ("noPath", "noPath"), ("supposed", "verdict"), ("supposedLoss", "loss") })
                {
                    Assert.True(row.GetProperty(inFleet).GetRawText() == supposed.GetProperty(onPage).GetRawText(), $"{Text(row, "id")} {loss} {inFleet}: {row.GetProperty(inFleet)}, not {supposed.GetProperty(onPage)}");
                }

                Assert.Equal(Text(row, "verdict"), Text(page, "verdict"));
                Assert.Equal(Of(row, "losses").Select(l => (Text(l, "loss"), Text(l, "verdict"))), Of(page, "losses").Select(l => (Text(l, "kind"), Text(l, "verdict"))));
                Assert.All(Of(page, "proofs"), p => Assert.True(Time(p, "at") <= Time(page, "at")));
                if (row.GetProperty("couldLoseSeconds").ValueKind == JsonValueKind.Number && supposed.GetProperty("worstSeconds").ValueKind == JsonValueKind.Number)
                {
                    Assert.True(row.GetProperty("couldLoseSeconds").GetDouble() <= row.GetProperty("worstSeconds").GetDouble() + 0.001, $"{Text(row, "id")}: more lost now than at worst");
                    Assert.Equal(row.GetProperty("couldLoseSeconds").GetDouble(), (Time(page, "at") - Time(supposed, "latest")).TotalSeconds, 3);
                }
            }
        }
    }

    [Theory]
    [InlineData("tickets", "none")]
    [InlineData("tickets", "site")]
    [InlineData("harbour-sailings", "none")]
    [InlineData("gate-passes", "host")]
    [InlineData("spare-parts", "site")]
    public async Task Every_instant_of_a_strip_is_either_recoverable_and_has_a_way_back_or_lies_in_a_gap_that_says_why(string database, string loss)
    {
        var (look, at) = await LookAsync();
        using var _ = look;
        var cover = await look.GetAsync($"/api/databases/{database}/cover?at={at}&loss={loss}");
        var (from, to) = (Time(cover, "from"), Time(cover, "to"));
        var spans = Of(cover, "recoverable").Select(s => (From: Time(s, "from"), To: Time(s, "to"), Gap: default(JsonElement?)))
            .Concat(Of(cover, "gaps").Select(g => (From: Time(g, "from"), To: Time(g, "to"), Gap: (JsonElement?)g))).OrderBy(s => s.From).ThenBy(s => s.To).ToArray();
        Assert.All(spans.Where(s => s.Gap is not null), s => Assert.NotEmpty(Of(s.Gap!.Value, "reasons")));
        Assert.True(spans[0].From <= from.AddMilliseconds(1), $"from {spans[0].From}, not {from}");
        Assert.True(spans.Max(s => s.To) >= to.AddMilliseconds(-1));
        Assert.All(spans.Zip(spans.Skip(1)), p => Assert.InRange((p.Second.From - p.First.To).TotalMilliseconds, -1, 1));
        Assert.All(Of(cover, "tiles"), t => Assert.True(Time(t, "from") <= Time(t, "to")));
        Assert.All(Of(cover, "replicas"), r =>
        {
            var followed = Of(r, "spans");
            Assert.All(followed, f => Assert.True(from <= Time(f, "from") && Time(f, "from") <= Time(f, "to") && Time(f, "to") <= to));
            Assert.All(followed.Zip(followed.Skip(1)), p => Assert.True(Time(p.First, "to") < Time(p.Second, "from")));
            Assert.True(followed.Length == 0 || Time(followed[^1], "to") <= Time(r, "receivedTo") || followed[^1].GetProperty("from").GetRawText() == followed[^1].GetProperty("to").GetRawText());
        });
        Assert.Equal(database switch { "tickets" or "harbour-sailings" => 2, "gate-passes" => 1, _ => 0 }, Of(cover, "replicas").Length);
        var steps = Of(cover, "steps");
        Assert.All(steps.Zip(steps.Skip(1)), p => Assert.True(Time(p.First, "at") < Time(p.Second, "at")));

        foreach (var span in spans.Where(s => s.To > from).Take(12))
        {
            var target = (span.From < from ? from : span.From) + ((span.To - (span.From < from ? from : span.From)) / 2);
            target = DateTimeOffset.FromUnixTimeMilliseconds(target.ToUnixTimeMilliseconds());
            var ways = await look.GetAsync($"/api/recover/{database}?target={Written(target)}&at={at}&loss={loss}");
            var nearest = ways.GetProperty("nearest");
            var best = ways.GetProperty("best");
            if (span.Gap is null)
            {
                Assert.True(nearest.GetProperty("recoverable").GetBoolean(), $"{target}");
                if (best.ValueKind == JsonValueKind.Null)
                {
                    Assert.False(string.IsNullOrEmpty(Text(ways, "reason")));
                    continue;
                }

                // By sets, or by a replica that takes over.
                var lost = best.GetProperty("lostSeconds").GetDouble();
                Assert.Equal(0, Of(ways, "compared").Where(t => Text(t, "way") == "takeOver").Select(t => t.GetProperty("lostSeconds")).Where(l => l.ValueKind == JsonValueKind.Number).Select(l => l.GetDouble()).Append(lost).Min());
                if (lost == 0)
                {
                    Agrees(ways, best, target);
                }
            }
            else if (target > span.From && target < span.To)
            {
                Assert.False(nearest.GetProperty("recoverable").GetBoolean(), $"{target}");
                Assert.NotEmpty(Of(nearest, "reasons"));
                if (best.ValueKind != JsonValueKind.Null)
                {
                    Assert.Equal((target - Time(best, "reaches")).TotalSeconds, best.GetProperty("lostSeconds").GetDouble(), 2);
                    Assert.Equal(Time(nearest, "before"), Of(ways, "compared").Where(t => Text(t, "way") == "takeOver").Where(t => t.GetProperty("reaches").ValueKind == JsonValueKind.String).Select(t => Time(t, "reaches")).Append(Time(best, "reaches")).Max());
                }
            }
        }
    }

    /// <summary>A way's figures add up, and what one takes along on paper has each of its steps.</summary>
    private static void Agrees(JsonElement ways, JsonElement best, DateTimeOffset target)
    {
        var steps = Of(best, "steps");
        Assert.Equal(best.GetProperty("base").GetString(), Text(steps[0], "set"));
        Assert.Equal(best.GetProperty("logs").GetInt32(), steps.Count(s => Text(s, "kind") == "log"));
        Assert.Equal(
            best.GetProperty("seconds").GetDouble(), best.GetProperty("provisionSeconds").GetDouble() + steps.Sum(s => s.GetProperty("seconds").GetDouble()) + best.GetProperty("openSeconds").GetDouble(), 3);
        Assert.Equal(
            best.GetProperty("serviceSeconds").GetDouble(),
            best.GetProperty("seconds").GetDouble() + new[] { "detectSeconds", "decideSeconds", "checkSeconds", "redirectSeconds" }.Sum(m => ways.GetProperty(m).GetDouble()),
            3);
        var (markdown, script) = (Text(ways, "markdown"), Text(ways, "script"));
        Assert.All(steps, s => Assert.Contains($"{Text(s, "set")}", markdown, StringComparison.Ordinal));
        Assert.Equal(steps.Select(s => $"{(Text(s, "kind") == "log" ? "apply_log" : "restore_set")} '{Text(s, "store")}' '{Text(s, "set")}'"), script.Split('\n').Where(l => l.StartsWith("apply_log", StringComparison.Ordinal) || l.StartsWith("restore_set", StringComparison.Ordinal)).Select(l => l.Split(" --")[0]));
        Assert.Equal(steps.Any(s => s.GetProperty("stopsAt").ValueKind == JsonValueKind.String), script.Contains($"--stop-at {Written(target)[..19]}", StringComparison.Ordinal));
        Assert.Contains(Of(ways, "hosts"), h => Text(h, "id") == Text(best, "host") && h.GetProperty("whyNot").ValueKind == JsonValueKind.Null);
        Assert.All(Of(ways, "alternatives"), a => Assert.False(string.IsNullOrEmpty(Text(a, "why"))));
    }

    [Fact]
    public async Task The_sets_of_a_database_are_paged_without_a_hole_and_each_knows_its_chain()
    {
        var (look, at) = await LookAsync();
        using var _ = look;
        async Task<List<JsonElement>> AllAsync(string query)
        {
            var all = new List<JsonElement>();
            for (var before = ""; ;)
            {
                var page = await look.GetAsync($"/api/databases/tickets/sets?{query}{before}");
                all.AddRange(Of(page, "sets"));
                if (page.GetProperty("next").ValueKind == JsonValueKind.Null)
                {
                    return all;
                }

                before = $"&before={Uri.EscapeDataString(Text(page, "next"))}";
            }
        }

        var whole = await AllAsync("take=1000");
        Assert.Equal(whole.Select(s => Text(s, "id")), (await AllAsync("take=211")).Select(s => Text(s, "id")));
        Assert.Equal(whole.Count, whole.DistinctBy(s => Text(s, "id")).Count());
        var fulls = await AllAsync("take=2&kind=full");
        Assert.Equal(whole.Where(s => Text(s, "kind") == "full").Select(s => Text(s, "id")), fulls.Select(s => Text(s, "id")));
        var known = whole.ToDictionary(s => Text(s, "id"));
        foreach (var set in whole.Where((_, i) => i % 7 == 3).Append(fulls[^1]))
        {
            var chain = await look.GetAsync($"/api/databases/tickets/sets/{Uri.EscapeDataString(Text(set, "id"))}?at={at}&loss=site");
            var needs = Of(chain, "needs").Select(n => known[n.GetString()!]).ToArray();
            // By what it holds, not by when it was done: log taken while its base was being written is done before it, and one of a quiet minute moves no position.
            Assert.All(needs, n => Assert.True(
                n.GetProperty("toPosition").GetInt64() <= set.GetProperty("toPosition").GetInt64() && Time(n, "coversTo") < Time(set, "coversTo"), $"{set} needs {n}"));
            if (chain.GetProperty("unusable").ValueKind == JsonValueKind.Null)
            {
                Assert.Equal("full", Text(needs.LastOrDefault(set), "kind"));
            }
        }

        // A differential has no other way than its full; a log may have two.
        foreach (var under in whole.Where(s => Text(s, "kind") == "differential").GroupBy(s => Text(s, "parent")).Where(g => known.ContainsKey(g.Key)))
        {
            Assert.True((await look.GetAsync($"/api/databases/tickets/sets/{Uri.EscapeDataString(under.Key)}")).GetProperty("neededBy").GetInt32() >= under.Count());
        }

        foreach (var (path, status, member) in new[]
        {
            ("sets?kind=cold", HttpStatusCode.BadRequest, "kind"), ("sets?before=none", HttpStatusCode.BadRequest, "before"), ("sets/none", HttpStatusCode.NotFound, "set"),
            ("cover?from=2026-11-01T00:00:00Z&to=2026-10-01T00:00:00Z", HttpStatusCode.BadRequest, "from"), ("cover?from=2020-01-01T00:00:00Z", HttpStatusCode.BadRequest, "from"),
        })
        {
            var answer = await look.Http.GetAsync($"/api/databases/tickets/{path}");
            Assert.Equal(status, answer.StatusCode);
            Assert.Equal(member, JsonSerializer.Deserialize<JsonElement>(await answer.Content.ReadAsStringAsync()).GetProperty("member").GetString());
        }
    }

    [Fact]
    public async Task While_backups_arrive_no_page_mixes_two_states_and_afterwards_none_stays_behind()
    {
        using var admin = await demo.AdminAsync();
        await admin.PaceAsync(900);

        // None of them has a replica that counts: one brings back from a lost host what it carries of a bad change.
        string[] databases = ["passes", "cargo-manifests", "voyage-log", "cargo-dangerous"];
        for (var i = 0; i < 60; i++)
        {
            // What is left when more is lost is never newer.
            var losses = Of(await admin.GetAsync($"/api/databases/{databases[i % databases.Length]}"), "losses").ToDictionary(l => Text(l, "kind"));
            string[] ever = [.. new[] { "none", "array", "site" }.Where(losses.ContainsKey)];
            Assert.All(ever.Zip(ever.Skip(1)), p => Assert.True(
                losses[p.Second].GetProperty("latest").ValueKind == JsonValueKind.Null || Time(losses[p.First], "latest") >= Time(losses[p.Second], "latest"), $"{databases[i % databases.Length]}: {p} {losses[p.First]} {losses[p.Second]}"));
        }

        // Kept figures, and the same made anew for the asking.
        await admin.PaceAsync(0);
        await admin.GetAsync("/api/fleet");
        var at = await DemoServer.AgoAsync(admin, 0);
        await Eventually.Async(async () =>
        {
            var (kept, made) = (await admin.GetAsync("/api/fleet"), await admin.GetAsync($"/api/fleet?at={at}"));
            return Of(kept, "rows").Select(r => r.GetProperty("couldLoseSeconds").GetRawText()).SequenceEqual(Of(made, "rows").Select(r => r.GetProperty("couldLoseSeconds").GetRawText()));
        });
    }

    [Fact]
    public async Task Findings_say_what_why_and_what_to_do_the_most_urgent_first_and_the_same_on_each_page()
    {
        var (look, _) = await LookAsync();
        using var __ = look;
        var page = await look.GetAsync("/api/findings?take=500");
        JsonElement[] findings = [.. page.GetProperty("rows").EnumerateArray()];
        Assert.Equal(page.GetProperty("total").GetInt32(), findings.Length);

        // A page at a time gives the same; each cause and remedy once; and each says whose it is.
        var first = await look.GetAsync("/api/findings?take=3");
        Assert.Equal(findings.Take(3).Select(f => Text(f, "key")), first.GetProperty("rows").EnumerateArray().Select(f => Text(f, "key")));
        Assert.Equal(3, first.GetProperty("next").GetInt32());
        Assert.Equal(findings.Length, findings.Select(f => Text(f, "key")).Distinct().Count());
        foreach (var f in findings.Where(f => f.GetProperty("databases").GetInt32() > 1).Take(5))
        {
            var whose = await look.GetAsync($"/api/findings/databases?key={Uri.EscapeDataString(Text(f, "key"))}");
            Assert.Equal(f.GetProperty("databases").GetInt32(), whose.GetArrayLength());
        }
        Assert.All(findings, f => Assert.All(new[] { "code", "what", "why", "remedy", "databaseName" }, m => Assert.False(string.IsNullOrWhiteSpace(Text(f, m)), m)));
        string[] order = ["now", "soon", "later"];
        var urgencies = findings.Select(f => Array.IndexOf(order, Text(f, "urgency"))).ToArray();
        Assert.Equal(urgencies.Order(), urgencies);
        Assert.Equal(0, urgencies[0]);
        foreach (var one in findings.Where(f => Text(f, "what").Contains(Text(f, "database"), StringComparison.Ordinal)).DistinctBy(f => Text(f, "database")).Take(8))
        {
            var own = (await look.GetAsync($"/api/findings?database={Text(one, "database")}")).GetProperty("rows").EnumerateArray().ToArray();
            Assert.All(own, f => Assert.Equal(Text(one, "database"), Text(f, "database")));
            Assert.Contains(own, f => Text(f, "code") == Text(one, "code"));
        }

        Assert.Equal(HttpStatusCode.NotFound, (await look.Http.GetAsync("/api/findings?database=none")).StatusCode);
    }
}
