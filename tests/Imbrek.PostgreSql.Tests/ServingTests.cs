using System.Diagnostics;
using System.Text.Json;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Servers that protect a cluster: added, received from, restored, and killed meanwhile.</summary>
public sealed class ServingTests : ServedCluster
{
    /// <summary>How often the server is killed: five times in the suite, twenty by <c>./imbrek restores</c>.</summary>
    private static readonly int Kills = int.TryParse(Environment.GetEnvironmentVariable("IMBREK_KILLS"), out var n) ? n : 3;

    [Fact]
    public async Task A_cluster_is_added_whole_or_not_at_all_and_its_password_stands_nowhere()
    {
        Assert.Equal((409, "address"), Session.Fault(await Admin.PostAsync("/api/clusters", Request(port: 1))));
        Assert.Equal((409, "address"), Session.Fault(await Admin.PostAsync("/api/clusters", Request(credential: "another"))));
        Assert.Equal((400, "credential"), Session.Fault(await Admin.PostAsync("/api/clusters", Request(credential: "p@ss word"))));
        Assert.Equal(0, (await Admin.GetAsync("/api/clusters")).GetArrayLength());
        Assert.Equal(0, (await Admin.GetAsync("/api/fleet/version")).GetProperty("number").GetInt32());
        await AddAsync();
        Assert.Equal((409, "database"), Session.Fault(await Admin.PostAsync("/api/clusters", Request())));

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
        var kept = new Npgsql.NpgsqlConnectionStringBuilder(Server.ConnectionString);
        var dump = await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_dump"), ["-h", kept.Host!, "-p", $"{kept.Port}", "-U", kept.Username!, "-f", Path.Combine(Home, "dump"), kept.Database!], default);
        Assert.DoesNotContain(Password, dump + await File.ReadAllTextAsync(Path.Combine(Home, "dump")) + Server.Said + await Admin.GetTextAsync("/api/export/fleet") + await Admin.GetTextAsync("/api/export/catalogue") + await Admin.GetTextAsync("/api/clusters"), StringComparison.Ordinal);

        // What is exported is read by the same readers as any fleet, and computed with.
        var fleet = Core.Formats.FleetFile.Read(System.Text.Encoding.UTF8.GetBytes(await Admin.GetTextAsync("/api/export/fleet")), "fleet");
        Assert.Empty(fleet.Faults);
        await ReceivedAsync();
        var catalogue = Core.Formats.CatalogueFile.Read(System.Text.Encoding.UTF8.GetBytes(await Admin.GetTextAsync("/api/export/catalogue")), "catalogue", fleet.Value!);
        Assert.Empty(catalogue.Faults);
        var subject = Core.Recovery.RecoverySubject.Of(fleet.Value!, fleet.Value!.Databases[0], catalogue.Value!.Of(new("harbour")));
        var now = NodaTime.SystemClock.Instance.GetCurrentInstant();
        Assert.True(Core.Recovery.Evaluator.RecoverableAt(subject, Core.Objectives.Loss.OfKind(Core.Objectives.LossKind.Host), now)[^1].To > now - NodaTime.Duration.FromSeconds(30));
        Assert.Contains("harbour-key", await File.ReadAllTextAsync(Path.Combine(Home, "dump")), StringComparison.Ordinal);
    }

    [Fact]
    public async Task Killed_at_any_step_a_restore_ends_once_and_leaves_neither_process_nor_slot_nor_half_a_backup()
    {
        await AddAsync();
        await FullAsync();
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        await ReceivedAsync();
        var walked = NodaTime.SystemClock.Instance.GetCurrentInstant();
        await Eventually.Async(async () => NodaTime.Text.InstantPattern.ExtendedIso.Parse((await Admin.GetAsync("/api/clusters"))[0].GetProperty("coversTo").GetString()!).Value > walked);
        var view = await Admin.GetAsync("/api/databases/harbour");
        var latest = view.GetProperty("supposed").GetProperty("latest").GetString()!;
        var run = await Admin.RestoreAsync("harbour", latest, "aside");
        var random = new Random(3);
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(10));
        for (var kills = 0; kills < Kills; kills++)
        {
            if (kills == Kills / 2)
            {
                await Admin.RunIsAsync(run, "held");
                Assert.Equal(204, (await Admin.PostAsync($"/api/runs/{run}/decide", new { choice = "release" })).Status);
            }

            for (var ticks = random.Next(60); ticks > 0; ticks--)
            {
                await timer.WaitForNextTickAsync();
            }

            await DiesAsync();
        }

        await Admin.RunIsAsync(run, "done");
        await ReceivedAsync();
        var there = Assert.Single(Directory.EnumerateDirectories(Spare));
        var instance = Instance.Find(there)!;
        Assert.True(instance.Now.Released && instance.Runs());
        await using (var client = await Cluster.OpenAsync(instance.Now.Port))
        {
            Assert.Equal(20L, await client.AskAsync<long>("select count(*) from imbrek_trail", default));
        }

        Assert.Equal(1, await Server.QueryAsync<long>($"select count(*) from ledger where kind = 'restore' and body like '%{run}%'"));
        Assert.Equal(1L, await Cluster.AskAsync<long>("select count(*) from pg_replication_slots"));
        Assert.Equal(1, Postmasters(there));
        Assert.DoesNotContain(Directory.EnumerateDirectories(Path.Combine(Home, "shelf", "harbour", "full")), d => Path.GetFileName(d).StartsWith('.'));
        var sets = (await Admin.GetAsync("/api/databases/harbour/sets?take=500")).GetProperty("sets").EnumerateArray().Where(s => s.GetProperty("kind").GetString() == "log")
            .Select(s => (From: s.GetProperty("fromPosition").GetInt64(), To: s.GetProperty("toPosition").GetInt64())).OrderBy(s => s.From).ToArray();
        Assert.All(sets.Zip(sets.Skip(1)), p => Assert.Equal(p.First.To, p.Second.From));
    }

    [Fact]
    public async Task An_export_asked_for_by_hand_is_a_way_back_also_when_the_server_is_killed_on_it()
    {
        await AddAsync();
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 20)");
        Assert.False((await Admin.GetAsync("/api/databases/harbour/sees")).GetProperty("partial").GetBoolean());
        var (status, begun) = await Admin.PostAsync("/api/databases/harbour/copy", new { kind = "export", store = "shelf", compression = "light", key = (string?)null, why = "before the move" });
        Assert.True(status == 201, begun.ToString());
        await Admin.RunIsAsync(begun.GetProperty("id").GetString()!, "done");
        await Cluster.DoAsync("select imbrek_walk()");
        var export = (await Admin.GetAsync("/api/databases/harbour/sets?take=500")).GetProperty("sets").EnumerateArray().Single(s => s.GetProperty("kind").GetString() == "export");
        var reaches = export.GetProperty("coversTo").GetString()!;
        var run = await Admin.RestoreAsync("harbour", reaches, "aside");
        await DiesAsync();
        var held = await Admin.RunIsAsync(run, "held");
        Assert.All(held.GetProperty("restore").GetProperty("measured").GetProperty("checks").EnumerateArray(), c => Assert.True(c.GetProperty("passed").GetBoolean(), c.ToString()));
        Assert.Equal(204, (await Admin.PostAsync($"/api/runs/{run}/decide", new { choice = "release" })).Status);
        await Admin.RunIsAsync(run, "done");
        await using var client = await Cluster.OpenAsync(Instance.Find(Assert.Single(Directory.EnumerateDirectories(Spare)))!.Now.Port);
        Assert.Equal(20L, await client.AskAsync<long>("select count(*) from imbrek_trail", default));
        Assert.Equal(1, await Server.QueryAsync<long>($"select count(*) from ledger where kind = 'restore' and body like '%{run}%'"));
    }

    [Fact]
    public async Task When_the_process_that_receives_is_gone_another_goes_on_within_ten_seconds_without_a_gap()
    {
        await AddAsync();
        await using var peer = await Server.StartPeerAsync();
        using var other = await Session.SignInAsync(peer.Url, "admin");
        await ReceivedAsync(other);
        var fence = await Server.QueryAsync<long>("select fence from clusters");
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 10)");
        await Server.KillAsync();
        var gone = Stopwatch.StartNew();
        await Cluster.DoAsync("select imbrek_walk() from generate_series(1, 10)");
        await ReceivedAsync(other);
        Assert.True(gone.Elapsed.TotalSeconds < 10, $"another went on after {gone.Elapsed.TotalSeconds:0.0} s");
        Assert.Equal(fence + 1, await Server.QueryAsync<long>("select fence from clusters"));
        Assert.Equal(0, await Server.QueryAsync<long>("select count(*) from (select from_position, lag(to_position) over (order by from_position) as before from backup_sets where kind = 5) s where before is not null and before <> from_position"));
    }

    [Fact]
    public async Task What_cannot_be_reached_is_said_at_once_as_a_finding_and_by_the_run_that_needed_it()
    {
        await AddAsync();
        var run = await FullAsync();
        await Cluster.DownAsync();
        await Eventually.Async(
            async () => (await Admin.GetAsync("/api/findings?database=harbour")).GetProperty("rows").EnumerateArray().Any(f => f.GetProperty("code").GetString() == "log-not-received"), 15);
        var (status, body) = await Admin.PostAsync("/api/runs", new { plan = "minutes", task = "full", database = "harbour", outsideChain = false, at = (string?)null });
        Assert.Equal(201, status);
        Assert.NotEqual(run, body.GetProperty("id").GetString());
        JsonElement seen = default;
        await Eventually.Async(async () => (seen = await Admin.GetAsync($"/api/runs/{body.GetProperty("id").GetString()}")).GetProperty("steps")[0].GetProperty("note").GetString()?.Contains("does not answer", StringComparison.Ordinal) == true, what: () => seen.ToString());

        // The log that came before is there, and its commits can be listed, whatever became of the Cluster.
        var at = (await Admin.GetAsync("/api/clusters"))[0].GetProperty("coversTo").GetString()!;
        Assert.True((await Admin.GetAsync($"/api/databases/harbour/commits?at={at}")).GetArrayLength() > 0);
        await Cluster.UpAsync();
        await ReceivedAsync();
        await Eventually.Async(
            async () => (await Admin.GetAsync("/api/findings?database=harbour")).GetProperty("rows").EnumerateArray().All(f => f.GetProperty("code").GetString() != "log-not-received"), 15);
    }
}
