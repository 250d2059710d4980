using System.Globalization;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>The first process of an engine on this machine, as its data folder names it.</summary>
internal static class Postmaster
{
    /// <summary>What an engine may take from the start of its process until it is ready to begin, seconds.</summary>
    private const int MostToBegin = 60;

    /// <summary>Its number; null when the engine does not run here, or its folder may not be read.</summary>
    /// <param name="data">The data folder.</param>
    public static int? Of(string data)
    {
        try
        {
            var file = Path.Combine(data, "postmaster.pid");
            return File.Exists(file) && int.TryParse(File.ReadLines(file).First(), NumberStyles.None, CultureInfo.InvariantCulture, out var pid)
                // Another process may have the number by now.
                && Directory.Exists($"/proc/{pid}") && File.ReadAllText($"/proc/{pid}/cmdline").Contains(data, StringComparison.Ordinal) ? pid : null;
        }
        catch (Exception e) when (e is IOException or InvalidOperationException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>
    /// Whether the engine that runs here in a data folder is the one that says so of itself. It takes some time from the instant it writes into its folder, when its process began, to the one it tells, when it was ready to begin:
    /// the two are not equal. What tells it from one of the same folder and port on another machine is that it started the process that answers.
    /// </summary>
    /// <param name="data">The data folder.</param>
    /// <param name="backend">The process that answers us, as it says.</param>
    /// <param name="started">When it says it was started, whole seconds of the Unix epoch.</param>
    /// <param name="port">The port it says it has.</param>
    public static bool Is(string data, int backend, long started, int port)
    {
        try
        {
            return Of(data) is { } first && ParentOf(backend) == first && File.ReadLines(Path.Combine(data, "postmaster.pid")).Take(4).ToArray() is [_, _, var began, var its]
                && long.TryParse(began.Trim(), NumberStyles.None, CultureInfo.InvariantCulture, out var process) && started - process is >= 0 and <= MostToBegin && its.Trim() == port.ToString(CultureInfo.InvariantCulture);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    /// <summary>The processes it has started.</summary>
    public static IReadOnlyList<int> ChildrenOf(int first) => [.. Directory.EnumerateDirectories("/proc").Select(d => int.TryParse(Path.GetFileName(d), NumberStyles.None, CultureInfo.InvariantCulture, out var pid) ? pid : 0).Where(p => p > 0 && ParentOf(p) == first)];

    private static int? ParentOf(int process)
    {
        try
        {
            // Behind the name in brackets: the state, then the parent.
            var stat = File.ReadAllText($"/proc/{process}/stat");
            return int.Parse(stat[(stat.LastIndexOf(')') + 2)..].Split(' ')[1], CultureInfo.InvariantCulture);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or FormatException or IndexOutOfRangeException)
        {
            return null;
        }
    }
}
