using System.Text.Json;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Change days of a cluster that is served: kept, left and turned back, while everybody is kept out and while others write.</summary>
public sealed class ServedChangeTests : ServedCluster
{
    [Fact]
    public async Task A_change_is_carried_out_through_kills_while_nobody_is_in_and_turned_back_it_is_as_it_was()
    {
        await ReadyAsync();
        await ChangeAsync("owners", keepsOut: true, "alter table pier add owner text", "update pier set owner = 'harbour master' where id <= 100", "vacuum pier");
        var run = await DayAsync("owners");
        await Assert.ThrowsAnyAsync<Npgsql.NpgsqlException>(() => Cluster.OpenAsync());

        // It is said who keeps everybody out, and nobody forgets how they are let in again.
        Assert.Equal(run, (await Admin.GetAsync("/api/clusters"))[0].GetProperty("keptOutBy").GetString());
        Assert.Equal(System.Net.HttpStatusCode.Conflict, (await Admin.Http.DeleteAsync("/api/clusters/harbour")).StatusCode);
        Assert.Equal(204, await Admin.DecideAsync(run, "carry-out"));
        await KilledAsync(3);

        // Killed in the vacuum, nobody knows whether it was done, and people are asked: they have it done again.
        JsonElement seen = default;
        await Eventually.Async(
            async () => Choices(seen = await Admin.GetAsync($"/api/runs/{run}")).Contains("keep") || IsInDoubt(seen),
            what: () => $"neither done nor in doubt: {seen}");
        if (IsInDoubt(seen))
        {
            Assert.Equal(204, await Admin.DecideAsync(run, "carry-out"));
        }

        seen = await AskedAsync(run, "keep");
        await Assert.ThrowsAnyAsync<Npgsql.NpgsqlException>(() => Cluster.OpenAsync());
        Assert.All(seen.GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("kind").GetString() == "part"), s => Assert.Equal("done", s.GetProperty("state").GetString()));

        // Kept: everybody is let in, and a new full is taken.
        Assert.Equal(204, await Admin.DecideAsync(run, "keep"));
        var measured = (await Admin.RunIsAsync(run, "done")).GetProperty("change").GetProperty("measured");
        Assert.Equal(3, measured.GetProperty("parts").GetArrayLength());
        Assert.True(measured.GetProperty("outSeconds").GetDouble() > 0);
        Assert.DoesNotContain(measured.GetProperty("differences").EnumerateArray(), d => d.GetProperty("broke").GetBoolean());
        Assert.Equal((100L, 500L), (await Cluster.AskAsync<long>("select count(*) from pier where owner is not null"), await Cluster.AskAsync<long>("select count(*) from pier")));
        Assert.Equal(2, await Server.QueryAsync<long>("select count(*) from backup_sets where kind = 0"));
        Assert.Equal(1, await Server.QueryAsync<long>("select count(*) from ledger where kind = 'change'"));
        Assert.Equal(JsonValueKind.Null, (await Admin.GetAsync("/api/clusters"))[0].GetProperty("keptOutBy").ValueKind);

        // A part that cannot be carried out opens the question again, and nothing of it is done; it is left as it stands.
        await ChangeAsync("wrong", keepsOut: true, "delete from pier where id > 400", "delete from jetty");
        run = await DayAsync("wrong");
        Assert.Equal(204, await Admin.DecideAsync(run, "carry-out"));
        await Eventually.Async(async () => (await Admin.GetAsync($"/api/runs/{run}")).GetProperty("steps").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "part" && s.GetProperty("note").GetString()?.Contains("jetty", StringComparison.Ordinal) == true), what: () => Server.Said);
        await AskedAsync(run, "leave-it");
        Assert.Equal(204, await Admin.DecideAsync(run, "leave-it"));
        await Admin.RunIsAsync(run, "done");
        Assert.Equal(400L, await Cluster.AskAsync<long>("select count(*) from pier"));

        // Turned back, thrown away: nobody gets in between; turned back again, put in place.
        await ChangeAsync("cleared", keepsOut: true, "delete from pier", "drop table imbrek_trail cascade");
        run = await DayAsync("cleared");
        Assert.Equal(204, await Admin.DecideAsync(run, "carry-out"));
        seen = await AskedAsync(run, "keep");
        Assert.Contains(seen.GetProperty("change").GetProperty("measured").GetProperty("differences").EnumerateArray(), d => d.GetProperty("broke").GetBoolean() && d.GetProperty("what").GetString()!.EndsWith("imbrek_trail", StringComparison.Ordinal));
        await TurnedBackAsync(run, "throw-away");
        await AskedAsync(run, "turn-back");
        await Assert.ThrowsAnyAsync<Npgsql.NpgsqlException>(() => Cluster.OpenAsync());
        await TurnedBackAsync(run, "put-in-place", kills: 2);
        Assert.Contains("turned back", (await Admin.RunIsAsync(run, "done")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal((400L, 20L), (await Cluster.AskAsync<long>("select count(*) from pier"), await Cluster.AskAsync<long>("select count(*) from imbrek_trail")));
        Assert.Equal(1L, await Cluster.AskAsync<long>("select count(*) from pg_replication_slots where not temporary"));
        await ReceivedAsync();
    }

    [Fact]
    public async Task While_others_write_it_takes_the_owners_role_and_turned_back_what_they_wrote_since_is_a_way_back_still()
    {
        // A role that owns nothing, as it should be.
        await ReadyAsync(async () =>
        {
            await Cluster.DoAsync($"create role keeper login replication in role pg_monitor, pg_read_all_data, pg_checkpoint password '{Password}'");
            return "keeper";
        });
        await ChangeAsync("emptied", keepsOut: false, "delete from pier where id > 10");
        var (status, refused) = await Admin.PostAsync("/api/changes/emptied/begin", new { database = "harbour", windowEnd = InAnHour(), watchSeconds = 0 });
        Assert.Equal((409, "database"), Session.Fault((status, refused)));
        Assert.Contains("grant \"imbrek\" to \"keeper\"", refused.GetProperty("title").GetString(), StringComparison.Ordinal);
        Assert.Contains("grant", (await Admin.PostAsync("/api/changes/emptied/worksheet", new { database = "harbour", windowEnd = InAnHour() })).Body.GetProperty("day").GetProperty("refused").GetString(), StringComparison.Ordinal);

        await Cluster.DoAsync("grant imbrek to keeper");
        var run = await DayAsync("emptied", watchSeconds: 0);
        Assert.Equal(204, await Admin.DecideAsync(run, "carry-out"));
        await AskedAsync(run, "keep");
        Assert.Equal(10L, await Cluster.AskAsync<long>("select count(*) from pier"));
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 5)");
        await TurnedBackAsync(run, "put-in-place");
        await Admin.RunIsAsync(run, "done");
        Assert.Equal((500L, 20L), (await Cluster.AskAsync<long>("select count(*) from pier"), await Cluster.AskAsync<long>("select count(*) from imbrek_trail")));
        Assert.Equal(1, await Server.QueryAsync<long>("select count(*) from ledger where kind = 'change'"));
    }

    private static string InAnHour() => DateTime.UtcNow.AddHours(1).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture);

    private async Task ReadyAsync(Func<Task<string>>? role = null)
    {
        await Cluster.DoAsync("create table pier (id int, name text); insert into pier select i, 'pier ' || i from generate_series(1, 500) i");
        await AddAsync(await (role?.Invoke() ?? Task.FromResult("imbrek")));
        await FullAsync("""{"id": "log", "kind": "log", "recurrence": {"words": "Sundays 02:00"}, "store": "shelf", "keep": {"forSeconds": 86400}}""");
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        await ReceivedAsync();
    }

    private async Task ChangeAsync(string id, bool keepsOut, params string[] statements)
    {
        var (status, why) = await Admin.PutAsync($"/api/changes/{id}", System.Text.Json.Nodes.JsonNode.Parse(JsonSerializer.Serialize(new
        {
            name = id,
            engine = (await Admin.FleetAsync()).DatabaseById[new("harbour")].Engine.Value,
            keepsOut,
            parts = statements.Select((s, i) => new { name = $"part {i + 1}", statements = new[] { s } }),
            queries = new[] { new { name = "piers", query = "select count(*) >= 0 from pier" } },
        }))!);
        Assert.True(status == 204, why.ToString());
    }

    /// <summary>A change day, until its first part may begin.</summary>
    private async Task<string> DayAsync(string change, double watchSeconds = 2)
    {
        var run = await BegunAsync($"/api/changes/{change}/begin", new { database = "harbour", windowEnd = InAnHour(), watchSeconds });
        await ApprovedAsync(run, r => r.GetProperty("steps")[0].GetProperty("started").ValueKind != JsonValueKind.Null);
        await AskedAsync(run, "carry-out");
        return run;
    }

    private async Task<JsonElement> AskedAsync(string run, string choice)
    {
        JsonElement now = default;
        await Eventually.Async(
            async () => Choices(now = await Admin.GetAsync($"/api/runs/{run}")).Contains(choice),
            what: () => $"'{choice}' cannot be chosen: {now}");
        return now;
    }

    private static IEnumerable<string?> Choices(JsonElement run) => run.GetProperty("steps").EnumerateArray().SelectMany(s => s.GetProperty("choices").EnumerateArray()).Select(c => c.GetString());

    private static bool IsInDoubt(JsonElement run) => Choices(run).Contains("carry-out") && run.GetProperty("run").GetProperty("note").GetString()?.Contains("nobody knows", StringComparison.Ordinal) == true;

    /// <summary>Turns it back, by the run that is begun for it.</summary>
    private async Task TurnedBackAsync(string run, string choice, int kills = 0)
    {
        var before = Followed(await Admin.GetAsync($"/api/runs/{run}")).ToHashSet();
        Assert.Equal(204, await Admin.DecideAsync(run, "turn-back"));
        string? back = null;
        await Eventually.Async(async () => (back = Followed(await Admin.GetAsync($"/api/runs/{run}")).FirstOrDefault(f => !before.Contains(f))) is not null, what: () => "nothing puts it back");
        await AskedAsync(back!, choice);
        Assert.Equal(204, await Admin.DecideAsync(back!, choice));
        await KilledAsync(kills);
        await Admin.RunIsAsync(back!, "done");
    }

    private static IEnumerable<string> Followed(JsonElement run) => run.GetProperty("followed").EnumerateArray().Select(f => f.GetProperty("id").GetString()!);
}
