using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;

namespace Imbrek.Core.Recovery;

/// <summary>What somebody decides about the way back; where null, the rule of section 4 decides.</summary>
/// <param name="Host">The recovery host; null for the first of the database's recovery hosts that qualifies.</param>
/// <param name="Base">The set that log is applied to (or that alone is restored).</param>
/// <param name="Without">A store that nothing is to be read from.</param>
/// <param name="Replica">The replica that takes over; sets answer only where none is named.</param>
public sealed record PathChoice(Id<Host>? Host = null, Id<BackupSet>? Base = null, Id<Store>? Without = null, Id<Replica>? Replica = null)
{
    /// <summary>Whether it is decided that sets are restored.</summary>
    public bool IsOfSets => Base is not null || Without is not null;
}
