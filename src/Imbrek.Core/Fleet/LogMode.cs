namespace Imbrek.Core.Fleet;

/// <summary>What a database does with its log.</summary>
public enum LogMode
{
    /// <summary>Log is kept until it is backed up: log backups and point-in-time restores are possible.</summary>
    Kept,

    /// <summary>Log is thrown away: no log backup and no point-in-time restore.</summary>
    Discarded,
}
