using System.Runtime.CompilerServices;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Npgsql;

namespace Imbrek.Data;

/// <summary>How to reach PostgreSQL.</summary>
public static class ImbrekDatabase
{
    private const long MigrationLock = 0x1_4D_42_52_45_4B;

    /// <summary>How many statements of a connection PostgreSQL remembers: those that are sent again and again.</summary>
    private const int Prepared = 60;

    private static readonly ConditionalWeakTable<NpgsqlDataSource, DbContextOptions<ImbrekContext>> Made = [];

    private static readonly ConditionalWeakTable<NpgsqlDataSource, PooledDbContextFactory<ImbrekContext>> Lent = [];

    /// <summary>
    /// A pool of connections that speak NodaTime. Statements used often are prepared, for to plan them takes PostgreSQL as long as to carry them out; and a connection is taken again as it was left, its temporary tables
    /// with it, for nobody here leaves anything else behind (decision 026). What the connection's string says about either counts.
    /// </summary>
    public static NpgsqlDataSource Source(string connection)
    {
        // Of two values for one word the later counts.
        var builder = new NpgsqlDataSourceBuilder($"Max Auto Prepare={Prepared};No Reset On Close=true;{connection}");
        builder.UseNodaTime();
        return builder.Build();
    }

    /// <summary>Closes a connection that something hangs on, a lock or that it listens, and does not give it back: whoever took it next would have that too.</summary>
    public static ValueTask CloseAsync(NpgsqlDataSource source, NpgsqlConnection connection)
    {
        // None can be closed alone: those that are lent now are closed when they come back.
        source.Clear();
        return connection.DisposeAsync();
    }

    /// <summary>Configures the context.</summary>
    public static void Configure(DbContextOptionsBuilder options, NpgsqlDataSource source) =>
        options.UseNpgsql(source, o => o.UseNodaTime()).UseSnakeCaseNamingConvention();

    /// <summary>Brings the schema up to date; one process at a time, the others wait.</summary>
    public static async Task MigrateAsync(NpgsqlDataSource source, CancellationToken cancel = default)
    {
        await using var connection = await source.OpenConnectionAsync(cancel);
        await using (var take = new NpgsqlCommand($"select pg_advisory_lock({MigrationLock})", connection))
        {
            await take.ExecuteNonQueryAsync(cancel);
        }

        try
        {
            await using var context = Context(source);
            if (!await IsUpToDateAsync(connection, context, cancel))
            {
                await context.Database.MigrateAsync(cancel);
            }
        }
        finally
        {
            await using var give = new NpgsqlCommand($"select pg_advisory_unlock({MigrationLock})", connection);
            await give.ExecuteNonQueryAsync(CancellationToken.None);
        }
    }

    /// <summary>Whether all migrations have been applied; asked so, a start that has none to apply need not compare whole models.</summary>
    private static async Task<bool> IsUpToDateAsync(NpgsqlConnection connection, ImbrekContext context, CancellationToken cancel)
    {
        await using var there = new NpgsqlCommand("select to_regclass('\"__EFMigrationsHistory\"') is not null", connection);
        if (!(bool)(await there.ExecuteScalarAsync(cancel))!)
        {
            return false;
        }

        var applied = new HashSet<string>();
        await using var read = new NpgsqlCommand("select migration_id from \"__EFMigrationsHistory\"", connection);
        await using var reader = await read.ExecuteReaderAsync(cancel);
        while (await reader.ReadAsync(cancel))
        {
            applied.Add(reader.GetString(0));
        }

        return context.Database.GetMigrations().All(applied.Contains);
    }

    /// <summary>Lets PostgreSQL look at the big tables after they were filled: until it does by itself, it plans as if they were small.</summary>
    public static async Task AnalyzeAsync(NpgsqlConnection connection, CancellationToken cancel)
    {
        await using var command = new NpgsqlCommand("analyze backup_sets, backup_copies, runs", connection) { CommandTimeout = 600 };
        await command.ExecuteNonQueryAsync(cancel);
    }

    /// <summary>A context outside of any container, given back when it is disposed of: to make its services anew takes as long as a short query.</summary>
    public static ImbrekContext Context(NpgsqlDataSource source) => Lent.GetValue(source, s => new(Options(s))).CreateDbContext();

    /// <summary>A context within a transaction, with the connection of that.</summary>
    public static async Task<ImbrekContext> WithinAsync(NpgsqlDataSource source, NpgsqlTransaction transaction, CancellationToken cancel)
    {
        // None that is lent: it would be given back with this connection.
        var context = new ImbrekContext(Options(source));
        context.Database.SetDbConnection(transaction.Connection);
        await context.Database.UseTransactionAsync(transaction, cancel);
        return context;
    }

    private static DbContextOptions<ImbrekContext> Options(NpgsqlDataSource source) => Made.GetValue(source, s =>
    {
        var options = new DbContextOptionsBuilder<ImbrekContext>();
        Configure(options, s);
        return options.Options;
    });
}

/// <summary>Lets the migrations tool make a context without a server.</summary>
internal sealed class DesignTimeFactory : IDesignTimeDbContextFactory<ImbrekContext>
{
    public ImbrekContext CreateDbContext(string[] args) =>
        ImbrekDatabase.Context(ImbrekDatabase.Source("Host=127.0.0.1;Database=design"));
}
