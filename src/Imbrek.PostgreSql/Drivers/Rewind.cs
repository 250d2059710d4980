using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Taking an old primary back to where the timeline of the new one began, so that no more is moved than differs.</summary>
internal static class Rewind
{
    private const double CheckpointSeconds = 30;
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);
    private static readonly Regex Copied = new(@"(\d+)/\d+ kB \(100%\) copied", RegexOptions.CultureInvariant);

    /// <summary>Takes an old primary back to where the new one's timeline began, by the engine's own tool. It may be killed on the way: then it is no use any more, and a copy takes its place.</summary>
    /// <returns>The bytes of data files that were moved; null when it cannot be done.</returns>
    public static async Task<long?> TryAsync(Instance old, ISignIn from, CancellationToken cancel)
    {
        try
        {
            await old.DownAsync(cancel);
            if (!await SaysItsTimelineAsync(from, cancel))
            {
                return null;
            }

            var said = await Tools.RunAsync(
                Path.Combine(Tools.FolderOf("15"), "pg_rewind"),
                [
                    "--target-pgdata", old.Data, "--progress",
                    "--source-server", $"host={Instance.Word(from.Address)} port={from.Port} user={Instance.Word(from.User)} dbname={Instance.Word(from.SignInTo)} application_name=imbrek",
                ],
                cancel,
                Credentials.ForDriver(from.Credential),
                asEngine: true,
                tellsProgress: true);
            return Copied.Match(said) is { Success: true } m ? long.Parse(m.Groups[1].Value, CultureInfo.InvariantCulture) * 1024 : 0;
        }
        catch (DriverException e) when (e.Problem != DriverProblem.Unreachable)
        {
            return null;
        }
    }

    /// <summary>
    /// Waits until the files of a primary say on which timeline it is: until its first checkpoint they still name the one before, and what is taken back by them does not start. One that may not ask for a checkpoint
    /// waits for it, for a while.
    /// </summary>
    private static async Task<bool> SaysItsTimelineAsync(ISignIn primary, CancellationToken cancel)
    {
        await using var there = await Connections.OpenAsync(primary, cancel);
        try
        {
            await using var checkpoint = new NpgsqlCommand("checkpoint", there) { CommandTimeout = (int)CheckpointSeconds };
            await checkpoint.ExecuteNonQueryAsync(cancel);
        }
        catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.InsufficientPrivilege)
        {
            // It makes one by itself.
        }

        var began = Stopwatch.GetTimestamp();
        using var timer = new PeriodicTimer(Look);
        while (!await there.AskAsync<bool>("select lpad(upper(to_hex(timeline_id)), 8, '0') = left(pg_walfile_name(pg_current_wal_lsn()), 8) from pg_control_checkpoint()", cancel))
        {
            if (Stopwatch.GetElapsedTime(began).TotalSeconds > CheckpointSeconds)
            {
                return false;
            }

            await timer.WaitForNextTickAsync(cancel);
        }

        return true;
    }
}
