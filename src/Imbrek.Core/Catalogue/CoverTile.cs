using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Catalogue;

/// <summary>A piece of a cover strip: one set, or neighbouring log sets too narrow to tell apart.</summary>
/// <param name="Kind">The kind of the sets.</param>
/// <param name="Store">The store their copies lie in.</param>
/// <param name="From">Where it begins.</param>
/// <param name="To">Where it ends.</param>
/// <param name="Sets">How many sets it stands for.</param>
/// <param name="Set">The set, when it is one.</param>
/// <param name="Damaged">Whether a copy of them is damaged.</param>
/// <param name="Locked">Whether every copy is locked at the as-of instant.</param>
/// <param name="Removed">Whether the copies were removed by the as-of instant.</param>
public sealed record CoverTile(
    SetKind Kind,
    Id<Store> Store,
    Instant From,
    Instant To,
    int Sets,
    Id<BackupSet>? Set,
    bool Damaged,
    bool Locked,
    bool Removed)
{
    /// <summary>
    /// Lays the tiles of a strip. Logs that follow one another without a gap in position are joined while they are narrower than
    /// <paramref name="atLeast"/>; a gap is never joined over, however narrow.
    /// </summary>
    /// <param name="catalogue">The sets.</param>
    /// <param name="from">Where the strip begins.</param>
    /// <param name="to">Where the strip ends.</param>
    /// <param name="at">As of when.</param>
    /// <param name="atLeast">The narrowest tile that can be told apart.</param>
    public static IReadOnlyList<CoverTile> Lay(DatabaseCatalogue catalogue, Instant from, Instant to, Instant at, Duration atLeast)
    {
        var tiles = new List<CoverTile>();
        var open = new Dictionary<Id<Store>, (CoverTile Tile, long Position)>();
        for (var i = 0; i < catalogue.Count; i++)
        {
            var set = catalogue[i];
            var start = set.CoversFrom ?? set.CoversTo;
            if (set.CoversTo < from || start > to)
            {
                continue;
            }

            foreach (var copy in set.Copies.Where(c => c.AvailableAt <= at))
            {
                var tile = new CoverTile(
                    set.Kind,
                    copy.Store,
                    start,
                    set.CoversTo,
                    1,
                    set.Id,
                    copy.State == CopyState.Damaged,
                    copy.LockedUntil > at,
                    copy.RemovedAt <= at);
                if (set.Kind != SetKind.Log)
                {
                    tiles.Add(tile);
                    continue;
                }

                if (open.TryGetValue(copy.Store, out var before))
                {
                    var joins = set.FromPosition <= before.Position && tile.Removed == before.Tile.Removed && tile.Damaged == before.Tile.Damaged
                        && tile.To - tile.From < atLeast;
                    if (joins)
                    {
                        open[copy.Store] = (before.Tile with { To = tile.To, Sets = before.Tile.Sets + 1, Set = null, Locked = before.Tile.Locked && tile.Locked }, set.ToPosition);
                        continue;
                    }

                    tiles.Add(before.Tile);
                }

                open[copy.Store] = (tile, set.ToPosition);
            }
        }

        tiles.AddRange(open.Values.Select(o => o.Tile));
        return tiles;
    }
}
