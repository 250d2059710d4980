using Imbrek.Data;
using Npgsql;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Connections are taken as they were left, statements used often are prepared, and what hangs on a connection ends with it (decision 026).</summary>
public sealed class ConnectionTests : IAsyncLifetime
{
    private string connection = "";

    public async ValueTask InitializeAsync() => connection = await ServerProcess.NewDatabaseAsync();

    public async ValueTask DisposeAsync() => await ServerProcess.DropDatabaseAsync(connection);

    [Theory]
    [InlineData("", 60, true)]
    [InlineData("Max Auto Prepare=0", 0, true)]
    [InlineData("maxautoprepare=7;No Reset On Close=false", 7, false)]
    public void What_the_string_says_counts(string said, int prepared, bool asItWasLeft)
    {
        using var source = ImbrekDatabase.Source($"{connection};{said}");
        var used = new NpgsqlConnectionStringBuilder(source.ConnectionString);
        Assert.Equal((prepared, asItWasLeft), (used.MaxAutoPrepare, used.NoResetOnClose));
    }

    [Fact]
    public async Task A_statement_sent_often_is_prepared_and_what_hangs_on_a_connection_ends_when_it_is_closed()
    {
        await using var source = ImbrekDatabase.Source(connection);
        for (var i = 0; i < 6; i++)
        {
            Assert.Equal(i, await AskAsync<int>("select $1::int", i));
        }

        Assert.Equal(1L, await AskAsync<long>("select count(*) from pg_prepared_statements where statement = 'select $1::int'"));

        var holding = await source.OpenConnectionAsync();
        await using (var take = new NpgsqlCommand("select pg_advisory_lock(7)", holding))
        {
            await take.ExecuteNonQueryAsync();
        }

        const string held = "select count(*) from pg_locks where locktype = 'advisory' and database = (select oid from pg_database where datname = current_database())";
        Assert.Equal(1L, await AskAsync<long>(held));
        await ImbrekDatabase.CloseAsync(source, holding);
        await Eventually.Async(async () => await AskAsync<long>(held) == 0, what: () => "the lock stays");

        async Task<T> AskAsync<T>(string sql, params int[] values)
        {
            await using var command = source.CreateCommand(sql);
            foreach (var value in values)
            {
                command.Parameters.AddWithValue(value);
            }

            return (T)(await command.ExecuteScalarAsync())!;
        }
    }
}
