using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Formats;
using NodaTime;
using Xunit;
using static Imbrek.Server.Tests.Occurrences;

namespace Imbrek.Server.Tests;

/// <summary>Processes that share a world of their own are killed at any step: each occurrence runs once, and what was under way is finished.</summary>
public class KilledProcessesTests
{
    /// <summary>How often a process is killed; a hundred times when asked for by hand.</summary>
    private static readonly int Kills = int.Parse(Environment.GetEnvironmentVariable("IMBREK_KILLS") ?? "2", CultureInfo.InvariantCulture);

    /// <summary>Asks whichever process answers and leads the world.</summary>
    private static async Task<Session> LeaderAsync(params ServerProcess[] servers)
    {
        Session? leader = null;
        await Eventually.Async(async () =>
        {
            foreach (var s in servers)
            {
                try
                {
                    var session = await Session.SignInAsync(s.Url, "admin");
                    if ((await session.PostAsync("/api/world/pace", new { pace = 900 })).Status == 204)
                    {
                        leader = session;
                        return true;
                    }

                    session.Dispose();
                }
                catch (HttpRequestException)
                {
                    // It was killed, or is not up yet.
                }
            }

            return false;
        });
        return leader!;
    }

    /// <summary>Any process that answers, whether it leads the world or not.</summary>
    private static async Task<(int Status, JsonElement Body)> AskAnyAsync(Random random, ServerProcess[] servers, string path, Func<Instant, object> body)
    {
        (int Status, JsonElement Body) answer = default;
        await Eventually.Async(async () =>
        {
            try
            {
                using var session = await Session.SignInAsync(servers[random.Next(servers.Length)].Url, "admin");
                answer = await session.PostAsync(path, body(await NowAsync(session)));
                return answer.Status is < 500;
            }
            catch (HttpRequestException)
            {
                return false;
            }
        });
        return answer;
    }

    [Theory]
    [InlineData(2, Explicit = true)]
    [InlineData(3)]
    public async Task Processes_killed_again_and_again_lose_no_run_and_start_none_twice(int processes)
    {
        await using var first = await ServerProcess.StartAsync(demo: true, days: 2);
        await using var peers = new Together();
        while (peers.Count + 1 < processes)
        {
            peers.Add(await first.StartPeerAsync());
        }

        ServerProcess[] servers = [first, .. peers];
        Instant begun;
        using (var session = await LeaderAsync(servers))
        {
            begun = await NowAsync(session);
        }

        var random = new Random(20_261 + processes);
        var (asked, ended) = (new List<string>(), new List<string>());
        for (var kill = 0; kill < Kills; kill++)
        {
            using var session = await LeaderAsync(servers);

            // Somebody asks any of the processes for a run at a time to come, and takes back another.
            string[] tasks = ["full", "differential", "log"];
            foreach (var (list, minutes) in new[] { (asked, random.Next(60, 180)), (ended, 24 * 60 * 300) })
            {
                var (status, made) = await AskAnyAsync(random, servers, "/api/runs", now => new
                {
                    plan = "counters",
                    task = tasks[random.Next(3)],
                    database = "passes",
                    outsideChain = false,
                    at = Instants.Write(now + Duration.FromMinutes(minutes) + Duration.FromMilliseconds(kill)),
                });
                Assert.True(status == 201, $"{status}: {made}");
                list.Add(made.GetProperty("id").GetString()!);
            }

            Assert.Equal(204, (await AskAnyAsync(random, servers, $"/api/runs/{ended[^1]}/cancel", _ => new { })).Status);

            // Some way into the next minutes of the world, wherever that is; most often the process that leads, sometimes another.
            var until = await NowAsync(session) + Duration.FromMinutes(random.Next(5, 90));
            await Eventually.Async(async () => await NowAsync(session) > until);
            var victim = random.Next(4) == 0 ? servers[random.Next(processes)] : servers.Single(s => s.Url == session.Http.BaseAddress!.ToString().TrimEnd('/'));
            await victim.KillAsync();
            await victim.RunAsync(usable: false);
        }

        using (var session = await LeaderAsync(servers))
        {
            var last = await AssertEachOccurrenceRanOnceAsync(first, session, begun);
            Assert.True(last - begun > Duration.FromHours(Kills / 6.0), $"only {last - begun} passed");

            // A hundred kills are weeks of the world, in which a store may fill up: that is an end as good as any, and no doing of ours.
            foreach (var (list, state) in new[] { (asked, "state in (4, 6) or coalesce(note, '') like 'store % is full%'"), (ended, "state = 7") })
            {
                var ids = string.Join(',', list.Select(i => $"'{i}'"));
                Assert.Equal(list.Count, (int)await first.QueryAsync<long>($"select count(*) from runs where id in ({ids})"));
                Assert.Empty(await ReadAsync(first, $"select id || ' ' || task || ' ' || state || ': ' || coalesce(note, '') from runs where id in ({ids}) and due < '{Instants.Write(last)}' and not ({state})"));
            }

            await Eventually.Async(async () => await first.QueryAsync<long>("select count(*) from runs where cancelled_by = 'admin' and state = 7") == ended.Count);
        }
    }

    [Fact]
    public async Task A_replica_that_is_set_up_and_one_that_takes_over_survive_the_death_of_whichever_process_is_at_it()
    {
        await using var first = await ServerProcess.StartAsync(demo: true, days: 2);
        await using var peers = new Together();
        peers.Add(await first.StartPeerAsync());
        ServerProcess[] servers = [first, peers[0]];
        string setUp, takeOver;
        using (var session = await LeaderAsync(servers))
        {
            await session.PaceAsync(60);
            setUp = (await session.PostAsync("/api/replicas", new { replica = new { id = "berth-hill", database = "berth-plan", host = "hill-h1", mode = "async", keepLogSeconds = 86_400 }, group = (string?)null })).Body.GetProperty("id").GetString()!;
            takeOver = (await session.PostAsync("/api/replicas/gate-scans-hill/take-over", new { host = (string?)null })).Body.GetProperty("id").GetString()!;
        }

        // Each kill falls on another step: after so many of both have begun.
        var random = new Random(7);
        for (var kill = 0; kill < Kills - 1; kill++)
        {
            using var session = await LeaderAsync(servers);
            await session.PaceAsync(60);
            var until = await NowAsync(session) + Duration.FromSeconds(random.Next(1, 90));
            await Eventually.Async(async () => await NowAsync(session) > until);
            var victim = servers.Single(s => s.Url == session.Http.BaseAddress!.ToString().TrimEnd('/'));
            await victim.KillAsync();
            await victim.RunAsync(usable: false);
        }

        using (var session = await LeaderAsync(servers))
        using (var second = await Session.SignInAsync(session.Http.BaseAddress!.ToString(), "approve"))
        {
            // Where the last look lay some time back something may be lost, and somebody else is asked.
            await Eventually.Async(async () =>
            {
                var run = await session.GetAsync($"/api/runs/{takeOver}");
                if (run.GetProperty("steps").EnumerateArray().FirstOrDefault(s => s.GetProperty("choices").GetArrayLength() > 0) is { ValueKind: JsonValueKind.Object } asks)
                {
                    await second.PostAsync($"/api/runs/{takeOver}/approve", new { step = asks.GetProperty("number").GetInt32(), choice = "approve" });
                }

                return run.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null;
            });
            Assert.EndsWith("branch 2 is the live one", (await session.RunIsAsync(takeOver, "done")).GetProperty("run").GetProperty("note").GetString(), StringComparison.Ordinal);
            Assert.Equal("berth-hill is in step and proved", (await session.RunIsAsync(setUp, "done")).GetProperty("run").GetProperty("note").GetString());
            var fleet = await session.FleetAsync();
            var gates = fleet.DatabaseById[new("gate-scans")];
            Assert.Equal("hill-h1", gates.Host.Value);
            Assert.Equal(2, Assert.Single(gates.Branches).Id);
            Assert.Equal(1, await first.QueryAsync<long>("select count(*) from ledger where kind = 'take-over'"));

            // The first base of the new branch is there once, and log goes on after it.
            await Eventually.Async(async () => await first.QueryAsync<long>("select count(*) from backup_sets where database = 'gate-scans' and branch = 2 and kind = 5") > 3);
        }
    }

    /// <summary>Processes that end together, also when a test fails.</summary>
    private sealed class Together : List<ServerProcess>, IAsyncDisposable
    {
        public async ValueTask DisposeAsync()
        {
            foreach (var process in this)
            {
                await process.DisposeAsync();
            }
        }
    }
}
