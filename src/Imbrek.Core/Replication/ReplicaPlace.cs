using Imbrek.Core.Fleet;

namespace Imbrek.Core.Replication;

/// <summary>Where a replica lies: on a host, or as blocks on an array.</summary>
public abstract record ReplicaPlace
{
    private ReplicaPlace()
    {
    }

    /// <summary>The hosts it can be opened on, in order: its own, or those that can open its array.</summary>
    public IReadOnlyList<Id<Host>> Hosts => this switch
    {
        OnHost h => [h.Host],
        OnArray a => a.OpensOn,
        _ => throw new InvalidOperationException(),
    };

    /// <summary>On a host.</summary>
    /// <param name="Host">The host.</param>
    public sealed record OnHost(Id<Host> Host) : ReplicaPlace;

    /// <summary>On an array.</summary>
    /// <param name="Array">The array.</param>
    /// <param name="OpensOn">The hosts that can open it, in order; at least one.</param>
    public sealed record OnArray(Id<StorageArray> Array, IReadOnlyList<Id<Host>> OpensOn) : ReplicaPlace;
}
