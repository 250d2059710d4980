using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Log;

/// <summary>The history of a timeline, as the engine writes it: of each before it where it was left.</summary>
internal static class TimelineHistory
{
    private const string Between = "\u001f";

    /// <summary>The timeline a primary writes: the first part of the name of its file.</summary>
    public static async Task<int> NowAsync(NpgsqlConnection connection, CancellationToken cancel) =>
        int.Parse((await connection.AskAsync<string>("select pg_walfile_name(pg_current_wal_lsn())", cancel)).AsSpan(0, 8), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture);

    /// <summary>Asks for it. Npgsql cannot read what version 15 answers; the engine's own client can.</summary>
    /// <exception cref="DriverException">The engine cannot be reached, or does not tell.</exception>
    public static async Task<string> AskAsync(ISignIn engine, int timeline, CancellationToken cancel)
    {
        var said = await Tools.RunAsync(
            Path.Combine(Tools.FolderOf("15"), "psql"),
            [
                "--no-psqlrc", "--no-password", "--tuples-only", "--no-align", "--field-separator", Between, "--host", engine.Address, "--port", engine.Port.ToString(CultureInfo.InvariantCulture), "--username", engine.User,
                "--dbname", "replication=true", "--command", string.Create(CultureInfo.InvariantCulture, $"TIMELINE_HISTORY {timeline}"),
            ],
            cancel,
            engine.Credential is { } name ? Credentials.Of(name) : null);
        var at = said.IndexOf(Between, StringComparison.Ordinal);
        return at > 0 ? said[(at + 1)..].TrimEnd('\n') + "\n" : throw new DriverException(DriverProblem.Refused, $"{engine.Address}:{engine.Port} does not tell how timeline {timeline} came to be");
    }

    /// <summary>Reads <c>1\t0/3000148\treason</c> lines, the oldest first; what is no such line is none.</summary>
    public static IReadOnlyList<(int Timeline, Lsn LeftAt)> Read(string text) =>
    [
        .. text.Split('\n').Select(l => l.Split('\t', StringSplitOptions.TrimEntries)).Where(p => p.Length >= 2 && int.TryParse(p[0], NumberStyles.None, CultureInfo.InvariantCulture, out _))
            .Select(p => (int.Parse(p[0], CultureInfo.InvariantCulture), Lsn.Parse(p[1]))),
    ];
}
