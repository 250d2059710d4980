using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>Something that goes wrong, or is mended, at an instant of history.</summary>
/// <param name="At">When.</param>
/// <param name="Happens">What is done to the world.</param>
public sealed record ScriptedTrouble(Instant At, Action<World> Happens);
