using System.Collections.Concurrent;
using System.Globalization;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Demo;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drills;
using Imbrek.PostgreSql.Drivers;
using NodaTime;
using Npgsql;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>Roles of real clusters change under a workload that reaches them through a relay; what its clients were told is the judge of what the drill says.</summary>
public sealed class ClusterDrillTests
{
    /// <summary>How often roles change of each kind: once in the suite, twenty times by <c>./imbrek restores</c>.</summary>
    private static readonly int Times = int.TryParse(Environment.GetEnvironmentVariable("IMBREK_KILLS"), out var n) ? n : 1;

    private static readonly Id<Database> Database = new("harbour");

    private static Id<Replica> Replica(Harbour h, string id, string host)
    {
        h.Replicas[id] = new Replica { Id = new(id), Database = Database, Place = new ReplicaPlace.OnHost(new(host)), Mode = ReplicaMode.Async };
        return new(id);
    }

    /// <summary>Clients that walk the trail through the relay, and ask again when they are cut off; what each was told, and when.</summary>
    private sealed class Clients : IAsyncDisposable
    {
        private readonly CancellationTokenSource ending = new();
        private readonly Task[] walking;

        public Clients(int port) => walking = [.. Enumerable.Range(0, 2).Select(_ => Task.Run(() => WalkAsync(port)))];

        public ConcurrentBag<(long Number, Instant Told)> Told { get; } = [];

        public async Task EndAsync()
        {
            await ending.CancelAsync();
            await Task.WhenAll(walking);
        }

        public async ValueTask DisposeAsync()
        {
            await EndAsync();
            ending.Dispose();
        }

        private async Task WalkAsync(int port)
        {
            using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(50));
            while (!ending.IsCancellationRequested)
            {
                try
                {
                    await using var connection = new NpgsqlConnection($"Host=127.0.0.1;Port={port};Username=imbrek;Database=postgres;Pooling=false;Timeout=2;Command Timeout=2");
                    await connection.OpenAsync(ending.Token);
                    await using var walk = new NpgsqlCommand("select imbrek_walk()", connection);
                    while (await timer.WaitForNextTickAsync(ending.Token))
                    {
                        var number = (long)(await walk.ExecuteScalarAsync())!;
                        Told.Add((number, SystemClock.Instance.GetCurrentInstant()));
                    }
                }
                catch (Exception e) when (e is NpgsqlException or TimeoutException or OperationCanceledException or InvalidOperationException)
                {
                    // Cut off: it asks again.
                }
            }
        }
    }

    private static async Task<HashSet<long>> TrailAsync(Harbour h)
    {
        await using var connection = await h.Cluster.OpenAsync(h.Primary!.Port);
        return [.. await connection.RowsAsync("select n from imbrek_trail", r => r.GetInt64(0), default)];
    }

    /// <summary>The steps of a drill from the stop to clients that are back, as its runbook has them.</summary>
    private static async Task<(WritesStopped Stopped, MarkersPresent Present, Instant Back, Promotion Promotion)> ChangeRolesAsync(Harbour h, RunCall call, Id<Replica> to, string from, string host, bool lost)
    {
        var (drill, replicate) = (h.Drill, h.Replicate);
        var stopped = await drill.StopAsync(call, Database, lost ? to : null, null, default);
        Assert.Equal(stopped, await drill.StopAsync(call, Database, lost ? to : null, null, default));
        if (!lost)
        {
            await h.WaitAsync(() => drill.HoldsAllAsync(call, Database, to, default).Result is (true, true), "all received and applied");
        }

        Assert.False(await drill.TakesWritesAsync(call, Database, new(from), default));
        Assert.False(await drill.TakesWritesAsync(call, Database, new(host), default));
        var promotion = await replicate.PromoteAsync(call, to, new(host), null, default);
        Assert.True(await drill.TakesWritesAsync(call, Database, new(host), default));
        Assert.All(await drill.CheckAsync(call, Database, default), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        var present = await drill.MarkersAsync(call, Database, stopped.At, default);
        await drill.SendClientsAsync(call, Database, new(host), default);
        return (stopped, present, await drill.ClientsBackAsync(call, Database, stopped.At, default), promotion);
    }

    /// <summary>How far two that look on by themselves may be apart.</summary>
    private static readonly Duration Near = Duration.FromSeconds(2.5);

    [Fact]
    public async Task A_switchover_there_and_home_loses_nothing_and_clients_are_back_when_they_say_so()
    {
        await using var h = await Harbour.StartAsync();
        await using var relay = await AddressRelay.StartAsync(h.Addresses, "harbour", h.Cluster.Port, default);
        var (call, hill) = (new RunCall(Guid.NewGuid(), 1), Replica(h, "harbour-hill", "hill"));
        await h.Replicate.CopyAsync(call, hill, default);
        await using var clients = new Clients(relay.Port);
        await h.WaitAsync(() => clients.Told.Count > 5, "walking");
        var home = new Id<Replica>("harbour-home");
        for (var time = 0; time < Times; time++)
        {
            call = new(Guid.NewGuid(), 1);
            await h.Drill.BeginAsync(call, Database, new("hill"), default);
            foreach (var (to, from, host) in new[] { (hill, "home", "hill"), (home, "hill", "home") })
            {
                if (to == home)
                {
                    await h.Replicate.CopyAsync(call, Replica(h, "harbour-home", "home"), default);
                }

                var (stopped, present, back, _) = await ChangeRolesAsync(h, call, to, from, host, lost: false);
                Assert.True(stopped.Markers.Count > 0 && present.Count >= stopped.Markers.Count, $"{present.Count} of {stopped.Markers.Count} markers");
                await h.WaitAsync(() => clients.Told.Any(t => t.Told > back), "clients back");
                var first = clients.Told.Where(t => t.Told > stopped.At).Min(t => t.Told);

                // The drill saw them the first time it looked after they were back, and not the time before; a stop that is over within a second falls between two looks.
                var before = (await h.Drill.SeenAsync(call.Run, Database, default)).Where(s => !s.Clients && s.To < back).Select(s => s.To).Append(stopped.At).Max();
                Assert.True(first > before - Near && first < back + Near, $"clients say {first}, the drill says {back}, and not yet at {before}");
            }

            await h.Replicate.CopyAsync(call, hill, default);
            var seen = await h.Drill.SeenAsync(call.Run, Database, default);
            Assert.Equal(0, new DrillTrail(seen).BothWritable);
            Assert.Contains(seen, s => s.There && s.Clients && !s.Here);
            Assert.True(seen[0].Here && seen[^1] is { Here: true, There: false });
            await h.Drill.EndAsync(call, Database, default);

            // Asked again by whoever took the run up, it is over, and what was seen is still there.
            await h.Drill.EndAsync(call, Database, default);
            Assert.NotEmpty(await h.Drill.SeenAsync(call.Run, Database, default));
        }

        await clients.EndAsync();
        var trail = await TrailAsync(h);
        Assert.DoesNotContain(clients.Told, t => !trail.Contains(t.Number));
        Assert.Equal(Enumerable.Range(1, trail.Count).Select(i => (long)i), trail.Order());
    }

    [Fact]
    public async Task A_forced_one_kills_the_primary_loses_what_was_not_received_and_says_how_much()
    {
        await using var h = await Harbour.StartAsync();
        await using var relay = await AddressRelay.StartAsync(h.Addresses, "harbour", h.Cluster.Port, default);
        var (random, lostInAll) = (new Random(7), 0);
        var (from, to) = (("home", "harbour-home"), ("hill", "harbour-hill"));
        await h.Replicate.CopyAsync(new(Guid.NewGuid(), 1), Replica(h, to.Item2, to.Item1), default);
        await h.WaitAsync(() => h.Newest is not null, "received");
        await using var clients = new Clients(relay.Port);
        for (var time = 0; time < Times; time++)
        {
            var (call, before) = (new RunCall(Guid.NewGuid(), 1), clients.Told.Count);
            await h.Drill.BeginAsync(call, Database, new(to.Item1), default);
            await h.WaitAsync(() => clients.Told.Count > before + 5, "walking");

            // It receives nothing for a while, as on a link that is cut.
            await h.Replicate.HoldAsync(call, new(to.Item2), default);
            var cutAt = SystemClock.Instance.GetCurrentInstant();
            await h.WaitAsync(() => clients.Told.Max(t => t.Told) > cutAt + Duration.FromSeconds(2 + random.Next(2)), "cut");
            var stopped = await h.Drill.StopAsync(call, Database, new(to.Item2), null, default);
            var (again, present, back, promotion) = await ChangeRolesAsync(h, call, new(to.Item2), from.Item1, to.Item1, lost: true);
            Assert.Equal(stopped, again);

            // What clients had been told and is not there, is what the markers say, within the second between two of them.
            var trail = await TrailAsync(h);
            var missing = clients.Told.Where(t => t.Told <= stopped.At && !trail.Contains(t.Number)).ToArray();
            Assert.NotEmpty(missing);
            lostInAll += missing.Length;
            var really = stopped.At - missing.Min(m => m.Told);
            var said = stopped.At - Instant.Max(present.Last!.Value, promotion.Branch.ForkAt);
            Assert.True(Duration.FromSeconds(1.5) > (said > really ? said - really : really - said), $"clients lost {really}, the drill says {said}");
            Assert.True(stopped.Markers.Count > present.Count);
            await h.WaitAsync(() => clients.Told.Any(t => t.Told > back), "clients back");

            // The old side is taken back to where the new one begins, and follows; next time it goes the other way.
            await h.Replicate.CopyAsync(call, Replica(h, from.Item2, from.Item1), default);
            Assert.Equal(0, new DrillTrail(await h.Drill.SeenAsync(call.Run, Database, default)).BothWritable);
            await h.Drill.EndAsync(call, Database, default);
            (from, to) = (to, from);
        }

        Assert.True(lostInAll > 0);
    }

    [Fact]
    public async Task One_that_is_called_off_goes_on_where_it_was_and_one_that_is_taken_up_by_another_refuses_the_first()
    {
        await using var h = await Harbour.StartAsync();
        await using var relay = await AddressRelay.StartAsync(h.Addresses, "harbour", h.Cluster.Port, default);
        var (call, hill) = (new RunCall(Guid.NewGuid(), 1), Replica(h, "harbour-hill", "hill"));
        await h.Replicate.CopyAsync(call, hill, default);
        await h.Drill.BeginAsync(call, Database, new("hill"), default);

        // A folder of the same name on this machine, in which another engine runs, is not touched.
        await using (var connection = await h.Cluster.OpenAsync())
        {
            var (data, backend) = (await connection.AskAsync<string>("show data_directory", default), await connection.AskAsync<int>("select pg_backend_pid()", default));
            var began = long.Parse(File.ReadLines(Path.Combine(data, "postmaster.pid")).ElementAt(2), CultureInfo.InvariantCulture);
            bool Is(string folder, int process, long after, int port) => Postmaster.Is(folder, process, began + after, port);
            Assert.True(Is(data, backend, 0, h.Cluster.Port));
            // What the engine tells is when it was ready to begin, on a slow machine seconds after its process began.
            Assert.True(Is(data, backend, 1, h.Cluster.Port) && Is(data, backend, 20, h.Cluster.Port));
            Assert.False(Is(data, backend, -1, h.Cluster.Port) || Is(data, backend, 3600, h.Cluster.Port) || Is(data, backend, 0, h.Cluster.Port + 1) || Is(data, Environment.ProcessId, 0, h.Cluster.Port) || Is(Path.GetTempPath(), backend, 0, h.Cluster.Port));
        }

        // Kept to the millisecond, which it may have been tried in.
        var before = Core.Formats.Instants.Floor(SystemClock.Instance.GetCurrentInstant());
        var stopped = await h.Drill.StopAsync(call, Database, null, null, default);
        Assert.False(await h.Drill.TakesWritesAsync(call, Database, new("home"), default));

        // The server was killed after it had stopped the engine and before it could keep that: it stopped when it was first tried, not when it is found.
        var kept = KeptDrill.Find([h.Instances], call.Run)!;
        await kept.KeepAsync(kept.Now with { Stops = new Dictionary<int, string>() }, default);
        var again = await h.Drill.StopAsync(call, Database, null, null, default);
        Assert.InRange(again.At, before, stopped.At + Duration.FromSeconds(1));
        Assert.Equal(stopped.Markers, again.Markers);
        await h.Drill.GoOnAsync(call, Database, null, default);
        await h.WaitAsync(() => h.Drill.TakesWritesAsync(call, Database, new("home"), default).Result, "writable again");
        await h.WaitAsync(() => h.Cluster.AskAsync<bool>("select exists (select 1 from pg_stat_replication where state = 'streaming')").Result, "followed again");

        var later = call with { Fence = 2 };
        Assert.True(await h.Drill.TakesWritesAsync(later, Database, new("home"), default));
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => h.Drill.StopAsync(call, Database, null, null, default))).Problem);
        Assert.True(await h.Drill.TakesWritesAsync(later, Database, new("home"), default));
        await h.Drill.EndAsync(later, Database, default);
    }
}
