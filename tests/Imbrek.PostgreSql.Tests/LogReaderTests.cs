using Imbrek.PostgreSql.Log;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>The reader of the log beside the engine's own, which is the judge.</summary>
public class LogReaderTests
{
    private static async Task<(byte[] Log, Lsn From, Lsn To, string Folder, TestCluster Cluster)> WrittenAsync()
    {
        var cluster = await TestCluster.StartAsync();
        await cluster.DoAsync(Drivers.Trail.Make);
        var from = Lsn.Parse(await cluster.AskAsync<string>("select pg_switch_wal()::text"));
        from = new Segments(1 << 20).StartOf(new(from.Value + (1 << 20) - 1));
        await cluster.DoAsync("create table t (a int, b text); insert into t select i, repeat('x', i % 3000) from generate_series(1, 3000) i");
        for (var i = 0; i < 40; i++)
        {
            await cluster.DoAsync("select imbrek_walk()");
            await cluster.DoAsync(i % 10 == 3 ? "select pg_switch_wal()" : "begin; savepoint s; insert into t values (1, 'y'); release s; commit");
            await cluster.DoAsync("begin; select pg_logical_emit_message(true, 'imbrek', 'never told'); rollback");
        }

        await cluster.DoAsync("select pg_logical_emit_message(true, 'imbrek', 'before the change')");
        var to = Lsn.Parse(await cluster.AskAsync<string>("select pg_current_wal_flush_lsn()::text"));
        var segments = new Segments(1 << 20);
        var log = new List<byte>();
        foreach (var start in segments.Over(from, to))
        {
            log.AddRange((await File.ReadAllBytesAsync(Path.Combine(cluster.Data, "pg_wal", segments.NameOf(1, start)))).Take((int)Math.Min(1 << 20, to.Value - start.Value)));
        }

        return ([.. log], from, to, Path.Combine(cluster.Data, "pg_wal"), cluster);
    }

    [Fact]
    public async Task Finds_the_same_commits_as_the_engine_does_however_the_bytes_come()
    {
        var (log, from, to, folder, cluster) = await WrittenAsync();
        await using var _ = cluster;
        var wanted = await TestCluster.CommitsAsync(folder, 1, from.ToString(), to.ToString());
        foreach (var most in new[] { int.MaxValue, 1, 7, 8192, 100_003 })
        {
            var (found, random, at) = (new List<Commit>(), new Random(most), 0);
            var reader = new LogReader(new Segments(1 << 20), from) { OnCommit = found.Add };
            while (at < log.Length)
            {
                var some = Math.Min(log.Length - at, most == 1 || most == int.MaxValue ? most : random.Next(1, most));
                reader.Feed(log.AsSpan(at, some));
                at += some;
            }

            Assert.Equal(wanted.Select(w => (w.Position, w.Transaction)), found.Select(c => (c.Position.Value, c.Transaction)));
            Assert.All(wanted.Zip(found), p => Assert.Equal(p.First.At.Ticks, p.Second.At.ToDateTimeUtc().Ticks));
            Assert.Equal(to, reader.Position);
            Assert.Equal("before the change", found[^1].Name);
            Assert.Equal(Enumerable.Range(1, 40).Select(i => $"trail {i}"), found.Select(c => c.Name).OfType<string>().Where(n => n.StartsWith("trail", StringComparison.Ordinal)));
        }
    }

    [Fact]
    public async Task Any_bit_that_flips_in_what_was_written_is_noticed()
    {
        var (log, from, _, _, cluster) = await WrittenAsync();
        await using var __ = cluster;
        var records = new List<LogRecord>();
        new LogReader(new Segments(1 << 20), from) { OnRecord = records.Add }.Feed(log);
        var random = new Random(5);
        for (var i = 0; i < 200; i++)
        {
            // In the header of a record; behind it another page, for a length that grew is noticed where the next page says what it goes on with.
            var record = records[random.Next(records.FindLastIndex(r => r.Position.Value < (from.Value + log.Length) / 8192 * 8192))];
            var place = (int)(record.Position.Value - from.Value) + random.Next(24);
            var bad = (byte[])log.Clone();
            bad[place] ^= (byte)(1 << random.Next(8));
            var reader = new LogReader(new Segments(1 << 20), from);
            LogBrokenException? broken = null;
            try
            {
                reader.Feed(bad);
            }
            catch (LogBrokenException e)
            {
                broken = e;
            }

            Assert.True(broken is not null || reader.Ended, $"a bit at {record.Position} flipped unnoticed");
        }
    }
}
