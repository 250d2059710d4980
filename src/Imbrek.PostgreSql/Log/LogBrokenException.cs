namespace Imbrek.PostgreSql.Log;

/// <summary>The log is not what it should be at a position.</summary>
internal sealed class LogBrokenException(Lsn position, string what) : Exception($"the log is broken at {position}: {what}")
{
    public Lsn Position { get; } = position;
}
