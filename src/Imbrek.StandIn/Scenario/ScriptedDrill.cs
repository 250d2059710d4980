using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>A drill held during history.</summary>
/// <param name="At">When it began.</param>
/// <param name="Replica">The replica that became the primary.</param>
/// <param name="Kind">Switchover or forced.</param>
/// <param name="Ending">How it was to end.</param>
/// <param name="Loss">The loss a forced one stood for, as in the open formats; that of the primary's host when null.</param>
/// <param name="PeopleSeconds">How long people took each time they were asked, seconds.</param>
/// <param name="CalledOff">Whether it was called off when everybody had been told.</param>
public sealed record ScriptedDrill(Instant At, Id<Replica> Replica, DrillKind Kind, DrillEnding Ending, string? Loss, double PeopleSeconds, bool CalledOff = false)
{
    /// <summary>For how long before it the replica had received nothing, seconds, because somebody had stopped it and forgotten that.</summary>
    public double StoppedBeforeSeconds { get; init; }
}
