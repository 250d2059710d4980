using System.Collections.Concurrent;
using System.Diagnostics;
using Imbrek.PostgreSql.Cluster;
using Npgsql;
using Xunit;
using Xunit.v3;

// Tests wait far more than they compute: for engines to start, to recover, to stop, and for processes that were killed to come back.
[assembly: Parallelization(MaxThreads = 3)]

namespace Imbrek.PostgreSql.Tests;

/// <summary>A real cluster of a test's own on loopback, with log files of 1 MiB so that many come and go; may be killed and started again.</summary>
internal sealed class TestCluster : IAsyncDisposable
{
    private const string Password = "not-to-be-seen-anywhere";
    private readonly string home;

    private TestCluster(string home, int port) => (this.home, Port) = (home, port);

    public int Port { get; }

    public string Data => Path.Combine(home, "data");

    public ClusterSpec Spec(string store = "shelf", long room = 1L << 30) => new("harbour", "127.0.0.1", Port, "imbrek", "postgres", null, store, room);

    /// <summary>Makes and starts one.</summary>
    /// <param name="more">Further settings.</param>
    /// <param name="auth">How clients sign in.</param>
    /// <param name="stranger">Whether it is told from all others by what it calls itself, as clusters are; the others are copies of one, which is sooner done than making them.</param>
    public static async Task<TestCluster> StartAsync(string? more = null, string auth = "trust", bool stranger = false)
    {
        var home = Directory.CreateTempSubdirectory("imbrek-pg").FullName;
        await ToolAsync("chmod", "755", home);
        var cluster = new TestCluster(home, FreePort.Find());
        if (stranger)
        {
            await MakeAsync(home, auth);
        }
        else
        {
            await ToolAsync("cp", "-a", Path.Combine(await Made.GetOrAdd(auth, a => new(() => OnceAsync(a))).Value, "data"), home);
        }

        await File.AppendAllTextAsync(Path.Combine(cluster.Data, "postgresql.conf"), $"\nlisten_addresses='127.0.0.1'\nport={cluster.Port}\nunix_socket_directories=''\nshared_buffers='32MB'\nmax_wal_size='32MB'\nmin_wal_size='4MB'\nwal_keep_size='512MB'\n{more}\n");
        await cluster.UpAsync();
        return cluster;
    }

    private static readonly ConcurrentDictionary<string, Lazy<Task<string>>> Made = new();

    private static async Task<string> OnceAsync(string auth)
    {
        var home = Directory.CreateTempSubdirectory("imbrek-pg-seed").FullName;
        AppDomain.CurrentDomain.ProcessExit += (_, _) => Directory.Delete(home, recursive: true);
        await ToolAsync("chmod", "755", home);
        await MakeAsync(home, auth);
        return home;
    }

    private static async Task MakeAsync(string home, string auth)
    {
        var data = Path.Combine(home, "data");
        Directory.CreateDirectory(data);
        await Tools.GiveToEngineAsync(data, default);
        var words = Path.Combine(home, "password");
        await File.WriteAllTextAsync(words, $"{Password}\n");
        await ToolAsync("chmod", "644", words);
        await EngineAsync("initdb", ["-D", data, "-U", "imbrek", "-A", auth, $"--pwfile={words}", "-E", "UTF8", "--locale=C.UTF-8", "-k", "--wal-segsize=1", "--no-sync"]);
        File.Delete(words);
    }

    /// <summary>A standby of this one, that receives by a slot of its name.</summary>
    public async Task<TestCluster> StandbyAsync(string name, string? more = null)
    {
        var home = Directory.CreateTempSubdirectory("imbrek-pg").FullName;
        await ToolAsync("chmod", "755", home);
        var standby = new TestCluster(home, FreePort.Find());
        Directory.CreateDirectory(standby.Data);
        File.SetUnixFileMode(standby.Data, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        await Tools.GiveToEngineAsync(standby.Data, default);
        await Tools.RunAsync(
            Path.Combine(Tools.FolderOf("15"), "pg_basebackup"), ["-h", "127.0.0.1", "-p", $"{Port}", "-U", "imbrek", "-w", "-D", standby.Data, "-X", "stream", "-c", "fast", "-R", "-C", "-S", name], default, Password, asEngine: true);
        await File.AppendAllTextAsync(
            Path.Combine(standby.Data, "postgresql.auto.conf"),
            $"port={standby.Port}\ncluster_name='{name}'\nwal_retrieve_retry_interval='200ms'\nprimary_conninfo='host=127.0.0.1 port={Port} user=imbrek password={Password} application_name={name}'\n{more}\n");
        await standby.UpAsync();
        return standby;
    }

    public async Task UpAsync() => await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_ctl"), ["-D", Data, "-l", Path.Combine(Data, "server.log"), "-w", "start"], default, asEngine: true, outlives: true);

    public async Task DownAsync(string how = "fast") => await EngineAsync("pg_ctl", ["-D", Data, "-m", how, "-w", "stop"]);

    /// <summary>Ends its first process as the kernel does when there is no memory left: nothing is flushed any more.</summary>
    public void Kill()
    {
        var pid = int.Parse(File.ReadLines(Path.Combine(Data, "postmaster.pid")).First(), System.Globalization.CultureInfo.InvariantCulture);
        using var first = Process.GetProcessById(pid);
        first.Kill(entireProcessTree: true);
        first.WaitForExit();
    }

    public async Task<NpgsqlConnection> OpenAsync(int? port = null, string database = "postgres")
    {
        var connection = new NpgsqlConnection($"Host=127.0.0.1;Port={port ?? Port};Username=imbrek;Database={database};Pooling=false;Password={Password}");
        await connection.OpenAsync();
        return connection;
    }

    public async Task DoAsync(string sql)
    {
        await using var connection = await OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await command.ExecuteNonQueryAsync();
    }

    public async Task<T> AskAsync<T>(string sql)
    {
        await using var connection = await OpenAsync();
        return await connection.AskAsync<T>(sql, default);
    }

    public async ValueTask DisposeAsync()
    {
        if (File.Exists(Path.Combine(Data, "postmaster.pid")))
        {
            try
            {
                await DownAsync("immediate");
            }
            catch (Core.Drivers.DriverException)
            {
                // It was killed already.
            }
        }

        Directory.Delete(home, recursive: true);
    }

    /// <summary>The commits of its log in files, as the engine's own reader tells them: position, transaction.</summary>
    public static async Task<IReadOnlyList<(long Position, uint Transaction, DateTime At)>> CommitsAsync(string folder, int timeline, string from, string to)
    {
        using var process = Process.Start(new ProcessStartInfo(Path.Combine(Tools.FolderOf("15"), "pg_waldump"), ["-p", folder, "-t", $"{timeline}", "-s", from, "-e", to, "-r", "Transaction"]) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        var errors = process.StandardError.ReadToEndAsync();
        var found = new List<(long, uint, DateTime)>();
        while (await process.StandardOutput.ReadLineAsync() is { } line)
        {
            var at = line.IndexOf("desc: COMMIT ", StringComparison.Ordinal);
            if (at > 0)
            {
                var position = Log.Lsn.Parse(line[(line.IndexOf("lsn: ", StringComparison.Ordinal) + 5)..].Split(',')[0]).Value;
                var transaction = uint.Parse(line[(line.IndexOf("tx:", StringComparison.Ordinal) + 3)..].Split(',')[0], System.Globalization.CultureInfo.InvariantCulture);
                var when = DateTime.Parse(line[(at + 13)..].Split(';')[0].Replace(" UTC", "", StringComparison.Ordinal), System.Globalization.CultureInfo.InvariantCulture);
                found.Add((position, transaction, when));
            }
        }

        await process.WaitForExitAsync();
        return found.Count > 0 ? found : throw new InvalidOperationException($"pg_waldump: {await errors}");
    }

    private static Task<string> EngineAsync(string program, string[] arguments) => Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), program), arguments, default, asEngine: true);

    private static Task<string> ToolAsync(string program, params string[] arguments) => Tools.RunAsync(program, arguments, default);
}
