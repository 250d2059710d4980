using System.Text.Json;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A move by dump and load of a cluster that is served: rehearsed, nothing of it stays; carried out, it lives there with all it had.</summary>
public sealed class ServedMoveTests : ServedCluster
{
    [Fact]
    public async Task Rehearsed_through_kills_it_says_how_long_nobody_could_write_and_leaves_nothing()
    {
        await Cluster.DoAsync("create table pier (id int primary key, name text); insert into pier select i, 'pier ' || i from generate_series(1, 5000) i; create role \"odd Clerk\" login");
        await AddAsync();
        object To(string host) => new { database = "harbour", to = host };
        Assert.Contains("say into which store", (await Admin.PostAsync("/api/moves/rehearse", To("spare"))).Body.GetProperty("title").GetString(), StringComparison.Ordinal);
        await FullAsync();
        Assert.Equal((409, "to"), Session.Fault(await Admin.PostAsync("/api/moves/rehearse", To((await Admin.FleetAsync()).DatabaseById[new("harbour")].Host.Value))));
        var run = await BegunAsync("/api/moves/rehearse", To("spare"));
        await KilledAsync(2);
        var done = await Admin.RunIsAsync(run, "done");
        Assert.Contains("checks passed, and all was thrown away", done.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        var last = (await Admin.PostAsync("/api/moves/worksheet", To("spare"))).Body.GetProperty("byDump").GetProperty("last");
        Assert.Equal((run, "spare", 0), (last.GetProperty("run").GetString(), last.GetProperty("host").GetString(), last.GetProperty("notPassed").GetArrayLength()));
        Assert.All(["dumpSeconds", "loadSeconds", "checkSeconds", "dumpBytes"], m => Assert.True(last.GetProperty(m).GetDouble() > 0, last.ToString()));
        Assert.InRange(last.GetProperty("downtimeSeconds").GetDouble(), last.GetProperty("dumpSeconds").GetDouble() + last.GetProperty("loadSeconds").GetDouble(), 600);

        Assert.Empty(Directory.EnumerateDirectories(Spare));
        Assert.Equal(0, Postmasters(Spare));
        Assert.Empty(Directory.EnumerateDirectories(Path.Combine(Home, "shelf"), "*-move-*", SearchOption.AllDirectories));
        Assert.Equal(1, await Server.QueryAsync<long>("select count(*) from backup_copies where set_id like 'harbour-move-%' and removed_at is not null"));
        Assert.Equal(1, await Server.QueryAsync<long>("select count(*) from ledger where kind = 'rehearse-move'"));

        // Called off it is not there either; its dump, if there was one, is named.
        run = await BegunAsync("/api/moves/rehearse", To("spare"));
        await Admin.PostAsync($"/api/runs/{run}/cancel");
        await Eventually.Async(async () => (await Admin.GetAsync($"/api/runs/{run}")).GetProperty("run").GetProperty("state").GetString() is "cancelled" or "done");
        Assert.Empty(Directory.EnumerateDirectories(Spare));
    }

    [Fact]
    public async Task Carried_out_through_kills_it_lives_there_with_all_it_had_and_can_be_had_back_from_before_and_after()
    {
        await Cluster.DoAsync(
            """
            create table pier (id int primary key, name text);
            insert into pier select i, 'pier ' || i from generate_series(1, 5000) i;
            create role clerk login password 'on-the-pier';
            grant select on pier to clerk;
            """);
        await Cluster.DoAsync("alter system set work_mem = '7MB'");
        await Cluster.DoAsync("select pg_reload_conf()");

        // The role that is known may not read how others sign in.
        await Cluster.DoAsync($"create role keeper login replication in role pg_monitor, pg_read_all_data, pg_checkpoint password '{Password}'");
        await AddAsync(user: "keeper");
        await FullAsync("""{"id": "log", "kind": "log", "recurrence": {"words": "Sundays 02:00"}, "store": "shelf", "keep": {"forSeconds": 86400}}""");
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        await ReceivedAsync();
        var home = (await Admin.FleetAsync()).DatabaseById[new("harbour")].Host.Value;
        var asked = new { database = "harbour", to = "spare" };

        // Held, nobody is kept out yet; thrown away nothing has happened. Meanwhile nothing else moves it.
        var run = await BegunAsync("/api/moves/by-dump", asked);
        await Admin.RunIsAsync(run, "held");
        Assert.Equal(409, (await Admin.PostAsync("/api/moves/by-dump", asked)).Status);
        await Cluster.DoAsync("select imbrek_walk()");
        Assert.Equal(204, await Admin.DecideAsync(run, "throw-away"));
        Assert.Contains($"thrown away; it stays on {home}", (await Admin.RunIsAsync(run, "done")).ToString(), StringComparison.Ordinal);
        Assert.Empty(Directory.EnumerateDirectories(Spare));

        // What a dump cannot hold is said before anybody is kept out.
        await Cluster.DoAsync("alter role imbrek set allow_in_place_tablespaces = on");
        await Cluster.DoAsync("create tablespace side location ''");
        run = await BegunAsync("/api/moves/by-dump", asked);
        Assert.Contains("tablespaces side lie elsewhere", (await Admin.RunIsAsync(run, "failed")).ToString(), StringComparison.Ordinal);
        await Cluster.DoAsync("drop tablespace side");

        run = await BegunAsync("/api/moves/by-dump", asked);
        await Admin.RunIsAsync(run, "held");
        Assert.Equal(204, await Admin.DecideAsync(run, "switch"));
        await KilledAsync(4);
        Assert.Contains("it lives on spare; nobody could write for", (await Admin.RunIsAsync(run, "done")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        var lives = (await Admin.FleetAsync()).DatabaseById[new("harbour")];
        var branch = Assert.Single(lives.Branches);
        Assert.Equal(("spare", 2, 1, home), (lives.Host.Value, branch.Id, branch.Parent, branch.LeftHost!.Value.Value));
        Assert.False(new LocalEngine(Cluster.Data).Runs);

        // Where somebody starts the old engine all the same, it takes no writes.
        await Cluster.UpAsync();
        Assert.Equal("25006", (await Assert.ThrowsAsync<Npgsql.PostgresException>(() => Cluster.DoAsync("select imbrek_walk()"))).SqlState);
        await Cluster.DownAsync();

        // All that was written, the roles with their passwords, the settings; and it goes on.
        var there = Instance.Find(Assert.Single(Directory.EnumerateDirectories(Spare)))!;
        Assert.Equal(5000L, await AskAsync<long>("clerk", "on-the-pier", "select count(*) from pier"));
        Assert.Equal("7MB", await AskAsync<string>("imbrek", Password, "show work_mem"));
        Assert.Equal(21L, await AskAsync<long>("imbrek", Password, "select count(*) from imbrek_trail"));
        await AskAsync<long>("imbrek", Password, "with w as materialized (select imbrek_walk() from generate_series(1, 4)) select count(*) from w");
        var wanted = Log.Lsn.Parse(await AskAsync<string>("imbrek", Password, "select pg_current_wal_flush_lsn()::text"));
        await Eventually.Async(async () => (await Admin.GetAsync("/api/clusters"))[0].GetProperty("position").GetString() is { } p && Log.Lsn.Parse(p) >= wanted, what: () => "its log is not received");
        Assert.True(wanted.Value > branch.ForkPosition);
        Assert.Equal(1, await Server.QueryAsync<long>("select count(*) from backup_sets where kind = 0 and branch = 2"));
        Assert.Equal(0, await Server.QueryAsync<long>("select count(*) from backup_sets where kind = 5 and branch = 2 and from_position <= (select max(to_position) from backup_sets where branch = 1)"));

        // From before it and from after it, each with what it held.
        Assert.Equal(21, await BackAsync(branch.ForkAt));
        Assert.Equal(25, await BackAsync(null));
        Assert.Equal(1, await Server.QueryAsync<long>("select count(*) from ledger where kind = 'move-by-dump' and body like '%\"outcome\":\"moved\"%'"));
        Assert.Empty(Directory.EnumerateDirectories(Path.Combine(Home, "shelf"), "*-move-*", SearchOption.AllDirectories));

        // It stands in the fleet as any other: an engine that was killed is started again.
        await there.EndAsync(default);
        await Eventually.Async(
            async () =>
            {
                try
                {
                    return await AskAsync<long>("imbrek", Password, "select count(*) from imbrek_trail") == 25;
                }
                catch (Npgsql.NpgsqlException)
                {
                    return false;
                }
            },
            what: () => "it is not started again");

        async Task<T> AskAsync<T>(string role, string password, string sql)
        {
            await using var source = Npgsql.NpgsqlDataSource.Create($"Host=127.0.0.1;Port={there.Now.Port};Username={role};Password={password};Database=postgres;Pooling=false");
            await using var command = source.CreateCommand(sql);
            return (T)(await command.ExecuteScalarAsync())!;
        }

        async Task<long> BackAsync(NodaTime.Instant? target)
        {
            var latest = (await Admin.GetAsync("/api/databases/harbour")).GetProperty("supposed").GetProperty("latest").GetString();
            var id = await BegunAsync("/api/recover", new { database = "harbour", target = target is { } t ? Core.Formats.Instants.Write(t) : latest, host = "spare" });
            var held = await Admin.RunIsAsync(id, "held");
            Assert.All(held.GetProperty("restore").GetProperty("measured").GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));
            var rows = (await Admin.PostAsync($"/api/copies/{id}/rows", new { query = "select count(*) from imbrek_trail" })).Body;
            Assert.Equal(204, await Admin.DecideAsync(id, "throw-away"));
            await Admin.RunIsAsync(id, "done");
            return long.Parse(rows.GetProperty("rows")[0][0].GetString()!, System.Globalization.CultureInfo.InvariantCulture);
        }
    }
}
