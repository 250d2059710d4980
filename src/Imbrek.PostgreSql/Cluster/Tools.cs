using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;
using Imbrek.Core.Drivers;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>
/// Runs the engine's own command line tools. What is started for a step dies with this process (the kernel sees to that), so that a server that is killed leaves none
/// behind; a started instance outlives it, because a run that is held must. The engine refuses to run as root: then it runs as <c>postgres</c>.
/// </summary>
internal static class Tools
{
    private const int MostSaid = 4000;

    // The kernel ends a child with the thread that made it: one thread makes all, and lives as long as the process.
    private static readonly BlockingCollection<Action> ToStart = [];

    static Tools() => new Thread(() =>
    {
        foreach (var start in ToStart.GetConsumingEnumerable())
        {
            start();
        }
    })
    { IsBackground = true, Name = "tools" }.Start();

    /// <summary>Where the tools of a major version are.</summary>
    public static string FolderOf(string version) => Environment.GetEnvironmentVariable("IMBREK_PG_BIN") ?? $"/usr/lib/postgresql/{version}/bin";

    /// <summary>Whether this process is root.</summary>
    public static bool IsRoot { get; } = Environment.UserName == "root";

    /// <summary>Runs a tool to its end.</summary>
    /// <param name="program">Its file.</param>
    /// <param name="arguments">Its arguments; never a password.</param>
    /// <param name="cancel">Ends it.</param>
    /// <param name="password">Given to it in its environment; null for none.</param>
    /// <param name="asEngine">Whether it must run as somebody who is not root.</param>
    /// <param name="outlives">Whether what it starts goes on when this process ends.</param>
    /// <param name="tellsProgress">Whether what it says of its progress, beside its output, is wanted as well.</param>
    /// <returns>What it wrote to its output.</returns>
    /// <exception cref="DriverException">It ended badly; says what it said.</exception>
    public static async Task<string> RunAsync(string program, IReadOnlyList<string> arguments, CancellationToken cancel, string? password = null, bool asEngine = false, bool outlives = false, bool tellsProgress = false)
    {
        List<string> words = [];
        if (!outlives)
        {
            words.AddRange(["--pdeathsig", "KILL"]);
        }

        if (asEngine && IsRoot)
        {
            words.AddRange(["--reuid", "postgres", "--regid", "postgres", "--init-groups"]);
        }

        var start = new ProcessStartInfo("setpriv", [.. words, "--", program, .. arguments])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
            WorkingDirectory = "/",
        };
        start.Environment["LC_ALL"] = "C.UTF-8";
        start.Environment.Remove("PGPASSWORD");
        foreach (var own in start.Environment.Keys.Where(k => k.StartsWith("IMBREK_", StringComparison.Ordinal)).ToArray())
        {
            start.Environment.Remove(own);
        }

        if (password is not null)
        {
            start.Environment["PGPASSWORD"] = password;
        }

        var started = new TaskCompletionSource<Process>(TaskCreationOptions.RunContinuationsAsynchronously);
        ToStart.Add(() =>
        {
            try
            {
                started.SetResult(Process.Start(start)!);
            }
            catch (Exception e)
            {
                started.SetException(new DriverException(DriverProblem.Refused, $"{Path.GetFileName(program)} cannot be started: {e.Message}"));
            }
        }, cancel);
        using var process = await started.Task;
        process.StandardInput.Close();

        // Read to the end of both, whatever it starts: what is left in a pipe would hold it up.
        var (output, errors) = (Collect(process.StandardOutput), Collect(process.StandardError));
        try
        {
            await process.WaitForExitAsync(cancel);
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
            throw;
        }

        // What outlives it may hold its pipes.
        var said = outlives ? output.IsCompleted ? await output : "" : await output;
        if (process.ExitCode == 0)
        {
            return tellsProgress ? said + await errors : said;
        }

        var why = outlives && !errors.IsCompleted ? "" : (await errors).Trim();
        var told = why.Length > 0 ? why : $"it ended with {process.ExitCode}";
        throw new DriverException(
            told.Contains("No space left", StringComparison.Ordinal) ? DriverProblem.NoRoom
            : told.Contains("could not connect", StringComparison.Ordinal) || told.Contains("connection to server", StringComparison.Ordinal) || told.Contains("server closed the connection", StringComparison.Ordinal)
                || told.Contains("could not receive data", StringComparison.Ordinal) || told.Contains("the database system is", StringComparison.Ordinal) || told.Contains("terminating connection", StringComparison.Ordinal) ? DriverProblem.Unreachable
            : DriverProblem.Refused,
            $"{Path.GetFileName(program)}: {told}");

        static async Task<string> Collect(StreamReader from)
        {
            var all = new StringBuilder();
            var some = new char[2048];
            while (await from.ReadAsync(some) is > 0 and var n)
            {
                all.Append(some, 0, n);
                if (all.Length > MostSaid * 2)
                {
                    all.Remove(0, all.Length - MostSaid);
                }
            }

            return all.ToString();
        }
    }

    /// <summary>Gives a folder and all in it to whoever the engine runs as.</summary>
    public static async Task GiveToEngineAsync(string folder, CancellationToken cancel)
    {
        if (IsRoot)
        {
            await RunAsync("chown", ["-R", "postgres:postgres", "--", folder], cancel);
        }
    }
}
