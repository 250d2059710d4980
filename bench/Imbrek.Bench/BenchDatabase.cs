using Imbrek.Data;
using Npgsql;

namespace Imbrek.Bench;

/// <summary>A database of its own that is gone afterwards.</summary>
internal sealed class BenchDatabase : IAsyncDisposable
{
    private readonly string server;
    private readonly string name = $"bench_{Guid.NewGuid():n}";

    private BenchDatabase(string server)
    {
        this.server = server;
        Source = ImbrekDatabase.Source($"{server};Database={name};Command Timeout=600");
    }

    public NpgsqlDataSource Source { get; }

    public static async Task<BenchDatabase> CreateAsync(string server)
    {
        var database = new BenchDatabase(server);
        await database.AdminAsync($"create database {database.name}");
        await ImbrekDatabase.MigrateAsync(database.Source);
        return database;
    }

    public async ValueTask DisposeAsync()
    {
        await Source.DisposeAsync();
        NpgsqlConnection.ClearAllPools();
        await AdminAsync($"drop database {name} with (force)");
    }

    private async Task AdminAsync(string sql)
    {
        await using var admin = new NpgsqlConnection($"{server};Database=postgres");
        await admin.OpenAsync();
        await using var command = new NpgsqlCommand(sql, admin);
        await command.ExecuteNonQueryAsync();
    }
}
