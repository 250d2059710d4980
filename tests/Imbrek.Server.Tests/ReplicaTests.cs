using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Replicas of an imported fleet: kept, shown, counted in every figure, and never lost by a later import.</summary>
public sealed class ReplicaTests : IAsyncLifetime
{
    private const string BehindAndCutOff = "replicas-01-behind-and-cut-off";
    private ServerProcess server = null!;
    private Session admin = null!;

    public async ValueTask InitializeAsync()
    {
        server = await ServerProcess.StartAsync(demo: false);
        admin = await Session.SignInAsync(server.Url, "admin");
    }

    public async ValueTask DisposeAsync()
    {
        admin.Dispose();
        await server.DisposeAsync();
    }

    private async Task<(int Status, JsonElement Body)> ImportAsync(string? fleet, string? catalogue)
    {
        using var form = new MultipartFormDataContent();
        foreach (var (name, file, text) in new[] { ("fleet", "fleet.json", fleet), ("catalogue", "catalog.jsonl", catalogue) })
        {
            if (text is not null)
            {
                form.Add(new ByteArrayContent(Encoding.UTF8.GetBytes(text)), name, file);
            }
        }

        var answer = await admin.Http.PostAsync("/api/import", form);
        return ((int)answer.StatusCode, await answer.Content.ReadFromJsonAsync<JsonElement>());
    }

    private static string Lag(string from, string to, double received, int branch = 1) =>
        $$"""{"type":"lag","replica":"hill","branch":{{branch}},"from":"2026-03-02T{{from}}Z","to":"2026-03-02T{{to}}Z","receivedLagSeconds":{{received}},"appliedLagSeconds":99,"pendingBytes":5,"receivedPosition":7}""";

    [Fact]
    public async Task Lag_is_kept_and_comes_back_and_figures_rest_on_the_replica_until_it_is_taken_out()
    {
        var (fleet, catalogue) = (ImportTests.Case("fleet.json", BehindAndCutOff), ImportTests.Case("catalog.jsonl", BehindAndCutOff));
        var (status, body) = await ImportAsync(fleet, catalogue);
        Assert.Equal((200, 3), (status, body.GetProperty("stretches").GetInt32()));
        var exported = await admin.GetTextAsync("/api/export/catalogue");

        // Made of what was read, and read back from PostgreSQL, it is the same.
        Assert.Equal(200, (await ImportAsync(await admin.GetTextAsync("/api/export/fleet"), null)).Status);
        Assert.Equal(exported, await admin.GetTextAsync("/api/export/catalogue"));
        Assert.Equal(200, (await ImportAsync(null, exported)).Status);
        Assert.Equal(exported, await admin.GetTextAsync("/api/export/catalogue"));
        Assert.Equal(3, exported.Split('\n').Count(l => l.Contains("\"lag\"", StringComparison.Ordinal)));

        var row = (await admin.GetAsync("/api/fleet?loss=site&at=2026-03-02T07:15:00Z")).GetProperty("rows")[0];
        Assert.Equal((2, "hill", 1090.6), (row.GetProperty("couldLoseSeconds").GetDouble(), row.GetProperty("takenOverBy").GetString(), row.GetProperty("backInSeconds").GetDouble()));
        Assert.Equal(JsonValueKind.Null, (await admin.GetAsync("/api/fleet?loss=none&at=2026-03-02T07:15:00Z")).GetProperty("rows")[0].GetProperty("takenOverBy").ValueKind);

        // Without its lag the replica cannot be taken out; nothing is half done.
        var without = JsonNodeWithoutReplicas(fleet);
        (status, body) = await ImportAsync(without, null);
        Assert.Equal(422, status);
        Assert.Contains("stretches of lag name it", body.GetProperty("faults")[0].GetProperty("message").GetString(), StringComparison.Ordinal);
        Assert.Equal("hill", (await admin.GetAsync("/api/replicas?at=2026-03-02T07:15:00Z")).GetProperty("rows")[0].GetProperty("id").GetString());
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
        var fleet = ImportTests.Case("fleet.json", BehindAndCutOff);
        Assert.Equal(200, (await ImportAsync(fleet, $"{Lag("01:00:00", "05:00:00", 3)}\n{Lag("06:00:00", "07:00:00", 4)}")).Status);

        // In the middle of one, then over the end of it and the hole, then an instant within.
        Assert.Equal(200, (await ImportAsync(null, Lag("02:00:00", "03:00:00", 8))).Status);
        Assert.Equal(200, (await ImportAsync(null, Lag("04:30:00", "06:30:00", 9))).Status);
        Assert.Equal(200, (await ImportAsync(null, Lag("02:30:00", "02:30:00", 10))).Status);
        var lines = (await admin.GetTextAsync("/api/export/catalogue")).Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => JsonDocument.Parse(l).RootElement)
            .Select(l => $"{l.GetProperty("from").GetString()![11..16]}-{l.GetProperty("to").GetString()![11..16]} {l.GetProperty("receivedLagSeconds").GetDouble()} {l.GetProperty("receivedPosition")}");
        Assert.Equal(["01:00-02:00 3 ", "02:00-03:00 8 7", "03:00-04:30 3 ", "04:30-06:30 9 7", "06:30-07:00 4 7"], lines);

        // The same again changes nothing; one of a replica that is not there, or wrong in itself, keeps nothing.
        Assert.Equal(200, (await ImportAsync(null, Lag("04:30:00", "06:30:00", 9))).Status);
        Assert.Equal(422, (await ImportAsync(null, Lag("08:00:00", "09:00:00", 1) + "\n" + Lag("08:30:00", "09:30:00", 1))).Status);
        Assert.Equal(422, (await ImportAsync(null, Lag("08:00:00", "09:00:00", 1, branch: 2))).Status);
        Assert.Equal(5L, await server.QueryAsync<long>("select count(*) from replica_lag"));
    }

    [Fact]
    public async Task A_replica_says_how_it_stands_what_it_is_worth_and_how_it_is_mended()
    {
        Assert.Equal(200, (await ImportAsync(ImportTests.Case("fleet.json", BehindAndCutOff), ImportTests.Case("catalog.jsonl", BehindAndCutOff))).Status);
        var page = await admin.GetAsync("/api/replicas/hill?at=2026-03-02T05:50:00Z");
        var row = page.GetProperty("row");
        Assert.Equal(("cutOff", 3240, 3960, 7200), (row.GetProperty("state").GetString(), row.GetProperty("receivedLagSeconds").GetDouble(), row.GetProperty("toleratedOutageSeconds").GetDouble(), row.GetProperty("keptSeconds").GetDouble()));
        Assert.Equal("2026-03-02T05:00:00Z", row.GetProperty("frozenSince").GetString());
        var worth = page.GetProperty("worth").EnumerateArray().ToDictionary(w => w.GetProperty("kind").GetString()!);
        Assert.Equal(3240, worth["site"].GetProperty("lostSeconds").GetDouble());
        Assert.Equal("a bad change is carried to it at once", worth["none"].GetProperty("whyNot").GetString());
        Assert.Contains(page.GetProperty("mending").EnumerateArray(), m => m.GetProperty("by").GetString() == "log" && m.GetProperty("seconds").ValueKind == JsonValueKind.Number);
        Assert.Equal(2, page.GetProperty("lag").GetArrayLength());
        Assert.Equal(404, (int)(await admin.Http.GetAsync("/api/replicas/nobody")).StatusCode);
        Assert.Equal(400, (int)(await admin.Http.GetAsync("/api/replicas?take=0")).StatusCode);
        var ways = await admin.GetAsync("/api/recover/tickets?target=2026-03-02T05:50:00Z&at=2026-03-02T05:50:00Z&loss=site");
        Assert.Equal((3240, 1108), (ways.GetProperty("takeOvers")[0].GetProperty("lostSeconds").GetDouble(), ways.GetProperty("takeOvers")[0].GetProperty("serviceSeconds").GetDouble()));
        Assert.Contains((await admin.GetAsync("/api/findings?database=tickets")).GetProperty("rows").EnumerateArray(), f => f.GetProperty("code").GetString() == "replica-broken");
    }

    [Fact]
    public async Task A_replica_is_added_and_changed_as_a_part_of_the_fleet()
    {
        Assert.Equal(200, (await ImportAsync(ImportTests.Case("fleet.json"), ImportTests.Case("catalog.jsonl"))).Status);
        object Replica(string host) => new { database = "tickets", host, mode = "async", promoteSeconds = 40 };
        Assert.Equal(200, (int)(await admin.Http.PutAsJsonAsync("/api/fleet/replicas/hill?basedOn=1", Replica("hill-h1"))).StatusCode);
        Assert.Equal(422, (int)(await admin.Http.PutAsJsonAsync("/api/fleet/replicas/hill?basedOn=2", Replica("hill-h9"))).StatusCode);
        Assert.Equal(200, (int)(await admin.Http.PutAsJsonAsync("/api/fleet/groups/counter?basedOn=2", new { name = "Counter", databases = new[] { "tickets" }, voters = new[] { "hill-h1" } })).StatusCode);
        Assert.Equal("Counter", (await admin.GetAsync("/api/replicas")).GetProperty("rows")[0].GetProperty("group").GetString());
        Assert.Equal(200, (await ImportAsync(null, Lag("01:00:00", "05:00:00", 3))).Status);
        Assert.Equal(409, (int)(await admin.Http.DeleteAsync("/api/fleet/replicas/hill?basedOn=3")).StatusCode);
        Assert.Equal("cutOff", (await admin.GetAsync("/api/replicas")).GetProperty("rows")[0].GetProperty("state").GetString());
    }
}
