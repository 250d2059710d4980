using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Nodes;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>The fleet changed in parts: each change is a version with who and why, based on one that is named, and nothing is left pointing at nothing.</summary>
public sealed class FleetPartsTests : OwnFiles
{
    private ServerProcess peer = null!;

    public override async ValueTask InitializeAsync()
    {
        await base.InitializeAsync();
        peer = await Server.StartPeerAsync();
        Assert.Equal(200, (await ImportAsync(Case("fleet.json"), Case("catalog.jsonl"))).Status);
    }

    public override async ValueTask DisposeAsync()
    {
        await peer.DisposeAsync();
        await base.DisposeAsync();
    }

    private static JsonObject Store(string site) => new() { ["id"] = "vault", ["site"] = site, ["readBytesPerSecond"] = 100_000_000, ["writeBytesPerSecond"] = 100_000_000 };

    private async Task<(int Status, JsonElement Body)> DeleteAsync(string path)
    {
        var answer = await Admin.Http.DeleteAsync(path);
        return ((int)answer.StatusCode, await answer.Content.ReadFromJsonAsync<JsonElement>());
    }

    private async Task<JsonObject> FleetAsync() => JsonNode.Parse(await Admin.Http.GetStringAsync("/api/export/fleet"))!.AsObject();

    [Fact]
    public async Task A_part_is_added_changed_and_removed_as_versions_that_every_process_knows()
    {
        var before = await FleetAsync();
        var site = before["sites"]![0]!["id"]!.ToString();
        var database = before["databases"]![0]!.DeepClone().AsObject();
        Assert.Equal(1, (await Admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32());

        var (status, made) = await Admin.PutAsync("/api/fleet/stores/vault?basedOn=1&why=a%20vault%20was%20bought", Store(site));
        Assert.True(status == 200, made.ToString());
        Assert.Equal((2, "admin", "a vault was bought"), (made.GetProperty("number").GetInt32(), made.GetProperty("who").GetString(), made.GetProperty("why").GetString()));
        Assert.Contains((await FleetAsync())["stores"]!.AsArray(), s => s!["id"]!.ToString() == "vault");

        // Of two who change the same version one is told, and nothing of theirs is kept.
        var late = await Admin.PutAsync("/api/fleet/stores/vault?basedOn=1", Store(site));
        Assert.Equal((409, "basedOn"), Session.Fault(late));
        Assert.Equal("changed-meanwhile", late.Body.GetProperty("code").GetString());

        // A new database, known to the other process too, beside those whose sets stay known.
        var sets = (await Admin.GetAsync($"/api/databases/{database["id"]}")).GetProperty("sets").GetInt32();
        Assert.True(sets > 0);
        database["id"] = "another";
        database["name"] = "Another";
        database.Remove("branches");
        Assert.Equal(200, (await Admin.PutAsync("/api/fleet/databases/another?basedOn=2", database)).Status);
        using var other = await Session.SignInAsync(peer.Url, "admin");
        await Eventually.Async(async () => (int)(await other.Http.GetAsync("/api/databases/another")).StatusCode == 200);
        Assert.Equal(sets, (await other.GetAsync($"/api/databases/{before["databases"]![0]!["id"]}")).GetProperty("sets").GetInt32());

        Assert.Equal(200, (await DeleteAsync("/api/fleet/databases/another?basedOn=3")).Status);
        Assert.Equal(200, (await DeleteAsync("/api/fleet/stores/vault?basedOn=4")).Status);
        Assert.Equal(404, (await DeleteAsync("/api/fleet/stores/vault?basedOn=5")).Status);
        Assert.True(JsonNode.DeepEquals(before, await FleetAsync()));
        Assert.Equal(4L, await Server.QueryAsync<long>("select count(*) from ledger where kind = 'fleet'"));
    }

    [Fact]
    public async Task Of_two_databases_that_have_begun_a_branch_at_once_each_can_be_named_though_the_other_is_not_yet()
    {
        var one = (await Server.QueryAsync<string>("select min(database) from backup_sets"))!;
        var other = (await FleetAsync())["databases"]!.AsArray().First(d => d!["id"]!.ToString() == one)!.DeepClone().AsObject();
        other["id"] = "another";
        other.Remove("branches");
        Assert.Equal(200, (await Admin.PutAsync("/api/fleet/databases/another?basedOn=1", other)).Status);
        await Server.ExecuteAsync("""
            insert into backup_sets select (jsonb_populate_record(null::backup_sets, to_jsonb(s) || '{"database":"another"}')).* from backup_sets s;
            update backup_sets set branch = 77
            """);
        string[] both = [one, "another"];
        foreach (var (id, version) in both.Select((id, n) => (id, n + 2)))
        {
            var database = (await FleetAsync())["databases"]!.AsArray().First(d => d!["id"]!.ToString() == id)!.DeepClone().AsObject();
            var plain = database.DeepClone().AsObject();
            database["branches"] = new JsonArray(new JsonObject { ["id"] = 77, ["parent"] = 1, ["forkPosition"] = 1, ["forkAt"] = "2026-03-01T00:00:00Z", ["startsAt"] = "2026-03-01T00:00:00Z" });
            Assert.Equal(200, (await Admin.PutAsync($"/api/fleet/databases/{id}?basedOn={version}", database)).Status);

            // What a change itself would leave pointing at nothing is refused as before.
            var back = await Admin.PutAsync($"/api/fleet/databases/{id}?basedOn={version + 1}", plain);
            Assert.Equal((409, "still-named"), (back.Status, back.Body.GetProperty("code").GetString()));
            Assert.Contains($"'{id}' has no branch 77", back.Body.ToString(), StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task What_would_point_at_nothing_is_listed_and_nothing_is_kept()
    {
        var fleet = await FleetAsync();
        var site = fleet["sites"]![0]!["id"]!.ToString();
        var (status, body) = await DeleteAsync($"/api/fleet/sites/{site}?basedOn=1");
        Assert.Equal((422, "points-at-nothing"), (status, body.GetProperty("code").GetString()));
        Assert.Contains("hosts[", body.GetProperty("title").GetString(), StringComparison.Ordinal);

        var held = await Server.QueryAsync<string>("select store from backup_copies where removed_at is null limit 1");
        (status, body) = await DeleteAsync($"/api/fleet/stores/{held}?basedOn=1");
        Assert.True(status is 409 or 422, body.ToString());

        var bad = await Admin.PutAsync("/api/fleet/stores/vault?basedOn=1", Store("nowhere"));
        Assert.Equal(422, bad.Status);
        Assert.Contains("site", bad.Body.GetProperty("member").GetString(), StringComparison.Ordinal);
        Assert.Equal((400, "id"), Session.Fault(await Admin.PutAsync("/api/fleet/stores/other?basedOn=1", Store(site))));
        Assert.Equal((404, "list"), Session.Fault(await Admin.PutAsync("/api/fleet/plans/p?basedOn=1", Store(site))));
        Assert.Equal(1, (await Admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32());
    }

    [Fact]
    public async Task Without_a_driver_acting_is_refused_at_once_with_the_reason()
    {
        var database = (await FleetAsync())["databases"]![0]!["id"]!.ToString();
        var target = await Server.QueryAsync<string>("select to_char(max(s.covers_to) at time zone 'utc', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"') from backup_sets s join backup_copies c on c.database = s.database and c.set_id = s.id where s.kind = 0 and c.removed_at is null");
        var (status, body) = await Admin.PostAsync("/api/recover", new { database, target });
        Assert.Equal((409, "no-driver"), (status, body.GetProperty("code").GetString()));
        Assert.Equal(0L, await Server.QueryAsync<long>("select count(*) from runs"));
    }

    [Fact]
    public async Task What_a_change_would_do_is_said_before_it_is_kept_and_how_a_part_came_to_be_so_afterwards()
    {
        var before = await FleetAsync();
        var objective = before["objectives"]![0]!.DeepClone().AsObject();
        var id = objective["id"]!.ToString();
        var concerned = before["databases"]!.AsArray().Count(d => d!["objective"]?.ToString() == id);
        Assert.True(concerned > 0);

        // An objective that nothing could meet, by an owner, for a time.
        objective["rpoSeconds"] = 0.001;
        objective["rtoSeconds"] = 0.001;
        objective["owner"] = "harbour master";
        objective["reason"] = "tried";
        objective["until"] = "2020-01-01T00:00:00Z";
        var preview = (await Admin.PostAsync("/api/fleet/preview", new JsonObject { ["list"] = "objectives", ["id"] = id, ["part"] = objective.DeepClone() })).Body;
        Assert.Equal((concerned, concerned), (preview.GetProperty("affected").GetInt32(), preview.GetProperty("judged").GetInt32()));
        var loose = objective.DeepClone().AsObject();
        (loose["rpoSeconds"], loose["rtoSeconds"]) = (3e8, 3e8);
        var eased = (await Admin.PostAsync("/api/fleet/preview", new JsonObject { ["list"] = "objectives", ["id"] = id, ["part"] = loose })).Body;
        Assert.True(preview.GetProperty("worse").GetInt32() + eased.GetProperty("better").GetInt32() > 0, $"{preview} {eased}");
        Assert.Equal(1, (await Admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32());

        // What cannot be is said by its member, and so is what would point at nothing.
        foreach (var (list, wrongId, part) in new (string, string, JsonObject?)[]
        {
            ("objectives", id, new JsonObject { ["name"] = "x", ["rpoSeconds"] = -1, ["rtoSeconds"] = 1, ["against"] = new JsonArray("none") }),
            ("sites", before["sites"]![0]!["id"]!.ToString(), null),
            ("hosts", "nobody", null),
        })
        {
            Assert.Equal(JsonValueKind.String, (await Admin.PostAsync("/api/fleet/preview", new JsonObject { ["list"] = list, ["id"] = wrongId, ["part"] = part })).Body.GetProperty("fault").ValueKind);
        }

        Assert.Equal(404, (await Admin.PostAsync("/api/fleet/preview", new JsonObject { ["list"] = "people", ["id"] = id })).Status);
        Assert.Equal(200, (await Admin.PutAsync($"/api/fleet/objectives/{id}?basedOn=1&why=for%20a%20test", objective)).Status);
        Assert.Equal(200, (await Admin.PutAsync("/api/fleet/stores/vault?basedOn=2", Store(before["sites"]![0]!["id"]!.ToString()))).Status);
        var history = (await Admin.GetAsync($"/api/fleet/parts/objectives/{id}/history")).EnumerateArray().ToArray();
        Assert.Equal([2, 1], history.Select(h => h.GetProperty("version").GetInt32()));
        Assert.Equal(("for a test", "harbour master"), (history[0].GetProperty("why").GetString(), history[0].GetProperty("part").GetProperty("owner").GetString()));
        Assert.Equal([3], (await Admin.GetAsync("/api/fleet/parts/stores/vault/history")).EnumerateArray().Select(h => h.GetProperty("version").GetInt32()));
        if (before["links"] is JsonArray { Count: > 0 } links)
        {
            var (one, other) = (links[0]!["between"]![0]!.ToString(), links[0]!["between"]![1]!.ToString());
            Assert.Single((await Admin.GetAsync($"/api/fleet/parts/links/{Uri.EscapeDataString($"{other}|{one}")}/history")).EnumerateArray());
        }

        var parts = await Admin.GetAsync("/api/fleet/parts/stores?find=VAULT");
        Assert.Equal((3, 1, "vault"), (parts.GetProperty("version").GetInt32(), parts.GetProperty("total").GetInt32(), parts.GetProperty("parts")[0].GetProperty("id").GetString()));

        // What was agreed is told with by whom, why and until when; past that it is a finding.
        var agreed = (await Admin.GetAsync("/api/agreed")).GetProperty("rows").EnumerateArray().Where(r => r.GetProperty("objective").GetString() == id).ToArray();
        Assert.Equal(concerned, agreed.Length);
        Assert.All(agreed, r => Assert.Equal(("harbour master", "tried"), (r.GetProperty("owner").GetString(), r.GetProperty("reason").GetString())));
        Assert.Contains((await Admin.GetAsync("/api/findings?take=500")).GetProperty("rows").EnumerateArray(), f => f.GetProperty("code").GetString() == "objective-past-its-end");
    }
}
