using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.Bench;

/// <summary>What replicas cost the figures of a fleet: the same question with and without them, over the same sets, in one run.</summary>
internal static class ReplicaBench
{
    private const int Databases = 10_000, SetsEach = 100, StretchesEach = 100, Days = 8;

    public static void Run(Instant now, Action<string, string, string> row)
    {
        var fleet = FleetGenerator.WithReplicas(FleetGenerator.Fleet(Databases));
        var catalogues = fleet.Databases.Select(d => new DatabaseCatalogue(d.Id, FleetGenerator.Sets(d.Id, SetsEach, Days, now))).ToArray();
        GC.Collect();
        var before = GC.GetTotalMemory(true);
        var lags = fleet.ReplicaList.Select(r => new LagHistory(r.Id, FleetGenerator.Lag(r, StretchesEach, Days, now))).ToArray();
        var bytes = (GC.GetTotalMemory(true) - before) / (double)(Databases * StretchesEach);
        RecoverySubject[] with = [.. fleet.Databases.Select((d, i) => RecoverySubject.Of(fleet, d, catalogues[i].WithLag([lags[i]])))];
        RecoverySubject[] without = [.. with.Select(s => s.WithoutReplicas)];
        var (plain, all) = (double.MaxValue, double.MaxValue);
        for (var round = 0; round < 6; round++)
        {
            plain = Math.Min(plain, Worked(() => Worst(without)));
            all = Math.Min(all, Worked(() => Worst(with)));
        }

        row("the same five losses with 10,000 replicas and 1,000,000 stretches of lag, one core", $"{all:0.00} s, {all / plain:0.00} times the time without ({plain:0.00} s)", "at most 1.5 times");
        row("memory held per stretch of lag", $"{bytes:0} bytes", "");
        var watched = 0;
        var watch = Seconds(() => watched = with.AsParallel().Sum(s => s.Replicas.Count(r => Watch.Of(s, r, now) is { Seed: not null, CatchUpSeconds: not null })));
        row("how 10,000 replicas stand (figures of ./imbrek replicas, with how each would be seeded)", $"{watch:0.00} s", "under 1 s");
        if (watched != Databases)
        {
            throw new InvalidOperationException($"{watched} replicas were watched");
        }

        double Worst(RecoverySubject[] subjects) => subjects.Sum(s => Enum.GetValues<LossKind>().Sum(k => Evaluator.Over(s, Loss.OfKind(k), now - Duration.FromDays(7), now).WorstExposureSeconds ?? 0));
    }

    /// <summary>A sample of every replica, every ten seconds: made stretches of, and kept.</summary>
    public static async Task SamplesAsync(string server, Instant now, Action<string, string, string> row)
    {
        const int Rounds = 12, Warm = 2;
        await using var database = await BenchDatabase.CreateAsync(server);
        var fleet = FleetGenerator.WithReplicas(FleetGenerator.Fleet(Databases));
        var known = new Dictionary<Id<Replica>, LagWatch.Watched>();
        var (worked, waited) = (0.0, 0.0);
        for (var round = 0; round < Rounds; round++)
        {
            var (before, watch) = (Environment.CpuUsage.TotalTime, Stopwatch.StartNew());
            var at = now + Duration.FromSeconds(10 * round);
            var changed = new List<LagStretch>(Databases);
            foreach (var r in fleet.ReplicaList)
            {
                var last = known.GetValueOrDefault(r.Id);
                var next = LagWatch.Next(r, Instant.MinValue, last, new LagSample(r.Id, 1, at, at - Duration.FromSeconds(1 + (round % 3)), at - Duration.FromSeconds(3 + r.DelaySeconds), 4096, round, false));
                known[r.Id] = next;
                if (next.Stretch is { } stretch && stretch != last?.Stretch)
                {
                    changed.Add(stretch);
                }
            }

            await using var connection = await database.Source.OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            await LagTable.UpsertAsync(connection, changed, default);
            await transaction.CommitAsync();
            if (round >= Warm)
            {
                worked += (Environment.CpuUsage.TotalTime - before).TotalSeconds;
                waited += watch.Elapsed.TotalSeconds;
            }
        }

        var each = worked / (Rounds - Warm);
        row("a sample of 10,000 replicas every 10 s: made stretches of, and kept", $"{each:0.00} s of a processor each time, {each * 10:0.0} % of one core; {waited / (Rounds - Warm):0.00} s with PostgreSQL's part", "under a tenth of a core");
    }

    private static double Seconds(Action what)
    {
        var watch = Stopwatch.StartNew();
        what();
        return watch.Elapsed.TotalSeconds;
    }

    /// <summary>Seconds of a processor, so that whoever else is at the machine does not count.</summary>
    private static double Worked(Func<double> what)
    {
        var before = Environment.CpuUsage.UserTime;
        _ = what();
        return (Environment.CpuUsage.UserTime - before).TotalSeconds;
    }
}
