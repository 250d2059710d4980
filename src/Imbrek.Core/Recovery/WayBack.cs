using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A way to bring a database back: where, to which instant, in what time (section 4). Either sets are restored, or a replica takes over.</summary>
/// <param name="Host">Where it will run.</param>
/// <param name="Reaches">The instant reached.</param>
/// <param name="LostSeconds">Target − reached, seconds.</param>
/// <param name="Seconds">The way alone, seconds.</param>
/// <param name="ServiceSeconds">With all that comes before and after it, until clients work again: what RTO is compared with.</param>
/// <param name="Choice">What to decide so that this way is the best.</param>
public abstract record WayBack(Id<Host> Host, Instant Reaches, double LostSeconds, double Seconds, double ServiceSeconds, PathChoice Choice)
{
    /// <summary>Whether the seconds rest on finished runs, all or in part.</summary>
    public bool UsesLearned { get; init; }
}
