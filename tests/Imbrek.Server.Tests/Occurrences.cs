using Imbrek.Core.Formats;
using Imbrek.Core.Timetable;
using NodaTime;
using NodaTime.Text;
using Npgsql;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>What should have run in a world, and what did.</summary>
internal static class Occurrences
{
    public static async Task<Instant> NowAsync(Session session) =>
        InstantPattern.ExtendedIso.Parse((await session.GetAsync("/api/clock")).GetProperty("now").GetString()!).Value;

    public static async Task<HashSet<string>> ReadAsync(ServerProcess server, string sql)
    {
        await using var connection = new NpgsqlConnection(server.ConnectionString);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await using var reader = await command.ExecuteReaderAsync();
        var found = new HashSet<string>();
        while (await reader.ReadAsync())
        {
            Assert.True(found.Add(reader.GetString(0)), $"twice: {reader.GetString(0)}");
        }

        return found;
    }

    /// <summary>Waits for what is under way, stops the clock and compares what ran with what the core expands; leaves aside the last two hours, in which runs may be under way.</summary>
    public static async Task<Instant> AssertEachOccurrenceRanOnceAsync(ServerProcess server, Session session, Instant begun)
    {
        var ended = await NowAsync(session) - Duration.FromHours(2);

        // What was interrupted is taken up when its lease has run out, in seconds of ours, and what waits its turn behind a week's base when that is done, in hours of the world: it goes on at its pace. What
        // people asked for may be held by them.
        await session.PaceAsync(600);
        var open = new HashSet<string>();
        await Eventually.Async(
            async () => (open = await ReadAsync(server, $"select concat_ws(' ', id, plan, task, database, state, started, note) from runs where state < 4 and asked_by is null and due < '{Instants.Write(ended)}'")).Count == 0,
            what: () => $"still open: {string.Join(", ", open)}");
        await session.PaceAsync(0);
        var fleet = await session.FleetAsync();
        var due = new List<long>();
        var expected = new HashSet<string>();
        foreach (var s in Series.Of(fleet))
        {
            due.Clear();
            s.Expand(begun.ToUnixTimeMilliseconds() + 1, ended.ToUnixTimeMilliseconds(), due);
            expected.UnionWith(due.Select(d => $"{s.Plan.Id}|{s.Task.Id}|{s.Database.Id}|{d}"));
        }

        // The key of the table sees to it that no occurrence has two; that a set has one run is asked below.
        string Between(string column) => $"{column} > '{Instants.Write(begun)}' and {column} < '{Instants.Write(ended)}'";
        var ran = await ReadAsync(
            server,
            $"select plan || '|' || task || '|' || database || '|' || (extract(epoch from due) * 1000)::bigint from runs where after_id is null and asked_by is null and {Between("due")}");
        Assert.NotEmpty(expected);
        Assert.Empty(expected.Except(ran));
        Assert.Empty(ran.Except(expected));
        Assert.Equal(0L, await server.QueryAsync<long>(
            $"select count(*) from backup_sets s where {Between("s.finished_at")} and not exists (select 1 from runs r where r.database = s.database and r.set_id = s.id)"));
        Assert.Equal(0L, await server.QueryAsync<long>(
            $"select count(*) from runs r where {Between("r.due")} and r.set_id is not null and not exists (select 1 from backup_sets s where s.database = r.database and s.id = r.set_id)"));
        Assert.Equal(0L, await server.QueryAsync<long>("select count(*) from (select database, set_id from runs where set_id is not null and after_id is null group by 1, 2 having count(*) > 1) x"));
        return ended;
    }
}
