using Imbrek.Server.Security;
using NodaTime;

namespace Imbrek.Server.Features.Live;

/// <summary><c>GET /api/clock</c>: the product's time, for everybody.</summary>
internal static class ClockEndpoint
{
    /// <param name="Now">The time.</param>
    /// <param name="Demo">Whether a simulated world leads it.</param>
    /// <param name="Pace">Seconds of it a second of the machine's.</param>
    public sealed record ClockView(Instant Now, bool Demo, double Pace);

    public static void Map(IEndpointRouteBuilder app) => app.MapGet("/api/clock", (IClock clock, IGuest guest) => TypedResults.Ok(new ClockView(clock.GetCurrentInstant(), guest.SetsThePace, guest.Pace)))
        .Needs(Roles.Look).WithName("Clock");
}
