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
            await Assert.ThrowsAsync<PostgresException>(() => CatalogueTable.InsertAsync(connection, new BackupCatalogue([.. twice, twice[0]]).All, default));
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
        await CatalogueTable.InsertAsync(other, Sets(3).All, default);
        var ours = UpsertAsync(Sets(count, bytes: 9));
        await Eventually.Async(async () => await AskAsync<long>("select count(*) from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database()") > 0);
        await theirs.CommitAsync();
        Assert.False(await ours);
        Assert.Equal((long)count, await AskAsync<long>("select count(*) from backup_sets where data_bytes = 9"));
    }

    [Fact]
    public async Task Whatever_sets_are_like_they_are_read_as_they_were_written()
    {
        // Names as nobody would choose them, for what they are part of is put together as text; long ones, empty ones, and all that can be left out.
        var random = new Random(28);
        string[] databases = ["plain", "o'hara", "back\\slash", "a \"quoted\", {name}", "Größe – 名", "null", "", new string('x', 300)];
        T? Maybe<T>(T value)
            where T : struct => random.Next(2) == 0 ? null : value;
        Instant At() => Noon + Duration.FromMilliseconds(random.Next()) + Duration.FromTicks(10 * random.Next(1000));
        List<BackupSet> written = [];
        foreach (var i in Enumerable.Range(0, 3000))
        {
            var id = $"{i} {new string('i', i % 7 * i % 400)}";
            written.Add(new BackupSet
            {
                Id = new(id),
                Database = new(databases[random.Next(databases.Length)]),
                Kind = (SetKind)random.Next(4),
                Branch = random.Next(),
                Parent = random.Next(2) == 0 ? null : new("parent " + i),
                FromPosition = Maybe(random.NextInt64()),
                ToPosition = -random.NextInt64(),
                CoversFrom = Maybe(At()),
                CoversTo = i % 100 == 0 ? Instant.MaxValue : i % 101 == 0 ? Instant.MinValue : At(),
                FinishedAt = At(),
                DataBytes = random.NextInt64(),
                OutsideChain = random.Next(2) == 0,
                RollForward = random.Next(2) == 0,
                UsableOn = [.. Enumerable.Range(0, random.Next(4)).Select(h => new Id<Host>(databases[h + 1]))],
                Key = random.Next(2) == 0 ? null : databases[random.Next(databases.Length)],
                Copies = [.. Enumerable.Range(0, random.Next(3)).Select(c => new BackupCopy(new($"s'{c}"), Noon + Duration.FromSeconds(c), Maybe(At()), Maybe(At()), random.NextInt64(), (CopyState)random.Next(3)))],
            });
        }

        // As a catalogue holds them: what no kind of set has it leaves out.
        var held = new BackupCatalogue(written);
        await UpsertAsync(held);
        await using var connection = await source.OpenConnectionAsync();
        foreach (var asked in (string[]?[])[null, .. databases.Select(d => new[] { d }), databases[1..4], ["none", "plain"], []])
        {
            var read = await CatalogueTable.ReadAsync(connection, asked, default);
            Assert.Equal(
                held.All.Where(c => asked?.Contains(c.Database.Value) != false).SelectMany(c => c.Sets).Select(Said).Order(StringComparer.Ordinal),
                read.All.SelectMany(c => c.Sets).Select(Said).Order(StringComparer.Ordinal));
        }

        static string Said(BackupSet s) => $"{s with { UsableOn = [], Copies = [] }} on {string.Join('|', s.UsableOn)} in {string.Join('|', s.Copies)}";
    }
}
