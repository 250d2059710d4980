using System.Globalization;
using Imbrek.PostgreSql.Cluster;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Copies a whole cluster, or a standby of it, with the log that the copy needs, by the engine's own tool.</summary>
internal static class BaseCopy
{
    /// <summary>Takes a copy.</summary>
    /// <param name="from">The engine it is taken from.</param>
    /// <param name="folder">Where it goes: an empty folder.</param>
    /// <param name="more">More words for the tool.</param>
    /// <param name="bytesPerSecond">How many bytes a second it may take; null for as many as it can.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <param name="asEngine">Whether an engine is to be started on it, so that it must be the engine's own.</param>
    /// <exception cref="Core.Drivers.DriverException">It cannot be had; says what the tool said.</exception>
    public static Task TakeAsync(ISignIn from, string folder, IReadOnlyList<string> more, long? bytesPerSecond, CancellationToken cancel, bool asEngine = false) => Tools.RunAsync(
        Path.Combine(Tools.FolderOf("15"), "pg_basebackup"),
        [
            "--host", from.Address, "--port", from.Port.ToString(CultureInfo.InvariantCulture), "--username", from.User, "--no-password", "--pgdata", folder, "--wal-method", "stream", "--checkpoint", "fast",
            .. bytesPerSecond is { } rate ? ["--max-rate", (rate / 1024).ToString(CultureInfo.InvariantCulture)] : Array.Empty<string>(),
            .. more,
        ],
        cancel,
        Credentials.ForDriver(from.Credential),
        asEngine);
}
