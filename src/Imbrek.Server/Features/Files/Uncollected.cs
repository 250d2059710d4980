using System.Runtime;

namespace Imbrek.Server.Features.Files;

/// <summary>
/// A time in which no garbage is collected. Of much that is read at once nearly all is kept until the end: to look in it for what is not, again and again, and to move the rest, takes longer than to read it. One of them at a
/// time, and none where the memory for it is not at hand; whatever is made beyond what was asked for is collected as ever.
/// </summary>
internal sealed class Uncollected : IDisposable
{
    /// <summary>Less than so much is not worth a collection at the start, which asking for it is.</summary>
    private const long Least = 64 << 20;

    private static int taken;

    private Uncollected()
    {
    }

    /// <summary>Begins such a time.</summary>
    /// <param name="bytes">How much may be made in it.</param>
    /// <returns>What ends it; null when there is none now.</returns>
    public static Uncollected? For(long bytes)
    {
        var memory = GC.GetGCMemoryInfo();
        if (bytes < Least || (memory.TotalAvailableMemoryBytes - memory.MemoryLoadBytes) / 2 < bytes || Interlocked.Exchange(ref taken, 1) != 0)
        {
            return null;
        }

        try
        {
            if (GC.TryStartNoGCRegion(bytes))
            {
                return new();
            }
        }
        catch (Exception e) when (e is ArgumentOutOfRangeException or InvalidOperationException)
        {
            // More than this machine's collector leaves alone.
        }

        taken = 0;
        return null;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        try
        {
            if (GCSettings.LatencyMode == GCLatencyMode.NoGCRegion)
            {
                GC.EndNoGCRegion();
            }
        }
        catch (InvalidOperationException)
        {
            // It has just ended by itself, since more was made than had been asked for.
        }

        taken = 0;
    }
}
