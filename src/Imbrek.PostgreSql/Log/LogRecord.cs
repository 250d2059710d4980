namespace Imbrek.PostgreSql.Log;

/// <summary>A record of the log that is whole: its checksum is right.</summary>
/// <param name="Position">Where it begins.</param>
/// <param name="End">Where the next one begins.</param>
internal readonly record struct LogRecord(Lsn Position, Lsn End);
