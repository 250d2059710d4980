using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>What a driver did and measured; never what was planned.</summary>
/// <param name="Seconds">Seconds it took, by the clock of who did it; 0 when it was found done.</param>
/// <param name="Bytes">Bytes it moved in this call; 0 when it moved none.</param>
/// <param name="Reached">Up to when the instance holds what was committed; null when that is not known yet.</param>
/// <param name="Position">The log position it stands at; null when not known.</param>
public sealed record Moved(double Seconds, long Bytes, Instant? Reached = null, long? Position = null)
{
    /// <summary>It was done already.</summary>
    public static Moved Nothing { get; } = new(0, 0);
}
