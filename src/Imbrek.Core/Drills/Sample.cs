using Imbrek.Core.Timetable;

namespace Imbrek.Core.Drills;

/// <summary>A draw that anybody can repeat: the names with the least numbers of a seed. Nobody picks.</summary>
public static class Sample
{
    /// <summary>Draws names without replacement, in the order drawn.</summary>
    /// <param name="names">The names, each once.</param>
    /// <param name="count">How many; all when there are fewer.</param>
    /// <param name="seed">The seed, kept with the draw.</param>
    public static IReadOnlyList<string> Of(IEnumerable<string> names, int count, ulong seed) =>
        [.. names.OrderBy(n => Draw.Of(seed, n)).ThenBy(n => n, StringComparer.Ordinal).Take(count)];
}
