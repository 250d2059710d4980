using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>What a process holds of what is kept.</summary>
public sealed class FleetStateTests
{
    [Fact]
    public async Task Whoever_reads_notes_at_the_same_time_what_was_written_last_is_what_is_known()
    {
        await using var s = await ActingServer.StartAsync(ActingServer.TheFleet(), []);
        Id<Replica>[] replicas = [.. Enumerable.Range(0, 6).Select(i => new Id<Replica>($"r{i}"))];
        for (var round = 0; round < 60; round++)
        {
            var holds = round % 2 == 0;
            await Task.WhenAll(replicas.Select(r => Task.Run(() => HoldAsync(r, holds ? "a drill" : null))));
            Assert.All(replicas, r => Assert.Equal(holds ? "a drill" : null, s.Fleet.NoteOf(r).HeldBy));
        }

        // As runs do that begin and end at the same moment.
        async Task HoldAsync(Id<Replica> replica, string? who)
        {
            await using (var command = s.Source.CreateCommand("insert into replica_notes (replica, held_by) values ($1, $2) on conflict (replica) do update set held_by = excluded.held_by"))
            {
                command.Parameters.AddWithValue(replica.Value);
                command.Parameters.AddWithValue(NpgsqlTypes.NpgsqlDbType.Text, (object?)who ?? DBNull.Value);
                await command.ExecuteNonQueryAsync();
            }

            await using var context = ImbrekDatabase.Context(s.Source);
            await s.Fleet.LoadNotesAsync(context, default);
        }
    }
}
