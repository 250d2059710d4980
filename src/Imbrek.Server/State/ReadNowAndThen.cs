using System.Diagnostics;
using Npgsql;

namespace Imbrek.Server.State;

/// <summary>Something kept in memory that another process may change: it is read again beside whoever asks for it, when that was last done some time ago.</summary>
/// <param name="what">What it is, for the log.</param>
/// <param name="every">How long what was read is good for.</param>
/// <param name="read">Reads it.</param>
/// <param name="log">Where it is said that it could not be read; it is tried again.</param>
internal sealed class ReadNowAndThen(string what, TimeSpan every, Func<Task> read, ILogger log)
{
    private long lookedAt;
    private int looking;

    /// <summary>Has it read again, if it is time; waits for nobody.</summary>
    public void Look()
    {
        if ((lookedAt == 0 || Stopwatch.GetElapsedTime(lookedAt) > every) && Interlocked.Exchange(ref looking, 1) == 0)
        {
            _ = Task.Run(ReadAsync);
        }
    }

    private async Task ReadAsync()
    {
        try
        {
            await read();
        }
        catch (Exception e) when (e is NpgsqlException or InvalidOperationException or System.Text.Json.JsonException)
        {
            log.LogWarning(e, "{What} could not be read", what);
        }
        finally
        {
            lookedAt = Stopwatch.GetTimestamp();
            Volatile.Write(ref looking, 0);
        }
    }
}
