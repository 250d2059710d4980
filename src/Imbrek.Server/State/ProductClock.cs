using NodaTime;

namespace Imbrek.Server.State;

/// <summary>The one clock: the world's in a demo, the machine's otherwise.</summary>
internal sealed class ProductClock : IClock
{
    private Func<Instant> source = () => SystemClock.Instance.GetCurrentInstant();
    private Func<Instant>? told;

    public Instant GetCurrentInstant() => source();

    /// <summary>Up to when all that happened is known here: now, but where a world runs faster than it tells. What stands now is shown as of this instant.</summary>
    public Instant ToldTo => told is { } t ? Instant.Min(t(), source()) : source();

    /// <summary>Lets a world tell the time from now on.</summary>
    /// <param name="world">Its time.</param>
    /// <param name="toldTo">Up to when it has told what happened in it; null for now.</param>
    public void Follow(Func<Instant> world, Func<Instant>? toldTo = null) => (source, told) = (world, toldTo);
}
