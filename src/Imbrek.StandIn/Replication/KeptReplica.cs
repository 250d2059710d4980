namespace Imbrek.StandIn.Replication;

/// <summary>What a replica remembers over a restart of the world; its pages are computed again. Instants are milliseconds.</summary>
public sealed record KeptReplica
{
    /// <summary>Up to when it received everything.</summary>
    public double ReceivedTo { get; init; }

    /// <summary>Up to when it applied everything.</summary>
    public double AppliedTo { get; init; }

    /// <summary>The position received.</summary>
    public long ReceivedPosition { get; init; }

    /// <summary>The position applied.</summary>
    public long AppliedPosition { get; init; }

    /// <summary>The branch it follows.</summary>
    public int Branch { get; init; } = 1;

    /// <summary>Since when it receives nothing; null while it does.</summary>
    public double? StandsSince { get; init; }

    /// <summary>Why it cannot be used any more; null while it can.</summary>
    public string? Unusable { get; init; }

    /// <summary>Whether somebody holds it.</summary>
    public bool Held { get; init; }

    /// <summary>Whether it waits to be told to go on.</summary>
    public bool WaitsForWord { get; init; }

    /// <summary>Whether applying was stopped.</summary>
    public bool ApplyStopped { get; init; }

    /// <summary>Until when somebody reads in it so that nothing can be applied.</summary>
    public long ReaderUntil { get; init; }

    /// <summary>Whether its sign-in at the source has expired.</summary>
    public bool SignInExpired { get; init; }

    /// <summary>Rows that were written in it and not at its source.</summary>
    public List<ForeignWrite> Foreign { get; init; } = [];

    /// <summary>Of a shipped one, where its stages stand.</summary>
    public KeptStages? Stages { get; init; }

    /// <summary>A row written in the replica itself.</summary>
    /// <param name="Row">Which.</param>
    /// <param name="Value">What was written.</param>
    /// <param name="Position">The position applied then.</param>
    public sealed record ForeignWrite(int Row, uint Value, long Position);
}

/// <summary>Where the stages of a shipped replica stand; instants are milliseconds.</summary>
/// <param name="BackedUpTo">Up to when log has been backed up.</param>
/// <param name="Parcels">What was backed up and is still kept on either side.</param>
public sealed record KeptStages(double BackedUpTo, List<Parcel> Parcels)
{
    /// <summary>For how long what is backed up is kept at the source, seconds, where a plan says so; null for as the replica states.</summary>
    public double? KeepsAtSource { get; init; }

    /// <summary>For how long what was copied is kept here, seconds, where a plan says so; null for as the replica states.</summary>
    public double? KeepsHere { get; init; }
}

/// <summary>Log that was backed up to be shipped; instants are milliseconds.</summary>
/// <param name="From">What was committed after this instant,</param>
/// <param name="To">up to this one.</param>
/// <param name="Bytes">How much it is.</param>
/// <param name="MadeAt">When it was there to be copied.</param>
/// <param name="HereAt">When it was copied; null when it was not yet.</param>
public sealed record Parcel(double From, double To, double Bytes, double MadeAt, double? HereAt);
