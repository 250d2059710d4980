namespace Imbrek.Core.Runs;

/// <summary>Things that take a place each, in a given order, as many at once in a place as it has room for.</summary>
public static class InTurn
{
    /// <summary>For each of them, which one before it must have ended so that there is room; null where there is room from the beginning.</summary>
    /// <param name="places">The place of each, in the order in which they go first.</param>
    /// <param name="room">How many a place has room for at once; at least one goes.</param>
    public static IReadOnlyList<int?> After<T>(IReadOnlyList<T> places, Func<T, int> room)
        where T : notnull
    {
        var there = new Dictionary<T, List<int>>();
        var after = new int?[places.Count];
        for (var i = 0; i < places.Count; i++)
        {
            var before = there.TryGetValue(places[i], out var some) ? some : there[places[i]] = [];
            after[i] = before.Count - Math.Max(1, room(places[i])) is var frees and >= 0 ? before[frees] : null;
            before.Add(i);
        }

        return after;
    }
}
