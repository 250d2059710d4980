using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using NodaTime;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A statement file carried out on a copy of a real cluster, and on one that others use: parts are whole or not at all, also where their caller dies, and what they break is seen.</summary>
public class ChangeDriverTests
{
    private static readonly NamedQuery[] Queries = [new("walked", "select count(*) from imbrek_trail"), new("wrong", "select nothing from nowhere")];

    [Fact]
    public async Task Parts_are_carried_out_whole_or_not_at_all_whoever_dies_and_the_cluster_is_not_touched()
    {
        await using var h = await Harbour.StartAsync();
        await h.Cluster.DoAsync("create table pier (id int, name text); insert into pier select i, 'pier ' || i from generate_series(1, 500) i");
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        var left = 20;
        await h.WalkAsync(1, () => --left < 0);
        await h.CaughtUpAsync();
        InstanceSpec spec = null!;
        RunCall call = default;
        await h.RestoreAsync(new LogStop(h.Newest!.CoversTo), "aside", (s, c) => (spec, call) = (s, c));
        var (driver, target) = (new PostgreSqlChangeDriver(h, SystemClock.Instance), new ChangeTarget(spec.Database, spec));
        Task<PartDone> DoAsync(int number, params string[] statements) => driver.DoAsync(call, target, number, 0, new ChangePart($"p{number}", null, statements), default);

        var before = await driver.LookAsync(call, target, Queries, default);
        Assert.StartsWith("15", before.Version, StringComparison.Ordinal);
        Assert.Equal(500, before.Tables.Single(t => t.Name.EndsWith(".pier", StringComparison.Ordinal)).Rows);
        Assert.Null(before.Queries[0].Error);
        Assert.NotNull(before.Queries[1].Error);

        // A part of which one statement fails is not carried out; asked again as it should be, it is.
        var refused = await Assert.ThrowsAsync<DriverException>(() => DoAsync(1, "delete from pier where id <= 100", "drop table jetty"));
        Assert.Contains("jetty", refused.Message, StringComparison.Ordinal);
        foreach (var ends in new[] { "commit", "  ROLLBACK;", "begin" })
        {
            await Assert.ThrowsAsync<DriverException>(() => DoAsync(1, "delete from pier where id <= 100", ends));
        }

        var done = await DoAsync(1, "delete from pier where id <= 100");
        Assert.Equal("100 rows", Assert.Single(done.Statements).Said);
        Assert.Equal(done, await DoAsync(1, "delete from pier where id <= 100"), (a, b) => a!.Seconds == b!.Seconds);

        // Its caller died after it was committed and before that was kept: the engine says that it was.
        var there = Instance.Find(Path.Combine(h.Instances, "aside"))!;
        await DoAsync(2, "insert into pier values (1000, 'new')");
        await using (var connection = await there.OpenAsync("postgres", default))
        {
            // The last transaction that wrote is the one of the part.
            var transaction = (await connection.RowsAsync("select xmin::text from pier where id = 1000", r => r.GetString(0), default)).Single();
            var now = Instance.Find(Path.Combine(h.Instances, "aside"))!;
            await now.KeepAsync(now.Now with { Parts = new(now.Now.Parts!.Done.Where(p => p.Key != 2).ToDictionary(p => p.Key, p => p.Value), new(2, transaction, new PartDone(0.5, []))) }, default);
        }

        Assert.Equal(0.5, (await DoAsync(2, "insert into pier values (1000, 'new')")).Seconds);

        // What allows no transaction is carried out one by one; where its caller died between two, nobody knows, and it is said.
        var errors = (await driver.LookAsync(call, target, [], default)).Errors;
        await DoAsync(3, "vacuum pier", "create index concurrently pier_name on pier (name)");
        Assert.Equal(errors, (await driver.LookAsync(call, target, [], default)).Errors);
        var last = Instance.Find(Path.Combine(h.Instances, "aside"))!;
        await last.KeepAsync(last.Now with { Parts = last.Now.Parts! with { Begun = new(4, null, new PartDone(1, [new("vacuum pier", 1, "done")])) } }, default);
        Assert.Contains("after 1 of 2", (await Assert.ThrowsAsync<DriverException>(() => DoAsync(4, "vacuum pier", "vacuum pier"))).Message, StringComparison.Ordinal);

        // People who have looked decide: it goes on with the statement in doubt, and what was known before stays known.
        Assert.Equal(["done", "done"], (await driver.DoAsync(call, target, 4, 1, new ChangePart("p4", null, ["vacuum jetty", "vacuum pier"]), default)).Statements.Select(s => s.Said));

        // Where the engine refused one it is known what was carried out: asked again, it goes on with that one.
        await Assert.ThrowsAsync<DriverException>(() => DoAsync(6, "vacuum pier", "create index concurrently jetty_id on jetty (id)"));
        await DoAsync(7, "create table jetty (id int)");
        last = Instance.Find(Path.Combine(h.Instances, "aside"))!;
        await last.KeepAsync(last.Now with { Parts = last.Now.Parts! with { Begun = new(6, null, new PartDone(1, [new("vacuum pier", 1, "as before")]), Refused: true) } }, default);
        Assert.Equal(["as before", "done"], (await DoAsync(6, "vacuum pier", "create index concurrently jetty_id on jetty (id)")).Statements.Select(s => s.Said));

        await DoAsync(5, "drop table imbrek_trail cascade");
        var after = await driver.LookAsync(call, target, Queries, default);
        Assert.Equal(401, after.Tables.Single(t => t.Name.EndsWith(".pier", StringComparison.Ordinal)).Rows);
        var broke = LookComparison.Of(before, after, others: false).Where(d => d.Broke).Select(d => d.What).ToArray();
        Assert.Contains("query walked", broke);
        Assert.Contains(broke, b => b.EndsWith("imbrek_trail", StringComparison.Ordinal));
        Assert.Contains("no cluster", (await Assert.ThrowsAsync<DriverException>(() => driver.DoAsync(call, target, 8, 0, new("move", "16", []), default))).Message, StringComparison.Ordinal);

        Assert.Equal(500, await h.Cluster.AskAsync<long>("select count(*) from pier"));
        await h.Restore.DiscardAsync(call, spec, default);
        Assert.False(Directory.Exists(Path.Combine(h.Instances, "aside")));
    }

    [Fact]
    public async Task On_a_cluster_that_others_use_they_are_too_by_its_owner_and_a_process_whose_run_another_took_up_does_nothing()
    {
        await using var h = await Harbour.StartAsync();
        await h.Cluster.DoAsync("create role keeper login replication in role pg_monitor, pg_read_all_data; create table pier (id int); insert into pier select generate_series(1, 500); analyze pier");
        await h.WaitAsync(() => h.Now is not null, "receiving");
        h.User = "keeper";
        var (driver, call, target, database) = (new PostgreSqlChangeDriver(h, SystemClock.Instance), new RunCall(Guid.NewGuid(), 2), new ChangeTarget(new("harbour"), null), new Core.Fleet.Id<Core.Fleet.Database>("harbour"));
        Task<PartDone> DoAsync(int number, params string[] statements) => driver.DoAsync(call, target, number, 0, new ChangePart($"p{number}", null, statements), default);
        var look = await driver.LookAsync(call, target, Queries, default);
        Assert.Equal(new TableRows("postgres.pier", 500, Estimated: true), look.Tables.Single(t => t.Name.EndsWith(".pier", StringComparison.Ordinal)));
        Assert.Null(look.Errors);

        // A role that owns nothing changes nothing, and is told what it lacks.
        Assert.Contains("grant", await driver.WhyNotAsync(database, Of(keepsOut: false), default), StringComparison.Ordinal);
        Assert.Null(await driver.WhyNotAsync(database, Of(keepsOut: true), default));
        Assert.Contains("grant", (await Assert.ThrowsAsync<DriverException>(() => DoAsync(1, "delete from pier"))).Message, StringComparison.Ordinal);
        await h.Cluster.DoAsync("grant imbrek to keeper");
        Assert.Null(await driver.WhyNotAsync(database, Of(keepsOut: false), default));
        Assert.Equal("100 rows", Assert.Single((await DoAsync(1, "delete from pier where id <= 100")).Statements).Said);

        // While everybody is kept out the owner signs in itself; its caller died after a commit, and the engine says that it was.
        await h.Cluster.DoAsync("revoke imbrek from keeper");
        await h.Replicate.ShutOutAsync(call, database, null, default);
        await DoAsync(2, "delete from pier where id <= 200");
        string transaction;
        await using (var connection = await Connections.OpenAsync(((IClusterBook)h).Cluster(database), default))
        {
            await DoAsync(3, "insert into pier values (1000)");
            transaction = await connection.AskAsync<string>("select xmin::text from pier where id = 1000", default);
        }

        await ((IClusterBook)h).ChangingAsync(database, h.Changing! with { Parts = new(h.Changing!.Parts.Done.Where(p => p.Key != 3).ToDictionary(), new(3, transaction, new PartDone(0.5, []))) }, default);
        Assert.Equal(0.5, (await DoAsync(3, "insert into pier values (1000)")).Seconds);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => driver.DoAsync(call with { Fence = 1 }, target, 4, 0, new("late", null, ["delete from pier"]), default))).Problem);
        Assert.Equal([1, 2, 3], h.Changing!.Parts.Done.Keys.Order());
        await h.Replicate.LetInAsync(call, database, default);
        Assert.Equal(301, await h.Cluster.AskAsync<long>("select count(*) from pier"));

        static Change Of(bool keepsOut) => new("Cleared", new("postgresql"), keepsOut, [new("rows", null, ["delete from pier"])], []);
    }
}
