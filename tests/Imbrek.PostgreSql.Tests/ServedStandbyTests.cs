using System.Diagnostics;
using System.Net;
using System.Text.Json;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Standbys of a cluster that is served: watched, set up, taking over.</summary>
public sealed class ServedStandbyTests : ServedCluster
{
    [Fact]
    public async Task A_standby_is_added_from_what_both_sides_say_watched_counted_and_taken_out_again()
    {
        await AddAsync();
        await using var standby = await Cluster.StandbyAsync("harbour_hill");
        await using var stranger = await TestCluster.StartAsync(auth: "scram-sha-256", stranger: true);
        Assert.Equal((404, "id"), Session.Fault(await Admin.PostAsync("/api/clusters/nobody/standbys", Standby(standby.Port))));
        var (status, no) = await Admin.PostAsync("/api/clusters/harbour/standbys", Standby(stranger.Port));
        Assert.Equal((409, "address"), (status, no.GetProperty("member").GetString()));
        Assert.Contains("it is a copy of another cluster", no.ToString(), StringComparison.Ordinal);
        var (_, looked) = await Admin.PostAsync("/api/clusters/harbour/standbys/look", Standby(standby.Port));
        Assert.Equal(("async", "harbour_hill", 0), (looked.GetProperty("mode").GetString(), looked.GetProperty("slot").GetString(), looked.GetProperty("lacks").GetArrayLength()));
        Assert.Equal(looked.GetProperty("sourceCollation").GetString(), looked.GetProperty("collation").GetString());
        Assert.Equal(201, (await Admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port))).Status);
        var hosts = Core.Formats.FleetFile.Read(await Admin.Http.GetByteArrayAsync("/api/export/fleet"), "fleet").Value!.Hosts;
        Assert.All(new[] { "harbour-hill-host", "harbour-host" }, h => Assert.Equal(looked.GetProperty("collation").GetString(), hosts[new(h)].Collation));
        Assert.Equal((409, "replica"), Session.Fault(await Admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port))));
        Assert.Equal((409, "address"), Session.Fault(await Admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port, "another"))));

        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => "it is not in step");
        var worth = (await Admin.GetAsync("/api/replicas/harbour-hill")).GetProperty("worth").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host");
        Assert.InRange(worth.GetProperty("lostSeconds").GetDouble(), 0, 20);

        // What it cannot do is refused before it is begun; what only people can do is said when it is tried.
        Assert.Equal((409, "id"), Session.Fault(await Admin.PostAsync("/api/replicas/harbour-hill/hold", new { group = false })));
        var refused = await Admin.RunIsAsync(await TakeOverAsync(), "failed");
        Assert.Contains("still answers", refused.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal("inStep", (await RowAsync()).GetProperty("state").GetString());
        Assert.Equal(HttpStatusCode.NoContent, (await Admin.Http.DeleteAsync("/api/clusters/harbour/standbys/harbour-hill")).StatusCode);
        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "ended", what: () => "it has not ended");
        Assert.Equal(HttpStatusCode.NotFound, (await Admin.Http.DeleteAsync("/api/clusters/harbour/standbys/harbour-hill")).StatusCode);
    }

    [Fact]
    public async Task One_takes_over_when_its_primary_is_gone_and_log_is_received_from_it_from_then_on()
    {
        await AddAsync();
        await using var standby = await Cluster.StandbyAsync("harbour_hill", "wal_keep_size=0");
        Assert.Equal(201, (await Admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port))).Status);
        await FullAsync();
        for (var i = 0; i < 20; i++)
        {
            await Cluster.DoAsync("select imbrek_walk()");
        }

        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => "it is not in step");
        Cluster.Kill();
        await Eventually.Async(async () => (await RowAsync()).GetProperty("heldUpBy").GetString()?.Contains("its primary at", StringComparison.Ordinal) == true, what: () => "nothing is said of its primary");
        var run = await Admin.RunIsAsync(await TakeOverAsync(), "done");
        Assert.EndsWith("branch 2 is the live one", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Contains("lost: nothing", run.GetProperty("steps").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "promote").GetProperty("note").GetString(), StringComparison.Ordinal);

        // It takes writes, its log is received where the old one's was, and the fleet says where it lives.
        await standby.DoAsync("select imbrek_walk()");
        Assert.Equal(21, await standby.AskAsync<long>("select count(*) from imbrek_trail"));
        await Eventually.Async(
            async () => (await Admin.GetAsync("/api/clusters"))[0] is var c && c.GetProperty("timeline").GetInt32() == 2 && c.GetProperty("port").GetInt32() == standby.Port && c.GetProperty("problem").ValueKind == JsonValueKind.Null, what: () => Server.Said);
        await Eventually.Async(
            async () => (await Admin.GetAsync("/api/databases/harbour/sets?take=20")).GetProperty("sets").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "log" && s.GetProperty("branch").GetInt32() == 2), what: () => Server.Said);
        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "ended", what: () => "it has not ended");
        Assert.Equal("host", (await Admin.GetAsync("/api/databases/harbour")).GetProperty("proofs")[0].GetProperty("loss").GetString());

        // Nothing of the log is missing between the two: every instant since the first full can be had back.
        var cover = await Admin.GetAsync("/api/databases/harbour/cover");
        var since = cover.GetProperty("recoverable")[0].GetProperty("from").GetDateTimeOffset();
        Assert.DoesNotContain(cover.GetProperty("gaps").EnumerateArray(), g => g.GetProperty("from").GetDateTimeOffset() > since && g.GetProperty("to").GetDateTimeOffset() < cover.GetProperty("to").GetDateTimeOffset().AddSeconds(-30));
    }

    [Fact]
    public async Task One_of_our_own_is_set_up_by_a_run_that_survives_kills_is_started_again_ends_and_another_takes_over()
    {
        await AddAsync();
        await FullAsync();
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        Assert.Equal((409, "host"), Session.Fault(await Admin.PostAsync("/api/replicas", Asked("harbour-hill", "harbour-host"))));
        var run = await SetUpAsync("harbour-hill", "spare");
        var random = new Random(9);
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(10));
        for (var kills = 0; kills < 3; kills++)
        {
            for (var ticks = random.Next(10, 120); ticks > 0; ticks--)
            {
                await timer.WaitForNextTickAsync();
            }

            await DiesAsync();
        }

        var done = await Admin.RunIsAsync(run, "done");
        Assert.Equal("harbour-hill is in step and proved", done.GetProperty("run").GetProperty("note").GetString());
        Assert.Equal("3 checks passed", done.GetProperty("steps").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "prove").GetProperty("note").GetString());
        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => "it is not in step");
        Assert.DoesNotContain(Directory.EnumerateDirectories(Spare), d => Path.GetFileName(d) != "harbour-hill");
        Assert.Equal(1, Postmasters(Path.Combine(Spare, "harbour-hill")));

        // Its engine dies: it is started again, and follows.
        EndEngine("harbour-hill");
        await Cluster.DoAsync("select imbrek_walk()");
        await Eventually.Async(async () => Postmasters(Path.Combine(Spare, "harbour-hill")) == 1 && (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => Server.Said);

        // It is looked at where an engine can be started.
        Assert.Equal("[\"spare\"]", (await Admin.GetAsync("/api/replicas/harbour-hill/before")).GetProperty("opensOn").ToString());
        Assert.Equal((409, "host"), Session.Fault(await Admin.PostAsync("/api/replicas/harbour-hill/look", new { host = "harbour-host" })));

        // Held by a person it receives nothing; then it ends, with its engine and its slot.
        await Admin.RunIsAsync(await BegunAsync("/api/replicas/harbour-hill/hold", new { group = false }), "done");
        Assert.Equal("held", (await RowAsync()).GetProperty("state").GetString());
        await Admin.RunIsAsync(await BegunAsync("/api/replicas/harbour-hill/resume", new { group = false }), "done");
        await Admin.RunIsAsync(await BegunAsync("/api/replicas/harbour-hill/remove", new { }), "done");
        Assert.Equal("ended", (await RowAsync()).GetProperty("state").GetString());
        Assert.Empty(Directory.EnumerateFileSystemEntries(Spare));
        Assert.Equal(1, await Cluster.AskAsync<long>("select count(*) from pg_replication_slots"));

        // Another takes over when the primary is gone; that it is ours now means that we start it again.
        await Admin.RunIsAsync(await SetUpAsync("harbour-two", "spare"), "done");
        Cluster.Kill();
        await Admin.RunIsAsync(await TakeOverAsync("harbour-two"), "done");
        var port = Instance.Find(Path.Combine(Spare, "harbour-two"))!.Now.Port;
        EndEngine("harbour-two");
        await Eventually.Async(
            async () => (await Admin.GetAsync("/api/clusters"))[0] is var c && c.GetProperty("timeline").GetInt32() == 2 && c.GetProperty("port").GetInt32() == port && c.GetProperty("problem").ValueKind == JsonValueKind.Null, what: () => Server.Said);
        await using var primary = await Cluster.OpenAsync(port);
        Assert.Equal(21, await primary.AskAsync<long>("select count(*) from imbrek_trail", default));
        Assert.False(await primary.AskAsync<bool>("select pg_is_in_recovery()", default));
        await primary.CloseAsync();
        EndEngine("harbour-two");
    }

    private static object Asked(string id, string host) => new { replica = new { id, database = "harbour", host, mode = "async", promoteSeconds = 4, watchSeconds = 1 }, group = (string?)null };

    private Task<string> SetUpAsync(string id, string host) => BegunAsync("/api/replicas", Asked(id, host));

    /// <summary>Ends an engine as the kernel does when there is no memory left.</summary>
    private void EndEngine(string name)
    {
        using var first = Process.GetProcessById(int.Parse(File.ReadLines(Path.Combine(Spare, name, "data", "postmaster.pid")).First(), System.Globalization.CultureInfo.InvariantCulture));
        first.Kill(entireProcessTree: true);
        first.WaitForExit();
    }

    private static object Standby(int port, string replica = "harbour-hill") =>
        new { replica, address = "127.0.0.1", port, user = (string?)null, credential = (string?)null, site = "hill", host = (string?)null, promoteSeconds = 4, watchSeconds = 1 };

    private async Task<JsonElement> RowAsync() => (await Admin.GetAsync("/api/replicas/harbour-hill")).GetProperty("row");

    /// <summary>Asks for a take over, and has a second person approve it where it asks for one.</summary>
    private async Task<string> TakeOverAsync(string replica = "harbour-hill")
    {
        var (status, begun) = await Admin.PostAsync($"/api/replicas/{replica}/take-over", new { host = (string?)null });
        Assert.True(status == 201, begun.ToString());
        var id = begun.GetProperty("id").GetString()!;
        await ApprovedAsync(id, run => run.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null);
        return id;
    }
}
