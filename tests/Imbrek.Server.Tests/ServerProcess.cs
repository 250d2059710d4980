using System.Diagnostics;
using System.Net;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.Server.Tests;

/// <summary>A real server process on a database of its own; can be killed and started again.</summary>
public sealed class ServerProcess : IAsyncDisposable
{
    private readonly string database;
    private readonly string? world;
    private readonly int days;
    private readonly bool owns;
    private readonly bool first;
    private readonly string[] more;
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<ServerProcess, bool> All = new();
    private readonly System.Collections.Concurrent.ConcurrentQueue<string> said = new();
    private Process? process;
    private bool killed;

    private ServerProcess(string database, string? world, int days, int port, bool owns = true, bool first = false, string[]? more = null)
    {
        this.owns = owns;
        this.first = first;
        this.more = more ?? [];
        this.days = days;
        this.database = database;
        this.world = world;
        Url = $"http://127.0.0.1:{port}";
    }

    /// <summary>The PostgreSQL of the tests, without a database; <c>./imbrek test</c> starts it.</summary>
    private static string Postgres { get; } = Environment.GetEnvironmentVariable("IMBREK_TEST_PG")
        ?? throw new InvalidOperationException("IMBREK_TEST_PG is not set: run ./imbrek test, or name a PostgreSQL for the tests");

    /// <summary>Which program it is: a server without a world knows nothing of one.</summary>
    private string Program => world is null ? "Imbrek.Serve" : "Imbrek.Demo";

    public string Url { get; }

    public string ConnectionString => $"{Postgres};Database={database}";

    public string? World => world;

    /// <summary>How much of a processor the process has used.</summary>
    public TimeSpan Processor
    {
        get
        {
            process!.Refresh();
            return process.TotalProcessorTime;
        }
    }

    /// <summary>What the process has said on its terminal.</summary>
    public string Said => string.Join('\n', said);

    /// <summary>What the processes that run have said last, for whoever waited in vain.</summary>
    public static string LastSaid => string.Join('\n', All.Keys.SelectMany(p => p.said.Where(l => l.Length > 0 && !l.TrimStart().StartsWith("at ", StringComparison.Ordinal)).TakeLast(12).Select(l => $"  {p.Url}: {l}")));

    // A Tuesday afternoon: what tests see of the week does not depend on the hour they run at.
    private const string Handed = "2026-11-24T14:20:00Z";

    /// <summary>Starts one on a new database.</summary>
    /// <param name="demo">Whether it has a world.</param>
    /// <param name="days">How many days of history; a world that is killed again and again is small.</param>
    /// <param name="first">Whether it starts without any administrator, as it does the first time.</param>
    /// <param name="more">Further arguments.</param>
    public static async Task<ServerProcess> StartAsync(bool demo, int days = 9, bool first = false, params string[] more)
    {
        var name = $"t_{Guid.NewGuid():n}";
        var world = demo ? Directory.CreateTempSubdirectory("imbrek-demo").FullName : null;
        if (world is not null)
        {
            await Seed.CopyAsync(days, name, world);
        }
        else
        {
            // The first start makes its tables itself; for the others they are copied.
            await (first ? ExecuteAsync($"{Postgres};Database=postgres", $"create database {name}") : EmptyTables.CopyAsync(name));
        }

        var server = new ServerProcess(name, world, days, FreePort.Find(), first: first, more: more);
        await server.RunAsync();
        return server;
    }

    /// <summary>A database with tables and nothing in them, made once: to bring the schema up to date takes a quarter of a first start.</summary>
    private static class EmptyTables
    {
        private static readonly Lazy<Task<string>> Made = new(async () =>
        {
            var connection = await NewDatabaseAsync();
            await using (var source = Data.ImbrekDatabase.Source(connection + ";Pooling=false"))
            {
                await Data.ImbrekDatabase.MigrateAsync(source);
            }

            AppDomain.CurrentDomain.ProcessExit += (_, _) => DropDatabaseAsync(connection).GetAwaiter().GetResult();
            return new NpgsqlConnectionStringBuilder(connection).Database!;
        });

        /// <summary>Makes a database as it is.</summary>
        public static async Task CopyAsync(string name) => await CopyOfAsync(await Made.Value, name);
    }

    /// <summary>Makes a database as another is, once nobody is connected to that any more.</summary>
    private static Task CopyOfAsync(string template, string name) => Eventually.Async(async () =>
    {
        try
        {
            // Its files are copied, which takes half of what it takes to write each page of them to the log.
            await ExecuteAsync($"{Postgres};Database=postgres", $"create database {name} template {template} strategy file_copy");
            return true;
        }
        catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.ObjectInUse)
        {
            // A session of the process that was killed has not ended yet, or another test copies it in this moment.
            return false;
        }
    });

    /// <summary>Worlds that were made once: what their processes left when they were killed as soon as they could be used. Making one takes many times as long as copying it.</summary>
    private static class Seed
    {
        private static readonly System.Collections.Concurrent.ConcurrentDictionary<int, Lazy<Task<ServerProcess>>> Made = new();

        private static async Task<ServerProcess> MakeAsync(int days)
        {
            var name = $"t_seed_{Guid.NewGuid():n}";
            await ExecuteAsync($"{Postgres};Database=postgres", $"create database {name}");
            var made = new ServerProcess(name, Directory.CreateTempSubdirectory("imbrek-seed").FullName, days, FreePort.Find());
            AppDomain.CurrentDomain.ProcessExit += (_, _) => made.DisposeAsync().AsTask().GetAwaiter().GetResult();
            await made.RunAsync();
            await made.KillAsync();
            return made;
        }

        /// <summary>Makes a database and fills a folder as the seed's are that has so many days of history.</summary>
        public static async Task CopyAsync(int days, string name, string world)
        {
            var seed = await Made.GetOrAdd(days, d => new(() => MakeAsync(d))).Value;
            await CopyOfAsync(seed.database, name);
            foreach (var file in Directory.EnumerateFiles(seed.world!, "*", SearchOption.AllDirectories))
            {
                var to = Path.Combine(world, Path.GetRelativePath(seed.world!, file));
                Directory.CreateDirectory(Path.GetDirectoryName(to)!);
                File.Copy(file, to);
            }
        }
    }

    /// <summary>Makes an empty database; gives the connection string.</summary>
    public static async Task<string> NewDatabaseAsync()
    {
        var name = $"t_{Guid.NewGuid():n}";
        await ExecuteAsync($"{Postgres};Database=postgres", $"create database {name}");
        return $"{Postgres};Database={name};Maximum Pool Size=20";
    }

    /// <summary>Drops a database, whoever is connected to it.</summary>
    public static Task DropDatabaseAsync(string connection) =>
        ExecuteAsync($"{Postgres};Database=postgres", $"drop database {new NpgsqlConnectionStringBuilder(connection).Database} with (force)");

    /// <summary>Starts a process that is expected to end by itself, and gives what it said.</summary>
    public async Task<(int Exit, string Said)> RefusedAsync(params string[] arguments)
    {
        var folder = arguments.Contains("--demo") ? ServerFolder("Imbrek.Demo") : ServerFolder(Program);
        var start = new ProcessStartInfo(Path.Combine(folder, arguments.Contains("--demo") ? "Imbrek.Demo" : Program), ["--urls", $"http://127.0.0.1:{FreePort.Find()}", "--contentRoot", folder, .. arguments]) { RedirectStandardError = true };
        start.Environment["IMBREK_CONNECTION"] = ConnectionString;
        using var refused = Process.Start(start)!;
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(2));
        try
        {
            var told = await refused.StandardError.ReadToEndAsync(limit.Token);
            await refused.WaitForExitAsync(limit.Token);
            return (refused.ExitCode, told);
        }
        finally
        {
            // One that did not end by itself must not outlive its database.
            if (!refused.HasExited)
            {
                refused.Kill();
            }
        }
    }

    /// <summary>Starts a further process on the same PostgreSQL and the same world.</summary>
    public async Task<ServerProcess> StartPeerAsync(params string[] arguments)
    {
        var peer = new ServerProcess(database, world, days, FreePort.Find(), owns: false, more: arguments);
        await peer.RunAsync(usable: false);
        return peer;
    }

    /// <summary>Starts the process and waits until it can be used, or, for one that follows another, until it answers.</summary>
    public async Task RunAsync(bool usable = true)
    {
        var start = new ProcessStartInfo(Path.Combine(ServerFolder(Program), Program)) { RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (var arg in (string[])["--urls", Url, "--demo-days", $"{days}", "--demo-now", Handed, "--contentRoot", ServerFolder(Program), "--Logging:LogLevel:Default=Warning", .. world is null ? Array.Empty<string>() : ["--demo", world], .. more])
        {
            start.ArgumentList.Add(arg);
        }

        start.Environment["IMBREK_CONNECTION"] = ConnectionString + ";Maximum Pool Size=30";
        if (world is null && !first)
        {
            start.Environment["IMBREK_ADMIN_PASSWORD"] = Session.Password;
        }

        if (world is not null)
        {
            start.Environment["IMBREK_WEBHOOK_SECRET"] = "secret-of-the-tests";
            start.Environment["IMBREK_WEBHOOK"] = $"{Url}/webhook-receiver/secret-of-the-tests";
        }

        // These processes live for minutes: code measured to be made faster would not pay.
        start.Environment["DOTNET_TieredPGO"] = "0";
        process = Process.Start(start)!;
        killed = false;
        All[this] = true;
        process.OutputDataReceived += (_, e) => said.Enqueue(e.Data ?? "");
        process.ErrorDataReceived += (_, e) => said.Enqueue(e.Data ?? "");
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        using var http = new HttpClient();
        await Eventually.Async(
            async () =>
            {
                if (process.HasExited)
                {
                    throw new InvalidOperationException("the server ended: " + string.Join("\n", said));
                }

                try
                {
                    return (await http.GetAsync($"{Url}/healthz")).StatusCode == HttpStatusCode.OK || !usable;
                }
                catch (HttpRequestException)
                {
                    return false;
                }
            },
            what: () => string.Join("\n", said));
    }

    /// <summary>Starts the process again when it has ended: a test that failed between killing and starting it must not fail all that share it.</summary>
    /// <exception cref="InvalidOperationException">Nobody had killed it; says what it said last.</exception>
    public async Task ReviveAsync()
    {
        if (!process!.HasExited)
        {
            return;
        }

        var (exit, told, byItself) = (process.ExitCode, string.Join('\n', said.TakeLast(50)), !killed);
        await RunAsync();
        if (byItself)
        {
            throw new InvalidOperationException($"the shared server had ended by itself with {exit} and runs again; before that it said:\n{told}");
        }
    }

    /// <summary>Ends the process as a power cut would.</summary>
    public async Task KillAsync()
    {
        killed = true;
        process!.Kill();
        await process.WaitForExitAsync();
    }

    public Task ExecuteAsync(string sql) => ExecuteAsync(ConnectionString, sql);

    public async Task<T?> QueryAsync<T>(string sql)
    {
        await using var connection = new NpgsqlConnection(ConnectionString);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        return await command.ExecuteScalarAsync() is T value ? value : default;
    }

    public async ValueTask DisposeAsync()
    {
        await KillAsync();
        All.TryRemove(this, out _);
        if (!owns)
        {
            return;
        }

        if (world is not null)
        {
            Directory.Delete(world, recursive: true);
        }

        NpgsqlConnection.ClearAllPools();
        await ExecuteAsync($"{Postgres};Database=postgres", $"drop database {database} with (force)");
    }

    private static async Task ExecuteAsync(string to, string sql)
    {
        await using var connection = new NpgsqlConnection(to);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await command.ExecuteNonQueryAsync();
    }

    /// <summary>Where the build of the server beside this one lies: the same configuration.</summary>
    private static string ServerFolder(string program)
    {
        // They are started again and again: beside libraries compiled ahead they are up in half the time.
        if (Environment.GetEnvironmentVariable("IMBREK_PROGRAMS") is { } built)
        {
            return built;
        }

        var here = new DirectoryInfo(AppContext.BaseDirectory);
        var root = here;
        while (!Directory.Exists(Path.Combine(root.FullName, "src", "Imbrek.Server")))
        {
            root = root.Parent!;
        }

        return Path.Combine(root.FullName, "src", program, "bin", here.Parent!.Name, here.Name);
    }
}

/// <summary>Waits for something to come true.</summary>
internal static class Eventually
{
    /// <summary>It looks soon at first and then less often: most of what is waited for takes seconds, and looking costs the process that is to do it.</summary>
    private static readonly TimeSpan Soonest = TimeSpan.FromMilliseconds(20), Latest = TimeSpan.FromMilliseconds(250);

    public static async Task Async(Func<Task<bool>> isTrue, double seconds = 420, Func<string>? what = null)
    {
        var every = Soonest;
        using var timer = new PeriodicTimer(every);
        var until = Stopwatch.StartNew();
        while (!await isTrue())
        {
            if (until.Elapsed.TotalSeconds > seconds)
            {
                throw new TimeoutException($"it did not come true within {seconds} s: {what?.Invoke()}\n{ServerProcess.LastSaid}");
            }

            await timer.WaitForNextTickAsync();
            timer.Period = every = every * 1.25 < Latest ? every * 1.25 : Latest;
        }
    }
}
