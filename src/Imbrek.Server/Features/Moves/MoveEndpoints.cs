using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Moves;

/// <summary>A move with little downtime, computed before anything is touched: its rounds, whether the last fits, and what would have to be otherwise.</summary>
internal static class MoveEndpoints
{
    /// <summary>What is asked for; what is left out is as the fleet knows it.</summary>
    /// <param name="To">The host it is to live on.</param>
    public sealed record MoveSheetRequest(string Database, string To, double? Change, double? Rate, double? Round, double? Window, double? Metadata, double? Check, double? Read, int? Most);

    public sealed record MoveRound(double Bytes, double Seconds);

    /// <summary>What would make it fit, each by itself.</summary>
    public sealed record MoveRemedyView(double Window, double? Rate, double? Change);

    /// <param name="Why">Why it is not possible there; null when it is.</param>
    public sealed record MoveSheet(
        string Name, string From, string To, string? Why, double Size, double Change, string ChangeFrom, double Rate, string RateFrom, double Round, double Window, double Metadata, double Check, double? Read,
        IReadOnlyList<MoveRound> Rounds, MoveRound Last, double DowntimeSeconds, bool Fits, double TotalSeconds, MoveRemedyView? Remedy);

    public static void Map(IEndpointRouteBuilder app) => app.MapPost("/api/moves/worksheet", Worksheet).Needs(Roles.Look).Computes().WithName("MoveWorksheet");

    private static Ok<MoveSheet> Worksheet(MoveSheetRequest request, FleetState state, DesignedState designed, IClock clock)
    {
        var (d, fleet) = (state[request.Database ?? ""].Subject.Database, state.Fleet);
        if (!fleet.Hosts.TryGetValue(new(request.To ?? ""), out var to))
        {
            throw new BadInputException("to", $"there is no host '{request.To}'");
        }

        if (to.Id == d.Host)
        {
            throw new BadInputException("to", $"{d.Name} lives on {to.Id} already");
        }

        if (MoveFigures.Of(fleet, d, to, designed.LoadOf(d, clock.GetCurrentInstant())) is not { } known)
        {
            throw new BadInputException("to", $"nothing links {fleet.Hosts[d.Host].Site} and {to.Site}", 409, "no-link");
        }

        var k = known.Question;
        var q = k with
        {
            Change = request.Change ?? k.Change,
            Rate = request.Rate ?? k.Rate,
            Round = request.Round ?? k.Round,
            Window = request.Window ?? k.Window,
            Metadata = request.Metadata ?? k.Metadata,
            Check = request.Check ?? k.Check,
            Read = request.Read ?? k.Read,
            Most = request.Most ?? k.Most,
        };
        if (q.Fault() is var (member, why))
        {
            throw new BadInputException(member, why);
        }

        var forecast = MoveForecast.Of(q);
        return TypedResults.Ok(new MoveSheet(
            d.Name,
            d.Host.Value,
            to.Id.Value,
            HostQualification.WhyNot(fleet, d, to, Loss.None),
            q.Size,
            q.Change,
            request.Change is null ? known.ChangeFrom : "as you say",
            q.Rate,
            request.Rate is null ? known.RateFrom : "as you say",
            q.Round,
            q.Window,
            q.Metadata,
            q.Check,
            q.Read,
            [.. forecast.Rounds.Select(Of)],
            Of(forecast.Last),
            forecast.DowntimeSeconds,
            forecast.Fits,
            forecast.TotalSeconds,
            MoveForecast.RemedyOf(q) is { } r ? new MoveRemedyView(r.Window, r.Rate, r.Change) : null));

        static MoveRound Of(MoveForecast.Round r) => new(r.Data, r.Seconds);
    }
}
