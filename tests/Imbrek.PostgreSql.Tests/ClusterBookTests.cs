using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Serving;
using Imbrek.Server.State;
using Imbrek.Server.Tests;
using Microsoft.Extensions.Configuration;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>What a process knows of its clusters.</summary>
public class ClusterBookTests
{
    private static readonly Id<Database> Harbour = new("harbour");

    [Fact]
    public async Task What_was_changed_is_known_from_then_on_whoever_else_reads_meanwhile()
    {
        var connection = await ServerProcess.NewDatabaseAsync();
        try
        {
            await using var source = ImbrekDatabase.Source(connection);
            await ImbrekDatabase.MigrateAsync(source);
            var cluster = new ClusterSpec(Harbour.Value, "127.0.0.1", 5432, "keeper", "postgres", null, "shelf", 1L << 30);
            await using (var data = ImbrekDatabase.Context(source))
            {
                data.Clusters.Add(new() { Database = Harbour.Value, Document = ClusterBook.Write(cluster), AddedBy = "admin", AddedAt = NodaTime.SystemClock.Instance.GetCurrentInstant() });
                await data.SaveChangesAsync();
            }

            var book = new ClusterBook(source, new FleetState(source), new ConfigurationBuilder().Build());
            var over = false;
            async Task ReadAgainAndAgainAsync()
            {
                while (!Volatile.Read(ref over))
                {
                    await book.LoadAsync(default);
                }
            }

            Task[] readers = [.. Enumerable.Range(0, 4).Select(_ => ReadAgainAndAgainAsync())];
            try
            {
                for (var i = 0; i < 100; i++)
                {
                    var name = $"harbour-{i}";
                    await book.StandbyIsAsync(Harbour, new(name, "127.0.0.1", 6000 + i, "keeper", "postgres", null), default);

                    // As long as those may take who had begun to read before it was known.
                    for (var looks = 0; looks < 5; looks++)
                    {
                        Assert.Equal(6000 + i, book.Standby(new(name)).Standby.Port);
                        await using var command = source.CreateCommand("select 1");
                        await command.ExecuteScalarAsync();
                    }
                }
            }
            finally
            {
                Volatile.Write(ref over, true);
                await Task.WhenAll(readers);
            }
        }
        finally
        {
            await ServerProcess.DropDatabaseAsync(connection);
        }
    }
}
