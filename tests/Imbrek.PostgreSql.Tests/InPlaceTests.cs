using System.Net;
using System.Net.Sockets;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using NodaTime;
using Npgsql;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A cluster whose data folder is changed for what was restored, where that goes wrong.</summary>
public class InPlaceTests
{
    [Fact]
    public async Task What_does_not_go_on_in_its_place_is_taken_out_again_and_what_was_there_is_back()
    {
        await using var h = await Harbour.StartAsync();
        await h.WaitAsync(() => h.Now is not null, "receiving");
        await h.FullAsync();
        await h.Cluster.DoAsync("select imbrek_walk() from generate_series(1, 10)");
        await h.CaughtUpAsync();
        var (instance, call) = (default(InstanceSpec)!, default(RunCall)!);
        var (trail, moved, _) = await h.RestoreAsync(new LogStop(h.Now!.CoversTo!.Value), "back", (i, c) => (instance, call) = (i, c));
        Assert.Equal(10, trail.Count);
        await h.Cluster.DoAsync("select imbrek_walk() from generate_series(1, 5)");
        var walked = SystemClock.Instance.GetCurrentInstant();
        await h.CaughtUpAsync();
        await h.StopReceivingAsync();
        var replicate = new PostgreSqlReplicateDriver(h, SystemClock.Instance);

        // Nothing takes the place of what people still use.
        Assert.Equal(DriverProblem.Refused, (await Assert.ThrowsAsync<DriverException>(() => h.Restore.PlaceAsync(call, instance, default))).Problem);
        await replicate.ShutOutAsync(call, instance.Database, null, default);
        Assert.Contains("by another run", (await Assert.ThrowsAsync<DriverException>(() => replicate.ShutOutAsync(new(Guid.NewGuid(), 1), instance.Database, Guid.NewGuid(), default))).Message, StringComparison.Ordinal);
        await Assert.ThrowsAnyAsync<NpgsqlException>(() => h.Cluster.OpenAsync());
        Assert.Equal(15L, await HeldAsync());

        // Somebody has its port: it cannot go on there, and what was there is back, still with nobody in it.
        using (var other = new TcpListener(IPAddress.Loopback, h.Cluster.Port))
        {
            other.Start();
            var no = await Assert.ThrowsAsync<DriverException>(() => h.Restore.PlaceAsync(call, instance, default));
            Assert.Contains("what was there is back", no.Message, StringComparison.Ordinal);
            Assert.Equal(15L, await HeldAsync());
        }

        // Once it can, it does, with the settings that hold now; asked again, it says the same.
        await Tools.RunAsync("sh", ["-c", $"echo \"cluster_name = 'as it is now'\" >> {Path.Combine(h.Cluster.Data, "postgresql.auto.conf")}"], default, asEngine: true);
        var made = await h.Restore.PlaceAsync(call, instance, default);
        Assert.Equal((2, 1), (made.Branch.Id, made.Branch.Parent));
        Assert.Equal(moved.Reached, made.Branch.ForkAt);
        var again = await h.Restore.PlaceAsync(call, instance, default);
        Assert.Equal((made.Branch, made.Seconds), (again.Branch, again.Seconds));
        Assert.Equal(10L, await h.Cluster.AskAsync<long>("select count(*) from imbrek_trail"));
        Assert.Equal("as it is now", await h.Cluster.AskAsync<string>("show cluster_name"));
        Assert.Equal(1L, await h.Cluster.AskAsync<long>("select count(*) from pg_replication_slots"));
        Assert.Empty(Directory.EnumerateDirectories(h.Instances));
        Assert.False(Directory.Exists(KeptOut.SocketOf(h.Cluster.Data)));
        Assert.False(File.Exists(Path.Combine(h.Cluster.Data, "pg_hba_aside.conf")));

        // What is received now goes on in the branch that began, from where it left.
        h.Receive();
        await h.Cluster.DoAsync("select imbrek_walk()");
        await h.CaughtUpAsync();
        var (timeline, parent, at, forkAt) = Assert.Single(h.Branches);
        Assert.Equal((2, 1, made.Branch.ForkPosition), (timeline, parent, at.Value));
        Assert.InRange(forkAt, made.Branch.ForkAt, walked);
        Assert.Contains(h.Sets, s => s.Branch == 2 && s.FromPosition == made.Branch.ForkPosition);

        async Task<long> HeldAsync()
        {
            await using var connection = await Connections.OpenAsync(((IClusterBook)h).Cluster(instance.Database), default, "postgres");
            return await connection.AskAsync<long>("select count(*) from imbrek_trail", default);
        }
    }
}
