using System.Diagnostics;
using System.Net;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Servers that protect a cluster: added, received from, restored, and killed meanwhile.</summary>
public sealed class ServingTests : IAsyncLifetime
{
    /// <summary>How often the server is killed: five times in the suite, twenty by <c>./imbrek restores</c>.</summary>
    private static readonly int Kills = int.TryParse(Environment.GetEnvironmentVariable("IMBREK_KILLS"), out var n) ? n : 3;

    private const string Password = "not-to-be-seen-anywhere";
    private readonly string home = Directory.CreateTempSubdirectory("imbrek-serving").FullName;
    private TestCluster cluster = null!;
    private ServerProcess server = null!;
    private Session admin = null!;

    public async ValueTask InitializeAsync()
    {
        await Tools.RunAsync("chmod", ["755", home], default);
        var file = Path.Combine(home, "credentials");
        await File.WriteAllTextAsync(file, $"harbour-key={Password}\n");
        File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Environment.SetEnvironmentVariable("IMBREK_CREDENTIALS", file);
        cluster = await TestCluster.StartAsync(auth: "scram-sha-256");
        await cluster.DoAsync(Trail.Make);
        server = await ServerProcess.StartAsync(demo: false);
        admin = await Session.SignInAsync(server.Url, "admin");
    }

    public async ValueTask DisposeAsync()
    {
        admin.Dispose();
        await server.DisposeAsync();
        foreach (var instance in Directory.Exists(Spare) ? Directory.EnumerateDirectories(Spare).Select(Instance.Find).OfType<Instance>() : [])
        {
            await instance.RemoveAsync(default);
        }

        await cluster.DisposeAsync();
        Directory.Delete(home, recursive: true);
    }

    private string Spare => Path.Combine(home, "spare");

    private object Request(string? credential = "harbour-key", int? port = null) => new
    {
        database = "harbour",
        name = (string?)null,
        address = "127.0.0.1",
        port = port ?? cluster.Port,
        user = "imbrek",
        signInTo = (string?)null,
        credential,
        site = "quay",
        host = (string?)null,
        store = "shelf",
        storeSite = "hill",
        folder = Path.Combine(home, "shelf"),
        restoreHost = "spare",
        restoreFolder = Spare,
        objective = (string?)null,
        logRoomBytes = (long?)null,
        backupBytesPerSecond = 20_000_000,
    };

    private async Task AddAsync()
    {
        var (status, body) = await admin.PostAsync("/api/clusters", Request());
        Assert.True(status == 201, body.ToString());
        await ReceivedAsync();
    }

    [Fact]
    public async Task A_standby_is_added_from_what_both_sides_say_watched_counted_and_taken_out_again()
    {
        await AddAsync();
        await using var standby = await cluster.StandbyAsync("harbour_hill");
        await using var stranger = await TestCluster.StartAsync(auth: "scram-sha-256");
        Assert.Equal((404, "id"), Session.Fault(await admin.PostAsync("/api/clusters/nobody/standbys", Standby(standby.Port))));
        var (status, no) = await admin.PostAsync("/api/clusters/harbour/standbys", Standby(stranger.Port));
        Assert.Equal((409, "address"), (status, no.GetProperty("member").GetString()));
        Assert.Contains("it is a copy of another cluster", no.ToString(), StringComparison.Ordinal);
        var (_, looked) = await admin.PostAsync("/api/clusters/harbour/standbys/look", Standby(standby.Port));
        Assert.Equal(("async", "harbour_hill", 0), (looked.GetProperty("mode").GetString(), looked.GetProperty("slot").GetString(), looked.GetProperty("lacks").GetArrayLength()));
        Assert.Equal(looked.GetProperty("sourceCollation").GetString(), looked.GetProperty("collation").GetString());
        Assert.Equal(201, (await admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port))).Status);
        var hosts = Core.Formats.FleetFile.Read(await admin.Http.GetByteArrayAsync("/api/export/fleet"), "fleet").Value!.Hosts;
        Assert.All(new[] { "harbour-hill-host", "harbour-host" }, h => Assert.Equal(looked.GetProperty("collation").GetString(), hosts[new(h)].Collation));
        Assert.Equal((409, "replica"), Session.Fault(await admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port))));
        Assert.Equal((409, "address"), Session.Fault(await admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port, "another"))));

        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => "it is not in step");
        var worth = (await admin.GetAsync("/api/replicas/harbour-hill")).GetProperty("worth").EnumerateArray().First(w => w.GetProperty("kind").GetString() == "host");
        Assert.InRange(worth.GetProperty("lostSeconds").GetDouble(), 0, 20);

        // What it cannot do is refused before it is begun; what only people can do is said when it is tried.
        Assert.Equal((409, "id"), Session.Fault(await admin.PostAsync("/api/replicas/harbour-hill/hold", new { group = false })));
        var refused = await admin.RunIsAsync(await TakeOverAsync(), "failed");
        Assert.Contains("still answers", refused.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Equal("inStep", (await RowAsync()).GetProperty("state").GetString());
        Assert.Equal(HttpStatusCode.NoContent, (await admin.Http.DeleteAsync("/api/clusters/harbour/standbys/harbour-hill")).StatusCode);
        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "ended", what: () => "it has not ended");
        Assert.Equal(HttpStatusCode.NotFound, (await admin.Http.DeleteAsync("/api/clusters/harbour/standbys/harbour-hill")).StatusCode);
    }

    [Fact]
    public async Task One_takes_over_when_its_primary_is_gone_and_log_is_received_from_it_from_then_on()
    {
        await AddAsync();
        await using var standby = await cluster.StandbyAsync("harbour_hill", "wal_keep_size=0");
        Assert.Equal(201, (await admin.PostAsync("/api/clusters/harbour/standbys", Standby(standby.Port))).Status);
        await FullAsync();
        for (var i = 0; i < 20; i++)
        {
            await cluster.DoAsync("select imbrek_walk()");
        }

        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => "it is not in step");
        cluster.Kill();
        await Eventually.Async(async () => (await RowAsync()).GetProperty("heldUpBy").GetString()?.Contains("its primary at", StringComparison.Ordinal) == true, what: () => "nothing is said of its primary");
        var run = await admin.RunIsAsync(await TakeOverAsync(), "done");
        Assert.EndsWith("branch 2 is the live one", run.GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
        Assert.Contains("lost: nothing", run.GetProperty("steps").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "promote").GetProperty("note").GetString(), StringComparison.Ordinal);

        // It takes writes, its log is received where the old one's was, and the fleet says where it lives.
        await standby.DoAsync("select imbrek_walk()");
        Assert.Equal(21, await standby.AskAsync<long>("select count(*) from imbrek_trail"));
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/clusters"))[0] is var c && c.GetProperty("timeline").GetInt32() == 2 && c.GetProperty("port").GetInt32() == standby.Port && c.GetProperty("problem").ValueKind == JsonValueKind.Null, 60, () => server.Said);
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/databases/harbour/sets?take=20")).GetProperty("sets").EnumerateArray().Any(s => s.GetProperty("kind").GetString() == "log" && s.GetProperty("branch").GetInt32() == 2), 60, () => server.Said);
        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "ended", what: () => "it has not ended");
        Assert.Equal("host", (await admin.GetAsync("/api/databases/harbour")).GetProperty("proofs")[0].GetProperty("loss").GetString());

        // Nothing of the log is missing between the two: every instant since the first full can be had back.
        var cover = await admin.GetAsync("/api/databases/harbour/cover");
        var since = cover.GetProperty("recoverable")[0].GetProperty("from").GetDateTimeOffset();
        Assert.DoesNotContain(cover.GetProperty("gaps").EnumerateArray(), g => g.GetProperty("from").GetDateTimeOffset() > since && g.GetProperty("to").GetDateTimeOffset() < cover.GetProperty("to").GetDateTimeOffset().AddSeconds(-30));
    }

    [Fact]
    public async Task One_of_our_own_is_set_up_by_a_run_that_survives_kills_is_started_again_ends_and_another_takes_over()
    {
        await AddAsync();
        await FullAsync();
        await cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        var (linked, no) = await admin.PutAsync(
            $"/api/fleet/links/quay%7Chill?basedOn={(await admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32()}", JsonNode.Parse("""{"between":["quay","hill"],"bytesPerSecond":100000000}""")!);
        Assert.True(linked == 200, no.ToString());
        Assert.Equal((409, "host"), Session.Fault(await admin.PostAsync("/api/replicas", Asked("harbour-hill", "harbour-host"))));
        var run = await SetUpAsync("harbour-hill", "spare");
        var random = new Random(9);
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(10));
        for (var kills = 0; kills < 3; kills++)
        {
            for (var ticks = random.Next(10, 120); ticks > 0; ticks--)
            {
                await timer.WaitForNextTickAsync();
            }

            await server.KillAsync();
            await server.RunAsync();
            admin.Dispose();
            admin = await Session.SignInAsync(server.Url, "admin");
        }

        var done = await admin.RunIsAsync(run, "done");
        Assert.Equal("harbour-hill is in step and proved", done.GetProperty("run").GetProperty("note").GetString());
        Assert.Equal("3 checks passed", done.GetProperty("steps").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "prove").GetProperty("note").GetString());
        await Eventually.Async(async () => (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => "it is not in step");
        Assert.DoesNotContain(Directory.EnumerateDirectories(Spare), d => Path.GetFileName(d) != "harbour-hill");
        Assert.Equal(1, Postmasters(Path.Combine(Spare, "harbour-hill")));

        // Its engine dies: it is started again, and follows.
        EndEngine("harbour-hill");
        await cluster.DoAsync("select imbrek_walk()");
        await Eventually.Async(async () => Postmasters(Path.Combine(Spare, "harbour-hill")) == 1 && (await RowAsync()).GetProperty("state").GetString() == "inStep", what: () => server.Said);

        // It is looked at where an engine can be started.
        Assert.Equal("[\"spare\"]", (await admin.GetAsync("/api/replicas/harbour-hill/before")).GetProperty("opensOn").ToString());
        Assert.Equal((409, "host"), Session.Fault(await admin.PostAsync("/api/replicas/harbour-hill/look", new { host = "harbour-host" })));

        // Held by a person it receives nothing; then it ends, with its engine and its slot.
        await admin.RunIsAsync(await BegunAsync("/api/replicas/harbour-hill/hold", new { group = false }), "done");
        Assert.Equal("held", (await RowAsync()).GetProperty("state").GetString());
        await admin.RunIsAsync(await BegunAsync("/api/replicas/harbour-hill/resume", new { group = false }), "done");
        await admin.RunIsAsync(await BegunAsync("/api/replicas/harbour-hill/remove", new { }), "done");
        Assert.Equal("ended", (await RowAsync()).GetProperty("state").GetString());
        Assert.Empty(Directory.EnumerateFileSystemEntries(Spare));
        Assert.Equal(1, await cluster.AskAsync<long>("select count(*) from pg_replication_slots"));

        // Another takes over when the primary is gone; that it is ours now means that we start it again.
        await admin.RunIsAsync(await SetUpAsync("harbour-two", "spare"), "done");
        cluster.Kill();
        await admin.RunIsAsync(await TakeOverAsync("harbour-two"), "done");
        var port = Instance.Find(Path.Combine(Spare, "harbour-two"))!.Now.Port;
        EndEngine("harbour-two");
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/clusters"))[0] is var c && c.GetProperty("timeline").GetInt32() == 2 && c.GetProperty("port").GetInt32() == port && c.GetProperty("problem").ValueKind == JsonValueKind.Null, 60, () => server.Said);
        await using var primary = await cluster.OpenAsync(port);
        Assert.Equal(21, await primary.AskAsync<long>("select count(*) from imbrek_trail", default));
        Assert.False(await primary.AskAsync<bool>("select pg_is_in_recovery()", default));
        await primary.CloseAsync();
        EndEngine("harbour-two");
    }

    private static object Asked(string id, string host) => new { replica = new { id, database = "harbour", host, mode = "async", promoteSeconds = 4, watchSeconds = 1 }, group = (string?)null };

    private Task<string> SetUpAsync(string id, string host) => BegunAsync("/api/replicas", Asked(id, host));

    private async Task<string> BegunAsync(string path, object body)
    {
        var (status, begun) = await admin.PostAsync(path, body);
        Assert.True(status == 201, begun.ToString());
        return begun.GetProperty("id").GetString()!;
    }

    /// <summary>Ends an engine as the kernel does when there is no memory left.</summary>
    private void EndEngine(string name)
    {
        using var first = Process.GetProcessById(int.Parse(File.ReadLines(Path.Combine(Spare, name, "data", "postmaster.pid")).First(), System.Globalization.CultureInfo.InvariantCulture));
        first.Kill(entireProcessTree: true);
        first.WaitForExit();
    }

    private static object Standby(int port, string replica = "harbour-hill") =>
        new { replica, address = "127.0.0.1", port, user = (string?)null, credential = (string?)null, site = "hill", host = (string?)null, promoteSeconds = 4, watchSeconds = 1 };

    private async Task<JsonElement> RowAsync() => (await admin.GetAsync("/api/replicas/harbour-hill")).GetProperty("row");

    /// <summary>Asks for a take over, and has a second person approve it where it asks for one.</summary>
    private async Task<string> TakeOverAsync(string replica = "harbour-hill")
    {
        const string Words = "a-long-password-1";
        var (_, made) = await admin.PostAsync("/api/people", new { name = "nils", displayName = "Nils", roles = new[] { "approve" } });
        using (var nobody = new Session(server.Url))
        {
            await nobody.PostAsync("/api/welcome", new { code = made.GetProperty("path").GetString()!.Split('#')[1], password = Words });
        }

        using var nils = await Session.SignInAsync(server.Url, "nils", Words);
        var (status, begun) = await admin.PostAsync($"/api/replicas/{replica}/take-over", new { host = (string?)null });
        Assert.True(status == 201, begun.ToString());
        var id = begun.GetProperty("id").GetString()!;
        await Eventually.Async(async () =>
        {
            var run = await admin.GetAsync($"/api/runs/{id}");
            if (run.GetProperty("steps").EnumerateArray().FirstOrDefault(s => s.GetProperty("choices").GetArrayLength() > 0) is { ValueKind: JsonValueKind.Object } asks)
            {
                await nils.PostAsync($"/api/runs/{id}/approve", new { step = asks.GetProperty("number").GetInt32(), choice = "approve" });
            }

            return run.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null;
        });
        return id;
    }

    private async Task ReceivedAsync(Session? by = null)
    {
        var wanted = Log.Lsn.Parse(await cluster.AskAsync<string>("select pg_current_wal_flush_lsn()::text"));
        await Eventually.Async(
            async () => (await (by ?? admin).GetAsync("/api/clusters"))[0] is var c && c.GetProperty("position").GetString() is { } p && Log.Lsn.Parse(p) >= wanted && c.GetProperty("problem").ValueKind == JsonValueKind.Null,
            what: () => server.Said);
    }

    private async Task<string> FullAsync()
    {
        var plan = JsonNode.Parse("""
            {"id": "minutes", "name": "By hand", "members": {"databases": ["harbour"]},
             "tasks": [{"id": "full", "kind": "full", "recurrence": {"words": "Sundays 01:00"}, "store": "shelf", "keep": {"forSeconds": 86400}}]}
            """)!;
        var (saved, why) = await admin.PutAsync("/api/plans/minutes?basedOn=0", plan);
        Assert.True(saved is 200 or 201, why.ToString());
        var (status, body) = await admin.PostAsync("/api/runs", new { plan = "minutes", task = "full", database = "harbour", outsideChain = false, at = (string?)null });
        Assert.True(status == 201, body.ToString());
        var run = body.GetProperty("id").GetString()!;
        await admin.RunIsAsync(run, "done");
        return run;
    }

    [Fact]
    public async Task A_cluster_is_added_whole_or_not_at_all_and_its_password_stands_nowhere()
    {
        Assert.Equal((409, "address"), Session.Fault(await admin.PostAsync("/api/clusters", Request(port: 1))));
        Assert.Equal((409, "address"), Session.Fault(await admin.PostAsync("/api/clusters", Request(credential: "another"))));
        Assert.Equal((400, "credential"), Session.Fault(await admin.PostAsync("/api/clusters", Request(credential: "p@ss word"))));
        Assert.Equal(0, (await admin.GetAsync("/api/clusters")).GetArrayLength());
        Assert.Equal(0, (await admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32());
        await AddAsync();
        Assert.Equal((409, "database"), Session.Fault(await admin.PostAsync("/api/clusters", Request())));

        var seen = new List<string>();
        using var enough = new CancellationTokenSource();
        var watching = Task.Run(async () =>
        {
            using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(20));
            while (!enough.IsCancellationRequested)
            {
                foreach (var process in Directory.EnumerateDirectories("/proc").Where(p => char.IsAsciiDigit(Path.GetFileName(p)[0])))
                {
                    try
                    {
                        seen.Add(await File.ReadAllTextAsync(Path.Combine(process, "cmdline")));
                    }
                    catch (Exception e) when (e is IOException or UnauthorizedAccessException)
                    {
                        // It ended while it was looked at.
                    }
                }

                await timer.WaitForNextTickAsync();
            }
        });
        await FullAsync();
        await enough.CancelAsync();
        await watching;
        Assert.Contains(seen, s => s.Contains("pg_basebackup", StringComparison.Ordinal));
        Assert.DoesNotContain(seen, s => s.Contains(Password, StringComparison.Ordinal));
        var kept = new Npgsql.NpgsqlConnectionStringBuilder(server.ConnectionString);
        var dump = await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_dump"), ["-h", kept.Host!, "-p", $"{kept.Port}", "-U", kept.Username!, "-f", Path.Combine(home, "dump"), kept.Database!], default);
        Assert.DoesNotContain(Password, dump + await File.ReadAllTextAsync(Path.Combine(home, "dump")) + server.Said + await admin.GetTextAsync("/api/export/fleet") + await admin.GetTextAsync("/api/export/catalogue") + await admin.GetTextAsync("/api/clusters"), StringComparison.Ordinal);

        // What is exported is read by the same readers as any fleet, and computed with.
        var fleet = Core.Formats.FleetFile.Read(System.Text.Encoding.UTF8.GetBytes(await admin.GetTextAsync("/api/export/fleet")), "fleet");
        Assert.Empty(fleet.Faults);
        await ReceivedAsync();
        var catalogue = Core.Formats.CatalogueFile.Read(System.Text.Encoding.UTF8.GetBytes(await admin.GetTextAsync("/api/export/catalogue")), "catalogue", fleet.Value!);
        Assert.Empty(catalogue.Faults);
        var subject = Core.Recovery.RecoverySubject.Of(fleet.Value!, fleet.Value!.Databases[0], catalogue.Value!.Of(new("harbour")));
        var now = NodaTime.SystemClock.Instance.GetCurrentInstant();
        Assert.True(Core.Recovery.Evaluator.RecoverableAt(subject, Core.Objectives.Loss.OfKind(Core.Objectives.LossKind.Host), now)[^1].To > now - NodaTime.Duration.FromSeconds(30));
        Assert.Contains("harbour-key", await File.ReadAllTextAsync(Path.Combine(home, "dump")), StringComparison.Ordinal);
    }

    [Fact]
    public async Task Killed_at_any_step_a_restore_ends_once_and_leaves_neither_process_nor_slot_nor_half_a_backup()
    {
        await AddAsync();
        await FullAsync();
        await cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        await ReceivedAsync();
        var walked = NodaTime.SystemClock.Instance.GetCurrentInstant();
        await Eventually.Async(async () => NodaTime.Text.InstantPattern.ExtendedIso.Parse((await admin.GetAsync("/api/clusters"))[0].GetProperty("coversTo").GetString()!).Value > walked);
        var view = await admin.GetAsync("/api/databases/harbour");
        var latest = view.GetProperty("supposed").GetProperty("latest").GetString()!;
        var run = await admin.RestoreAsync("harbour", latest, "aside");
        var random = new Random(3);
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(10));
        for (var kills = 0; kills < Kills; kills++)
        {
            if (kills == Kills / 2)
            {
                await admin.RunIsAsync(run, "held");
                Assert.Equal(204, (await admin.PostAsync($"/api/runs/{run}/decide", new { choice = "release" })).Status);
            }

            for (var ticks = random.Next(60); ticks > 0; ticks--)
            {
                await timer.WaitForNextTickAsync();
            }

            await server.KillAsync();
            await server.RunAsync();
            admin.Dispose();
            admin = await Session.SignInAsync(server.Url, "admin");
        }

        await admin.RunIsAsync(run, "done");
        await ReceivedAsync();
        var there = Assert.Single(Directory.EnumerateDirectories(Spare));
        var instance = Instance.Find(there)!;
        Assert.True(instance.Now.Released && instance.Runs());
        await using (var client = await cluster.OpenAsync(instance.Now.Port))
        {
            Assert.Equal(20L, await client.AskAsync<long>("select count(*) from imbrek_trail", default));
        }

        Assert.Equal(1, await server.QueryAsync<long>($"select count(*) from ledger where kind = 'restore' and body like '%{run}%'"));
        Assert.Equal(1L, await cluster.AskAsync<long>("select count(*) from pg_replication_slots"));
        Assert.Equal(1, Postmasters(there));
        Assert.DoesNotContain(Directory.EnumerateDirectories(Path.Combine(home, "shelf", "harbour", "full")), d => Path.GetFileName(d).StartsWith('.'));
        var sets = (await admin.GetAsync("/api/databases/harbour/sets?take=500")).GetProperty("sets").EnumerateArray().Where(s => s.GetProperty("kind").GetString() == "log")
            .Select(s => (From: s.GetProperty("fromPosition").GetInt64(), To: s.GetProperty("toPosition").GetInt64())).OrderBy(s => s.From).ToArray();
        Assert.All(sets.Zip(sets.Skip(1)), p => Assert.Equal(p.First.To, p.Second.From));
    }

    [Fact]
    public async Task When_the_process_that_receives_is_gone_another_goes_on_within_ten_seconds_without_a_gap()
    {
        await AddAsync();
        await using var peer = await server.StartPeerAsync();
        using var other = await Session.SignInAsync(peer.Url, "admin");
        await ReceivedAsync(other);
        var fence = await server.QueryAsync<long>("select fence from clusters");
        await cluster.DoAsync("select imbrek_walk() from generate_series(1, 10)");
        await server.KillAsync();
        var gone = Stopwatch.StartNew();
        await cluster.DoAsync("select imbrek_walk() from generate_series(1, 10)");
        await ReceivedAsync(other);
        Assert.True(gone.Elapsed.TotalSeconds < 10, $"another went on after {gone.Elapsed.TotalSeconds:0.0} s");
        Assert.Equal(fence + 1, await server.QueryAsync<long>("select fence from clusters"));
        Assert.Equal(0, await server.QueryAsync<long>("select count(*) from (select from_position, lag(to_position) over (order by from_position) as before from backup_sets where kind = 5) s where before is not null and before <> from_position"));
    }

    [Fact]
    public async Task What_cannot_be_reached_is_said_at_once_as_a_finding_and_by_the_run_that_needed_it()
    {
        await AddAsync();
        var run = await FullAsync();
        await cluster.DownAsync();
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/findings?database=harbour")).GetProperty("rows").EnumerateArray().Any(f => f.GetProperty("code").GetString() == "log-not-received"), 15);
        var (status, body) = await admin.PostAsync("/api/runs", new { plan = "minutes", task = "full", database = "harbour", outsideChain = false, at = (string?)null });
        Assert.Equal(201, status);
        Assert.NotEqual(run, body.GetProperty("id").GetString());
        JsonElement seen = default;
        await Eventually.Async(async () => (seen = await admin.GetAsync($"/api/runs/{body.GetProperty("id").GetString()}")).GetProperty("steps")[0].GetProperty("note").GetString()?.Contains("does not answer", StringComparison.Ordinal) == true, what: () => seen.ToString());

        // The log that came before is there, and its commits can be listed, whatever became of the cluster.
        var at = (await admin.GetAsync("/api/clusters"))[0].GetProperty("coversTo").GetString()!;
        Assert.True((await admin.GetAsync($"/api/databases/harbour/commits?at={at}")).GetArrayLength() > 0);
        await cluster.UpAsync();
        await ReceivedAsync();
        await Eventually.Async(
            async () => (await admin.GetAsync("/api/findings?database=harbour")).GetProperty("rows").EnumerateArray().All(f => f.GetProperty("code").GetString() != "log-not-received"), 15);
    }

    private static int Postmasters(string folder) => Directory.EnumerateDirectories("/proc").Where(p => char.IsAsciiDigit(Path.GetFileName(p)[0])).Count(p =>
    {
        try
        {
            return File.ReadAllText(Path.Combine(p, "cmdline")).Contains($"{folder}/data", StringComparison.Ordinal);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    });
}
