using System.Net.Http.Json;
using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Replicas of an imported fleet: kept, shown, counted in every figure, and never lost by a later import.</summary>
public sealed class ReplicaTests : OwnFiles
{
    private const string BehindAndCutOff = "replicas-01-behind-and-cut-off";

    private static string Lag(string from, string to, double received, int branch = 1) =>
        $$"""{"type":"lag","replica":"hill","branch":{{branch}},"from":"2026-03-02T{{from}}Z","to":"2026-03-02T{{to}}Z","receivedLagSeconds":{{received}},"appliedLagSeconds":99,"pendingBytes":5,"receivedPosition":7}""";

    [Fact]
    public async Task Lag_is_kept_and_comes_back_and_figures_rest_on_the_replica_until_it_is_taken_out()
    {
        var (fleet, catalogue) = (Case("fleet.json", BehindAndCutOff), Case("catalog.jsonl", BehindAndCutOff));
        var (status, body) = await ImportAsync(fleet, catalogue);
        Assert.Equal((200, 3), (status, body.GetProperty("stretches").GetInt32()));
        var exported = await Admin.GetTextAsync("/api/export/catalogue");

        // Made of what was read, and read back from PostgreSQL, it is the same.
        Assert.Equal(200, (await ImportAsync(await Admin.GetTextAsync("/api/export/fleet"), null)).Status);
        Assert.Equal(exported, await Admin.GetTextAsync("/api/export/catalogue"));
        Assert.Equal(200, (await ImportAsync(null, exported)).Status);
        Assert.Equal(exported, await Admin.GetTextAsync("/api/export/catalogue"));
        Assert.Equal(3, exported.Split('\n').Count(l => l.Contains("\"lag\"", StringComparison.Ordinal)));

        var row = (await Admin.GetAsync("/api/fleet?loss=site&at=2026-03-02T07:15:00Z")).GetProperty("rows")[0];
        Assert.Equal((2, "hill", 1090.6), (row.GetProperty("couldLoseSeconds").GetDouble(), row.GetProperty("takenOverBy").GetString(), row.GetProperty("backInSeconds").GetDouble()));
        Assert.Equal(JsonValueKind.Null, (await Admin.GetAsync("/api/fleet?loss=none&at=2026-03-02T07:15:00Z")).GetProperty("rows")[0].GetProperty("takenOverBy").ValueKind);

        // Without its lag the replica cannot be taken out; nothing is half done.
        var without = JsonNodeWithoutReplicas(fleet);
        (status, body) = await ImportAsync(without, null);
        Assert.Equal(422, status);
        Assert.Contains("stretches of lag name it", body.GetProperty("faults")[0].GetProperty("message").GetString(), StringComparison.Ordinal);
        Assert.Equal("hill", (await Admin.GetAsync("/api/replicas?at=2026-03-02T07:15:00Z")).GetProperty("rows")[0].GetProperty("id").GetString());
    }

    private static string JsonNodeWithoutReplicas(string fleet)
    {
        var node = System.Text.Json.Nodes.JsonNode.Parse(fleet)!.AsObject();
        node.Remove("replicas");
        return node.ToJsonString();
    }

    [Fact]
    public async Task Later_lag_says_what_holds_and_cuts_what_was_there_without_losing_what_lies_beside_it()
    {
        var fleet = Case("fleet.json", BehindAndCutOff);
        Assert.Equal(200, (await ImportAsync(fleet, $"{Lag("01:00:00", "05:00:00", 3)}\n{Lag("06:00:00", "07:00:00", 4)}")).Status);

        // In the middle of one, then over the end of it and the hole, then an instant within.
        Assert.Equal(200, (await ImportAsync(null, Lag("02:00:00", "03:00:00", 8))).Status);
        Assert.Equal(200, (await ImportAsync(null, Lag("04:30:00", "06:30:00", 9))).Status);
        Assert.Equal(200, (await ImportAsync(null, Lag("02:30:00", "02:30:00", 10))).Status);
        var lines = (await Admin.GetTextAsync("/api/export/catalogue")).Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => JsonDocument.Parse(l).RootElement)
            .Select(l => $"{l.GetProperty("from").GetString()![11..16]}-{l.GetProperty("to").GetString()![11..16]} {l.GetProperty("receivedLagSeconds").GetDouble()} {l.GetProperty("receivedPosition")}");
        Assert.Equal(["01:00-02:00 3 ", "02:00-03:00 8 7", "03:00-04:30 3 ", "04:30-06:30 9 7", "06:30-07:00 4 7"], lines);

        // The same again changes nothing; one of a replica that is not there, or wrong in itself, keeps nothing.
        Assert.Equal(200, (await ImportAsync(null, Lag("04:30:00", "06:30:00", 9))).Status);
        Assert.Equal(422, (await ImportAsync(null, Lag("08:00:00", "09:00:00", 1) + "\n" + Lag("08:30:00", "09:30:00", 1))).Status);
        Assert.Equal(422, (await ImportAsync(null, Lag("08:00:00", "09:00:00", 1, branch: 2))).Status);
        Assert.Equal(5L, await Server.QueryAsync<long>("select count(*) from replica_lag"));
    }

    [Fact]
    public async Task A_replica_says_how_it_stands_what_it_is_worth_and_how_it_is_mended()
    {
        Assert.Equal(200, (await ImportAsync(Case("fleet.json", BehindAndCutOff), Case("catalog.jsonl", BehindAndCutOff))).Status);
        var page = await Admin.GetAsync("/api/replicas/hill?at=2026-03-02T05:50:00Z");
        var row = page.GetProperty("row");
        Assert.Equal(("cutOff", 3240, 3960, 7200), (row.GetProperty("state").GetString(), row.GetProperty("receivedLagSeconds").GetDouble(), row.GetProperty("toleratedOutageSeconds").GetDouble(), row.GetProperty("keptSeconds").GetDouble()));
        Assert.Equal("2026-03-02T05:00:00Z", row.GetProperty("frozenSince").GetString());
        var worth = page.GetProperty("worth").EnumerateArray().ToDictionary(w => w.GetProperty("kind").GetString()!);
        Assert.Equal(3240, worth["site"].GetProperty("lostSeconds").GetDouble());
        Assert.Equal("a bad change is carried to it at once", worth["none"].GetProperty("whyNot").GetString());
        Assert.Contains(page.GetProperty("mending").EnumerateArray(), m => m.GetProperty("by").GetString() == "log" && m.GetProperty("seconds").ValueKind == JsonValueKind.Number);
        Assert.Equal(2, page.GetProperty("lag").GetArrayLength());
        Assert.Equal(404, (int)(await Admin.Http.GetAsync("/api/replicas/nobody")).StatusCode);
        Assert.Equal(400, (int)(await Admin.Http.GetAsync("/api/replicas?take=0")).StatusCode);
        var ways = await Admin.GetAsync("/api/recover/tickets?target=2026-03-02T05:50:00Z&at=2026-03-02T05:50:00Z&loss=site");
        var over = ways.GetProperty("compared").EnumerateArray().First(w => w.GetProperty("way").GetString() == "takeOver");
        Assert.Equal((3240, 1108), (over.GetProperty("lostSeconds").GetDouble(), over.GetProperty("serviceSeconds").GetDouble()));
        Assert.Contains((await Admin.GetAsync("/api/findings?database=tickets")).GetProperty("rows").EnumerateArray(), f => f.GetProperty("code").GetString() == "replica-broken");
    }

    [Fact]
    public async Task A_replica_is_added_and_changed_as_a_part_of_the_fleet()
    {
        Assert.Equal(200, (await ImportAsync(Case("fleet.json"), Case("catalog.jsonl"))).Status);
        object Replica(string host) => new { database = "tickets", host, mode = "async", promoteSeconds = 40 };
        Assert.Equal(200, (int)(await Admin.Http.PutAsJsonAsync("/api/fleet/replicas/hill?basedOn=1", Replica("hill-h1"))).StatusCode);
        Assert.Equal(422, (int)(await Admin.Http.PutAsJsonAsync("/api/fleet/replicas/hill?basedOn=2", Replica("hill-h9"))).StatusCode);
        Assert.Equal(200, (int)(await Admin.Http.PutAsJsonAsync("/api/fleet/groups/counter?basedOn=2", new { name = "Counter", databases = new[] { "tickets" }, voters = new[] { "hill-h1" } })).StatusCode);
        Assert.Equal("Counter", (await Admin.GetAsync("/api/replicas")).GetProperty("rows")[0].GetProperty("group").GetString());
        Assert.Equal(200, (await ImportAsync(null, Lag("01:00:00", "05:00:00", 3))).Status);
        Assert.Equal(409, (int)(await Admin.Http.DeleteAsync("/api/fleet/replicas/hill?basedOn=3")).StatusCode);
        Assert.Equal("cutOff", (await Admin.GetAsync("/api/replicas")).GetProperty("rows")[0].GetProperty("state").GetString());
    }

    [Fact]
    public async Task What_a_script_sees_of_a_replica_is_kept_as_stretches_counts_at_once_and_is_known_to_every_process()
    {
        Assert.Equal(200, (await ImportAsync(Case("fleet.json", BehindAndCutOff), Case("catalog.jsonl", BehindAndCutOff))).Status);
        await using var peer = await Server.StartPeerAsync();
        using var other = await Session.SignInAsync(peer.Url, "admin");
        var now = DateTimeOffset.UtcNow;
        object Sample(int at, double lag = 1, string replica = "hill") =>
            new { replica, at = Utc(at), receivedTo = Utc(at - lag), appliedTo = Utc(at - lag - 1), pendingBytes = 4096 };
        string Utc(double seconds) => now.AddSeconds(seconds).ToString("yyyy-MM-ddTHH:mm:ss.fffZ", System.Globalization.CultureInfo.InvariantCulture);
        async Task<int> TakeAsync(params object[] samples)
        {
            var (status, body) = await Admin.PostAsync("/api/replicas/samples", new { samples });
            Assert.True(status == 200, body.ToString());
            return body.GetProperty("stretches").GetInt32();
        }

        Assert.Equal(1, await TakeAsync(Sample(-40), Sample(-30)));
        Assert.Equal(1, await TakeAsync(Sample(-20)));
        Assert.Equal(1, await TakeAsync(Sample(-10)));

        // Told late it is not heard.
        Assert.Equal(0, await TakeAsync(Sample(-35)));
        Assert.Equal(1L, await Server.QueryAsync<long>("select count(*) from replica_lag where \"to\" > now() - interval '5 minutes'"));
        var at = Uri.EscapeDataString(Utc(-15));
        async Task<string?> StateAsync(Session session) => (await session.GetAsync($"/api/replicas?at={at}")).GetProperty("rows")[0].GetProperty("state").GetString();
        Assert.Equal("inStep", await StateAsync(Admin));
        await Eventually.Async(async () => await StateAsync(other) == "inStep");
        Assert.Equal("hill", (await Admin.GetAsync($"/api/fleet?loss=site&at={at}")).GetProperty("rows")[0].GetProperty("takenOverBy").GetString());

        // All or nothing, and the member at fault is named.
        foreach (var (wrong, member) in new[] { (Sample(-5, replica: "nobody"), "samples[1].replica"), (Sample(-5, lag: -2), "samples[1].receivedTo"), (Sample(-9000), "samples[1].at") })
        {
            var (status, body) = await Admin.PostAsync("/api/replicas/samples", new { samples = new[] { Sample(-5), wrong } });
            Assert.Equal((400, member), (status, body.GetProperty("member").GetString()));
        }

        Assert.Equal(0L, await Server.QueryAsync<long>("select count(*) from replica_lag where \"to\" > now() - interval '8 seconds'"));
    }
}
