using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Npgsql;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Clones of a cluster that is served: masked before anybody is in, for named hosts alone, made anew where they were, gone at their end.</summary>
public sealed class ServedCloneTests : ServedCluster
{
    private static readonly string[] Mask = ["update guests set name = 'guest ' || id, card = null", "alter table guests add masked boolean default true"];

    [Fact]
    public async Task Clones_are_masked_and_let_named_hosts_in_alone_and_are_made_anew_where_they_were()
    {
        await Cluster.DoAsync("create table guests (id int, name text, card text); insert into guests select i, 'Real Name ' || i, '4000 ' || i from generate_series(1, 300) i");
        await Cluster.DoAsync("create database ledgers");
        await AddAsync();
        await HostAsync("bench", "127.0.0.1");
        await HostAsync("desk");
        await FullAsync("""{"id": "log", "kind": "log", "recurrence": {"words": "Sundays 02:00"}, "store": "shelf", "keep": {"forSeconds": 86400}}""");
        await WrittenAsync("delete from guests where id > 200");

        foreach (var odd in new[] { "0", "10.1", "0.0.0.0", "::", "bench.example", "127.0.0.1/8", "127.0.0.1 trust" })
        {
            await HostAsync("odd", odd);
            Assert.Equal((409, "hosts[0]"), Session.Fault(await Admin.PostAsync("/api/copies", Request(["odd"], []))));
        }

        // Whom no rule could let in, and statements that would end the transaction they are, are refused before anything is made.
        var (status, refused) = await Admin.PostAsync("/api/copies", Request(["bench", "desk"], Mask));
        Assert.Equal((409, "hosts[1]"), Session.Fault((status, refused)));
        Assert.Contains("from which addresses desk asks", refused.GetProperty("title").GetString(), StringComparison.Ordinal);
        Assert.Equal((400, "mask"), Session.Fault(await Admin.PostAsync("/api/copies", Request(["bench"], ["update guests set card = null", "commit"]))));
        Assert.Equal((409, "as"), Session.Fault(await Admin.PostAsync("/api/copies", Request(["bench"], [], kind: "view"))));
        Assert.Equal((409, "host"), Session.Fault(await Admin.PostAsync("/api/copies", Request(["bench"], Mask, on: "desk"))));
        Assert.Contains("SQL", (await Admin.PostAsync("/api/copies/worksheet", Request(["bench"], Mask))).Body.GetProperty("maskHelp").GetString(), StringComparison.Ordinal);

        var (made, begun) = await Admin.PostAsync("/api/copies", Request(["bench"], Mask, count: 2));
        Assert.True(made == 201, begun.ToString());
        string[] runs = [.. begun.GetProperty("ids").EnumerateArray().Select(i => i.GetString()!)];
        foreach (var run in runs)
        {
            var done = await Admin.RunIsAsync(run, "done");
            var said = done.GetProperty("steps").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "let-in").GetProperty("note").GetString()!;
            Assert.Contains("from bench (127.0.0.1): gets in", said, StringComparison.Ordinal);
            Assert.Contains("is kept out: no pg_hba.conf entry", said, StringComparison.Ordinal);
        }

        var (one, two) = (Clone("masked-1"), Clone("masked-2"));
        Assert.Equal($"127.0.0.1, port {one.Now.Port}, database postgres alone, which was masked", (await Admin.GetAsync("/api/copies")).GetProperty("copies").EnumerateArray().Single(c => c.GetProperty("instance").GetString() == "masked-1").GetProperty("answers").GetString());
        Assert.NotEqual(one.Now.Port, two.Now.Port);
        Assert.Equal((200L, 0L), (await AskAsync(one, "select count(*) from guests where masked and name like 'guest %'"), await AskAsync(one, "select count(card) from guests")));

        // They are written to, and are nobody else's: not what was not masked, and not without a password.
        Assert.Equal(200L, await AskAsync(one, "with gone as (delete from guests returning 1) select count(*) from gone"));
        Assert.Equal((200L, 200L), (await AskAsync(two, "select count(*) from guests"), await Cluster.AskAsync<long>("select count(card) from guests")));
        Assert.Equal("28000", (await Assert.ThrowsAsync<PostgresException>(() => Cluster.OpenAsync(one.Now.Port, "ledgers"))).SqlState);
        Assert.Equal("28P01", (await Assert.ThrowsAsync<PostgresException>(async () => await new NpgsqlConnection($"Host=127.0.0.1;Port={one.Now.Port};Username=imbrek;Database=postgres;Pooling=false;Password=wrong").OpenAsync())).SqlState);

        // Whose rule is another's asks from here in vain.
        await HostAsync("bench", "127.0.0.77");
        await WrittenAsync("delete from guests where id > 50");
        var refresh = (await Admin.PostAsync($"/api/copies/{runs[0]}/refresh", new { })).Body.GetProperty("ids")[0].GetString()!;
        await KilledAsync(2);
        await Admin.RunIsAsync(refresh, "done");
        Assert.Equal(one.Now.Port, Clone("masked-1").Now.Port);
        Assert.Equal("28000", (await Assert.ThrowsAsync<PostgresException>(() => Cluster.OpenAsync(one.Now.Port))).SqlState);
        Assert.Equal("50", (await Admin.PostAsync($"/api/copies/{runs[0]}/rows", new { query = "select count(*) from guests where masked and card is null" })).Body.GetProperty("rows")[0][0].GetString());

        // A statement that cannot be carried out, before or at a refresh, lets nobody in.
        await WrittenAsync("alter table guests rename to visitors");
        refresh = (await Admin.PostAsync($"/api/copies/{runs[0]}/refresh", new { })).Body.GetProperty("ids")[0].GetString()!;
        Assert.Contains("nobody is let into masked-1", (await Admin.RunIsAsync(refresh, "failed")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        await Assert.ThrowsAnyAsync<NpgsqlException>(() => Cluster.OpenAsync(one.Now.Port));
        var wrong = (await Admin.PostAsync("/api/copies", Request(["bench"], Mask, name: "wrong"))).Body.GetProperty("ids")[0].GetString()!;
        Assert.Contains("guests", (await Admin.RunIsAsync(wrong, "failed")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);

        foreach (var run in runs)
        {
            await Admin.RunIsAsync(await BegunAsync($"/api/runs/{run}/remove", new { }), "done");
        }

        Assert.Empty(Directory.EnumerateDirectories(Spare));
        Assert.Equal(0, Postmasters(Spare));
    }

    private static object Request(string[] hosts, string[] mask, int count = 1, string name = "masked", string kind = "clone", string on = "spare") => new
    {
        database = "harbour",
        @as = kind,
        hosts,
        mask,
        count,
        name,
        host = on,
        until = DateTime.UtcNow.AddDays(2).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture),
    };

    /// <summary>Writes something, until a clone would have it.</summary>
    private async Task WrittenAsync(string sql)
    {
        await Cluster.DoAsync(sql);
        var written = DateTime.UtcNow;
        await Eventually.Async(
            async () => (await Admin.PostAsync("/api/copies/worksheet", Request(["bench"], Mask))).Body.GetProperty("reaches") is { ValueKind: JsonValueKind.String } reaches && reaches.GetDateTimeOffset().UtcDateTime >= written,
            what: () => Server.Said);
    }

    private Instance Clone(string name) => Instance.Find(Path.Combine(Spare, name))!;

    private async Task<long> AskAsync(Instance clone, string sql)
    {
        await using var connection = await Cluster.OpenAsync(clone.Now.Port);
        await using var command = new NpgsqlCommand(sql, connection);
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private async Task HostAsync(string id, params string[] addresses)
    {
        var number = (await Admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32();
        var (status, why) = await Admin.PutAsync(
            $"/api/fleet/hosts/{id}?basedOn={number}",
            new JsonObject { ["id"] = id, ["site"] = "hill", ["writeBytesPerSecond"] = 100_000_000, ["addresses"] = new JsonArray([.. addresses.Select(a => JsonValue.Create(a))]) });
        Assert.True(status == 200, why.ToString());
    }
}
