using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Catalogue;

/// <summary>One copy of a backup set, in one store.</summary>
/// <param name="Store">Where it lies.</param>
/// <param name="AvailableAt">From when it can be read.</param>
/// <param name="RemovedAt">When it was removed; null while it is there.</param>
/// <param name="LockedUntil">Until when nobody can delete it; null when it is not locked.</param>
/// <param name="StoredBytes">Bytes it takes in the store.</param>
/// <param name="State">What is known of its bytes.</param>
public sealed record BackupCopy(
    Id<Store> Store,
    Instant AvailableAt,
    Instant? RemovedAt,
    Instant? LockedUntil,
    long StoredBytes,
    CopyState State);
