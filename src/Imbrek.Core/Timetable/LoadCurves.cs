namespace Imbrek.Core.Timetable;

/// <summary>How much each resource moves over time, in slices of five minutes.</summary>
public sealed class LoadCurves
{
    /// <summary>Milliseconds of a slice.</summary>
    public const long Slice = 300_000;

    private readonly float[]?[] bytes;
    private readonly long from;
    private readonly int slices;

    internal LoadCurves(int resources, long from, long to)
    {
        (this.from, slices) = (from, (int)((to - from + Slice - 1) / Slice));
        bytes = new float[]?[resources];
    }

    /// <summary>How many slices there are.</summary>
    public int Slices => slices;

    /// <summary>Bytes moved in each slice by a resource; empty when it moved nothing.</summary>
    public ReadOnlySpan<float> Of(int resource) => bytes[resource] ?? [];

    /// <summary>
    /// Moves on to the next slice what is more than a resource can move in one. Log backups are predicted each for itself, beside all else;
    /// what they ask for while others use all there is moves when there is room again, and no byte is lost but those after the last slice.
    /// </summary>
    /// <param name="resource">Which.</param>
    /// <param name="bytesPerSecond">Its bandwidth.</param>
    internal void Level(int resource, double bytesPerSecond)
    {
        var most = bytesPerSecond * Slice / 1000;
        var late = 0.0;
        foreach (ref var slice in (bytes[resource] ?? []).AsSpan())
        {
            var wanted = slice + late;
            slice = (float)Math.Min(wanted, most);
            late = Math.Max(wanted - most, 0);
        }
    }

    internal void Add(int resource, double moved, double start, double end)
    {
        var curve = bytes[resource] ??= new float[slices];
        var first = (int)((start - from) / Slice);
        var last = (int)((end - from) / Slice);
        if (last < 0 || first >= slices)
        {
            return;
        }

        if (first == last || end <= start)
        {
            curve[Math.Clamp(first, 0, slices - 1)] += (float)moved;
            return;
        }

        var rate = moved / (end - start);
        for (var s = Math.Max(first, 0); s <= Math.Min(last, slices - 1); s++)
        {
            var (a, b) = (from + (s * (double)Slice), from + ((s + 1) * (double)Slice));
            curve[s] += (float)(rate * (Math.Min(b, end) - Math.Max(a, start)));
        }
    }
}
