using NodaTime;

namespace Imbrek.Server.State;

/// <summary>The one clock: the world's in a demo, the machine's otherwise.</summary>
internal sealed class ProductClock : IClock
{
    private Func<Instant> source = () => SystemClock.Instance.GetCurrentInstant();

    public Instant GetCurrentInstant() => source();

    /// <summary>Lets a world tell the time from now on.</summary>
    public void Follow(Func<Instant> world) => source = world;
}
