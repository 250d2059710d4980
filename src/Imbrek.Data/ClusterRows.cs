using NodaTime;

namespace Imbrek.Data;

/// <summary>A real cluster that a database of the fleet is, how it is reached, and who receives its log.</summary>
public sealed class ClusterRow
{
    public string Database { get; set; } = "";

    /// <summary>How it is reached, as JSON of its family; credentials by name alone.</summary>
    public string Document { get; set; } = "";

    public string AddedBy { get; set; } = "";

    public Instant AddedAt { get; set; }

    /// <summary>The process that receives its log; null when none does.</summary>
    public string? Owner { get; set; }

    /// <summary>Rises with each process that takes the duty over.</summary>
    public long Fence { get; set; }

    /// <summary>Until when nobody else may take it over, by the clock of PostgreSQL.</summary>
    public Instant? LeaseUntil { get; set; }

    /// <summary>How the receiving stands, as JSON of its family; null before the first time.</summary>
    public string? Received { get; set; }
}

/// <summary>A folder that a store of the fleet is, or where instances are restored on a host.</summary>
public sealed class FolderRow
{
    public const string OfStore = "store";
    public const string OfHost = "host";

    /// <summary>What it is the folder of.</summary>
    public string Kind { get; set; } = "";

    public string Id { get; set; } = "";

    public string Folder { get; set; } = "";
}
