namespace Imbrek.StandIn;

/// <summary>A replica beside its source at one position.</summary>
/// <param name="Position">The position the replica has applied.</param>
/// <param name="Here">The digest of its pages.</param>
/// <param name="AtSource">What the source's was at that position.</param>
public sealed record ReplicaComparison(long Position, string Here, string AtSource)
{
    /// <summary>Whether both hold the same data.</summary>
    public bool Same => Here == AtSource;
}
