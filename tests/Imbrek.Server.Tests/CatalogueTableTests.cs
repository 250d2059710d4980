using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Data;
using NodaTime;
using Npgsql;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Sets in bulk, into tables that are empty, that hold something, and that somebody else writes to in the same moment.</summary>
public sealed class CatalogueTableTests : IAsyncLifetime
{
    private static readonly Instant Noon = Instant.FromUtc(2026, 3, 1, 12, 0);

    private NpgsqlDataSource source = null!;

    public async ValueTask InitializeAsync()
    {
        source = ImbrekDatabase.Source(await ServerProcess.NewDatabaseAsync());
        await ImbrekDatabase.MigrateAsync(source);
    }

    public ValueTask DisposeAsync() => source.DisposeAsync();

    private static BackupCatalogue Sets(int count, long bytes = 1, string database = "d") => new(Enumerable.Range(0, count).Select(i => new BackupSet
    {
        Id = new($"{database}-{i}"),
        Database = new(database),
        Kind = SetKind.Full,
        ToPosition = i,
        CoversTo = Noon,
        FinishedAt = Noon,
        DataBytes = bytes,
        RollForward = true,
        Copies = [new(new("s"), Noon, null, null, bytes, CopyState.Good)],
    }));

    private async Task<bool> UpsertAsync(BackupCatalogue sets)
    {
        await using var connection = await source.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        var whole = await CatalogueTable.UpsertAsync(connection, sets, default);
        await transaction.CommitAsync();
        return whole;
    }

    private async Task<T> AskAsync<T>(string sql)
    {
        await using var command = source.CreateCommand(sql);
        return (T)(await command.ExecuteScalarAsync())!;
    }

    private Task<string> KeysAsync() => AskAsync<string>(
        """
        select (select string_agg(indexdef, E'\n' order by indexname) from pg_indexes where tablename in ('backup_sets', 'backup_copies'))
          || E'\n' || (select string_agg(conname || pg_get_constraintdef(oid), E'\n' order by conname) from pg_constraint where conrelid in ('backup_sets'::regclass, 'backup_copies'::regclass))
        """);

    [Fact]
    public async Task Empty_tables_are_filled_without_their_keys_and_have_them_afterwards_as_before()
    {
        var keys = await KeysAsync();
        Assert.True(await UpsertAsync(Sets(12_000)), "nothing was there, and yet there is something else");
        Assert.Equal(keys, await KeysAsync());
        Assert.Equal(12_000L, await AskAsync<long>("select count(*) from backup_copies join backup_sets on backup_sets.database = backup_copies.database and id = set_id"));
        await Assert.ThrowsAsync<PostgresException>(() => AskAsync<int>("insert into backup_copies (database, set_id, store, available_at, stored_bytes, state) values ('d', 'none', 's', now(), 1, 0) returning 1"));
    }

    [Fact]
    public async Task An_import_that_fails_leaves_the_keys_and_nothing_else()
    {
        var keys = await KeysAsync();
        await using (var connection = await source.OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            var twice = Sets(12_000).All.Single().Sets.ToArray();
            await Assert.ThrowsAsync<PostgresException>(() => CatalogueTable.InsertAsync(connection, [.. twice, twice[0]], default));
        }

        Assert.Equal(keys, await KeysAsync());
        Assert.Equal(0L, await AskAsync<long>("select count(*) from backup_sets"));
    }

    [Fact]
    public async Task Sets_that_are_there_are_brought_up_to_date_and_others_added()
    {
        Assert.True(await UpsertAsync(Sets(12_000)));
        Assert.False(await UpsertAsync(new([.. Sets(3, bytes: 7).All, .. Sets(5, database: "e").All])));
        Assert.Equal(12_005L, await AskAsync<long>("select count(*) from backup_sets"));
        Assert.Equal(3L, await AskAsync<long>("select count(*) from backup_sets s join backup_copies c on c.database = s.database and c.set_id = s.id where data_bytes = 7 and stored_bytes = 7"));
    }

    [Fact]
    public async Task Whoever_looks_at_an_empty_table_is_not_waited_for()
    {
        var keys = await KeysAsync();
        await using var reader = await source.OpenConnectionAsync();
        await using var open = await reader.BeginTransactionAsync();
        await using (var look = new NpgsqlCommand("select count(*) from backup_sets", reader))
        {
            await look.ExecuteScalarAsync();
        }

        // As it would be with keys in place: slower, and nobody can say that there is nothing else.
        Assert.False(await UpsertAsync(Sets(12_000)));
        Assert.Equal(keys, await KeysAsync());
        await open.RollbackAsync();
        Assert.Equal(12_000L, await AskAsync<long>("select count(*) from backup_sets"));
    }

    [Fact]
    public async Task The_databases_with_sets_are_those_that_have_one()
    {
        await using var connection = await source.OpenConnectionAsync();
        Assert.Empty(await CatalogueTable.WithSetsAsync(connection, default));
        await UpsertAsync(new([.. Sets(3).All, .. Sets(1, database: "e").All, .. Sets(2, database: "Z").All]));
        Assert.Equal(["Z", "d", "e"], (await CatalogueTable.WithSetsAsync(connection, default)).Select(d => d.Value).Order(StringComparer.Ordinal));
    }

    [Theory]
    [InlineData(3)]
    [InlineData(12_000)]
    public async Task Somebody_who_writes_the_same_sets_in_the_same_moment_makes_nobody_fail(int count)
    {
        await using var other = await source.OpenConnectionAsync();
        await using var theirs = await other.BeginTransactionAsync();
        await CatalogueTable.InsertAsync(other, [.. Sets(3).All.Single().Sets], default);
        var ours = UpsertAsync(Sets(count, bytes: 9));
        await Eventually.Async(async () => await AskAsync<long>("select count(*) from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database()") > 0);
        await theirs.CommitAsync();
        Assert.False(await ours);
        Assert.Equal((long)count, await AskAsync<long>("select count(*) from backup_sets where data_bytes = 9"));
    }
}
