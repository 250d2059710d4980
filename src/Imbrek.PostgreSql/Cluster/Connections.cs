using Imbrek.Core.Drivers;
using NodaTime;
using Npgsql;
using Npgsql.Replication;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>Connections to clusters. What they refuse comes out as a <see cref="DriverException"/> in the engine's words, which never hold a password.</summary>
internal static class Connections
{
    /// <summary>Seconds in which a cluster must answer.</summary>
    private const int AnswerSeconds = 10;

    /// <summary>The connection string for a cluster, with the value of its credential.</summary>
    /// <exception cref="DriverException">The credential cannot be had.</exception>
    private static string StringOf(ISignIn cluster, string? database, string application) => new NpgsqlConnectionStringBuilder
    {
        Host = cluster.Address,
        Port = cluster.Port,
        Username = cluster.User,
        Database = database ?? cluster.SignInTo,
        Password = Credentials.ForDriver(cluster.Credential),
        ApplicationName = application,
        Timeout = AnswerSeconds,
        CommandTimeout = AnswerSeconds,
        KeepAlive = 10,
        Pooling = false,
        PersistSecurityInfo = false,
    }.ConnectionString;

    /// <summary>Opens a connection.</summary>
    /// <param name="cluster">To which cluster.</param>
    /// <param name="cancel">Gives up.</param>
    /// <param name="database">To which of its databases; null for the one it signs in to.</param>
    /// <exception cref="DriverException">It cannot be reached, or refuses.</exception>
    public static async Task<NpgsqlConnection> OpenAsync(ISignIn cluster, CancellationToken cancel, string? database = null)
    {
        var connection = new NpgsqlConnection(StringOf(cluster, database, "imbrek"));
        try
        {
            await connection.OpenAsync(cancel);
            return connection;
        }
        catch (Exception e)
        {
            await connection.DisposeAsync();
            throw Told(cluster, e, cancel);
        }
    }

    /// <summary>Opens a connection that receives log.</summary>
    /// <exception cref="DriverException">It cannot be reached, or refuses.</exception>
    public static async Task<PhysicalReplicationConnection> OpenForLogAsync(ISignIn cluster, string application, CancellationToken cancel)
    {
        var connection = new PhysicalReplicationConnection(StringOf(cluster, null, application))
        {
            WalReceiverStatusInterval = Timeout.InfiniteTimeSpan,
            WalReceiverTimeout = TimeSpan.FromSeconds(30),
        };
        try
        {
            await connection.Open(cancel);
            return connection;
        }
        catch (Exception e)
        {
            await connection.DisposeAsync();
            throw Told(cluster, e, cancel);
        }
    }

    /// <summary>What went wrong, as drivers say it.</summary>
    public static Exception Told(ISignIn cluster, Exception e, CancellationToken cancel) => e switch
    {
        DriverException or OperationCanceledException when cancel.IsCancellationRequested || e is DriverException => e,
        PostgresException { SqlState: "57P03" or "57P01" or "57P02" or "53300" } p => new DriverException(DriverProblem.Unreachable, $"{cluster.Address}:{cluster.Port}: {p.MessageText}"),
        PostgresException p => new DriverException(DriverProblem.Refused, $"{cluster.Address}:{cluster.Port}: {p.MessageText}"),
        NpgsqlException or TimeoutException or IOException or System.Net.Sockets.SocketException or OperationCanceledException or ObjectDisposedException =>
            new DriverException(DriverProblem.Unreachable, $"{cluster.Address}:{cluster.Port} does not answer: {(e.InnerException ?? e).Message}"),
        _ => e,
    };

    /// <summary>Asks for one value.</summary>
    public static async Task<T> AskAsync<T>(this NpgsqlConnection connection, string sql, CancellationToken cancel, params object[] values)
    {
        await using var command = Command(connection, sql, values);
        return (T)(await command.ExecuteScalarAsync(cancel))!;
    }

    /// <summary>A cluster as the role it was made with, which may read all of it, while everybody is kept out and its socket lets in who reaches it; as it is otherwise.</summary>
    public static async Task<ClusterSpec> AsFirstAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        if (cluster.Aside is null)
        {
            return cluster;
        }

        await using var connection = await OpenAsync(cluster, cancel);
        return cluster with { User = await connection.AskAsync<string>("select rolname::text from pg_roles where oid = 10", cancel) };
    }

    /// <summary>What the cluster's own clock says.</summary>
    public static async Task<Instant> NowAsync(this NpgsqlConnection connection, CancellationToken cancel) => AtUtc(await connection.AskAsync<DateTime>("select clock_timestamp() at time zone 'utc'", cancel));

    /// <summary>An instant that was asked for as a time in UTC.</summary>
    public static Instant AtUtc(DateTime time) => Instant.FromDateTimeUtc(DateTime.SpecifyKind(time, DateTimeKind.Utc));

    /// <summary>Asks for rows.</summary>
    public static async Task<List<T>> RowsAsync<T>(this NpgsqlConnection connection, string sql, Func<NpgsqlDataReader, T> read, CancellationToken cancel, params object[] values)
    {
        await using var command = Command(connection, sql, values);
        await using var reader = await command.ExecuteReaderAsync(cancel);
        var rows = new List<T>();
        while (await reader.ReadAsync(cancel))
        {
            rows.Add(read(reader));
        }

        return rows;
    }

    private static NpgsqlCommand Command(NpgsqlConnection connection, string sql, object[] values)
    {
        var command = new NpgsqlCommand(sql, connection);
        foreach (var v in values)
        {
            command.Parameters.AddWithValue(v);
        }

        return command;
    }
}
