using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>Sets restored one after another (section 4).</summary>
/// <param name="Host">Where it is restored.</param>
/// <param name="Reaches">The instant reached.</param>
/// <param name="LostSeconds">Target − reached, seconds.</param>
/// <param name="Seconds">Provision + steps + open, seconds.</param>
/// <param name="ServiceSeconds">Detect + decide + <paramref name="Seconds"/> + check + redirect.</param>
/// <param name="ProvisionSeconds">Seconds to make the instance.</param>
/// <param name="OpenSeconds">Seconds to open it.</param>
/// <param name="Steps">Sets in the order they are restored.</param>
/// <param name="Choice">What to decide so that this way is the best.</param>
public sealed record RestorePath(
    Id<Host> Host,
    Instant Reaches,
    double LostSeconds,
    double Seconds,
    double ServiceSeconds,
    double ProvisionSeconds,
    double OpenSeconds,
    IReadOnlyList<PathStep> Steps,
    PathChoice Choice) : WayBack(Host, Reaches, LostSeconds, Seconds, ServiceSeconds, Choice)
{
    /// <summary>Settings of the host that are changed for it and set back; none where it works as things are.</summary>
    public IReadOnlyList<NeededSetting> Needs { get; init; } = [];

    /// <summary>The set everything else is applied to.</summary>
    public PathStep Base => Steps[0];

    /// <summary>The set that log is applied to: the base, or the last of what builds on it.</summary>
    public PathStep Onto => Steps.Last(s => s.Kind != Catalogue.SetKind.Log);
}
