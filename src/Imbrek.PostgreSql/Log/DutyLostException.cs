namespace Imbrek.PostgreSql.Log;

/// <summary>Another process has taken the duty over.</summary>
internal sealed class DutyLostException() : Exception("another process receives this log");
