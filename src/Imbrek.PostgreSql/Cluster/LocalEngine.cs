using Imbrek.Core.Drivers;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>An engine on this machine, by its data folder: this server may stop and start it, whoever made it.</summary>
/// <param name="data">The data folder.</param>
internal sealed class LocalEngine(string data)
{
    /// <summary>What it may take to end in order, or to answer once it was started, seconds: an engine that ends waits a minute itself for a standby that is silent, and for who has not signed in yet.</summary>
    private const string MostSeconds = "120";

    /// <summary>The kernel takes 107 letters for the path of a socket; its name has up to 15.</summary>
    private const int LongestFolder = 107 - 16;

    /// <summary>Its data folder.</summary>
    public string Data => data;

    /// <summary>Whether it runs.</summary>
    public bool Runs => Postmaster.Of(data) is not null;

    /// <summary>The engine that answers for a cluster.</summary>
    /// <exception cref="DriverException">It does not answer, the role may not ask, or it does not run on this machine.</exception>
    public static async Task<LocalEngine> FindAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        await using var connection = await Connections.OpenAsync(cluster, cancel);
        try
        {
            var (data, backend, started, port) = (await connection.RowsAsync(
                "select current_setting('data_directory'), pg_backend_pid(), floor(extract(epoch from pg_postmaster_start_time()))::bigint, current_setting('port')::int",
                r => (r.GetString(0), r.GetInt32(1), r.GetInt64(2), r.GetInt32(3)), cancel))[0];

            // A folder of the same name on this machine may be another engine's.
            return Postmaster.Is(data, backend, started, port)
                ? new LocalEngine(data)
                : throw new DriverException(DriverProblem.Refused, $"the engine at {cluster.Address}:{cluster.Port} is not this server's and does not run on this machine: it cannot be stopped from here");
        }
        catch (Npgsql.PostgresException e)
        {
            throw new DriverException(DriverProblem.Refused, $"{cluster.User} may not ask where the engine at {cluster.Address}:{cluster.Port} lies: {e.MessageText} (it needs pg_monitor)");
        }
    }

    /// <summary>The options it was started with last, for a shell.</summary>
    /// <exception cref="DriverException">They cannot be read.</exception>
    public async Task<string> OptionsAsync(CancellationToken cancel)
    {
        // The first word is the program.
        var words = (await Tools.RunAsync("cat", [Path.Combine(data, "postmaster.opts")], cancel, asEngine: true)).Trim();
        return words.Contains(' ', StringComparison.Ordinal) ? words[(words.IndexOf(' ', StringComparison.Ordinal) + 1)..] : "";
    }

    /// <summary>Stops it, in order where nothing else is said: all it wrote is sent before it ends. Nothing is done where it does not run.</summary>
    public Task StopAsync(CancellationToken cancel, string how = "fast") => Runs ? ControlAsync(["-m", how, "-t", MostSeconds, "-w", "stop"], cancel) : Task.CompletedTask;

    /// <summary>Starts it with options, for a shell, and waits until it answers. Nothing is done where it runs.</summary>
    /// <exception cref="DriverException">It does not start; says what it wrote last.</exception>
    public async Task StartAsync(string options, CancellationToken cancel)
    {
        if (Runs)
        {
            return;
        }

        var told = Path.Combine(data, "server.log");
        try
        {
            await ControlAsync(["-l", told, "-o", options, "-t", MostSeconds, "-w", "start"], cancel, outlives: true);
        }
        catch (DriverException e)
        {
            throw new DriverException(DriverProblem.Refused, $"the engine in {data} does not start: {(File.Exists(told) ? LastWords(told) : e.Message)}");
        }
    }

    /// <summary>The end of what an engine wrote into a file: what went wrong, where it says so.</summary>
    public static string LastWords(string file)
    {
        try
        {
            var lines = File.ReadAllLines(file);
            return string.Join(" | ", lines.Where(l => l.Contains("FATAL", StringComparison.Ordinal) || l.Contains("PANIC", StringComparison.Ordinal) || l.Contains("ERROR", StringComparison.Ordinal)).TakeLast(3)) is { Length: > 0 } bad ? bad : string.Join(" | ", lines.TakeLast(3));
        }
        catch (IOException e)
        {
            return e.Message;
        }
    }

    /// <summary>Refuses a folder in which no engine could have its socket.</summary>
    /// <exception cref="DriverException">Its path is too long.</exception>
    public static void MustTakeSocket(string folder)
    {
        if (folder.Length > LongestFolder)
        {
            throw new DriverException(DriverProblem.Refused, $"{folder} is too long for a socket in it by {folder.Length - LongestFolder} letters: choose a shorter name");
        }
    }

    private Task<string> ControlAsync(string[] words, CancellationToken cancel, bool outlives = false) =>
        Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_ctl"), ["-D", data, .. words], cancel, asEngine: true, outlives: outlives);
}
