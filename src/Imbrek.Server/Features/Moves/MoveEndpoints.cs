using System.Security.Claims;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Moves;

/// <summary>A move with little downtime, computed before anything is touched: its rounds, whether the last fits, and what would have to be otherwise; and begun where it fits.</summary>
internal static class MoveEndpoints
{
    /// <summary>What is asked for; what is left out is as the fleet knows it.</summary>
    /// <param name="To">The host it is to live on.</param>
    public sealed record MoveSheetRequest(string Database, string To, double? Change, double? Rate, double? Round, double? Window, double? Metadata, double? Check, double? Read, int? Most);

    public sealed record MoveRound(double Bytes, double Seconds);

    /// <summary>What would make it fit, each by itself.</summary>
    public sealed record MoveRemedyView(double Window, double? Rate, double? Change);

    /// <param name="Why">Why it is not possible there; null when it is.</param>
    /// <param name="WhyNotBegun">Why it cannot be begun here, whatever the figures; null when it can.</param>
    public sealed record MoveSheet(
        string Name, string From, string To, string? Why, string? WhyNotBegun, double Size, double Change, string ChangeFrom, double Rate, string RateFrom, double Round, double Window, double Metadata, double Check, double? Read,
        IReadOnlyList<MoveRound> Rounds, MoveRound Last, double DowntimeSeconds, bool Fits, double TotalSeconds, MoveRemedyView? Remedy);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/moves/worksheet", Worksheet).Needs(Roles.Look).Computes().WithName("MoveWorksheet");
        app.MapPost("/api/moves", BeginAsync).Needs(Roles.Operate).Computes().WithName("BeginMove");
    }

    private static Ok<MoveSheet> Worksheet(MoveSheetRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, IClock clock)
    {
        var (s, to, known, q) = Read(request, state, designed, clock.GetCurrentInstant());
        var d = s.Database;
        var forecast = MoveForecast.Of(q);
        return TypedResults.Ok(new MoveSheet(
            d.Name,
            d.Host.Value,
            to.Id.Value,
            HostQualification.WhyNot(s.Fleet, d, to, Loss.None),
            WhyNotBegun(s, to, drivers),
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

    /// <summary>Begins a move whose last round fits.</summary>
    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(
        MoveSheetRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var (s, to, _, q) = Read(request, state, designed, now);
        if (WhyNotBegun(s, to, drivers) is { } whyNot)
        {
            throw new BadInputException("to", whyNot, 409, "not-moved");
        }

        if (MoveForecast.Of(q) is { Fits: false } forecast)
        {
            throw new BadInputException("window", $"nobody could write for {PlainDuration.Of(forecast.DowntimeSeconds)}, and {PlainDuration.Of(q.Window)} are allowed: give it a longer window, or more bytes a second", 409, "does-not-fit");
        }

        var path = PathFinder.Unopened(s, now, to) ?? throw new BadInputException("to", $"no set of {s.Database.Name} that log could follow can be read at {to.Id}", 409, "no-path");
        if (Prechecks.Of(s, to, path, Loss.None, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}").ToArray() is { Length: > 0 } failed)
        {
            throw new BadInputException("to", string.Join("; ", failed), 409, "precheck-failed");
        }

        var run = MoveKind.Row(s, path, RestoreInPlace.Saves(s.Fleet, s.Database)!, q, drivers.For(s.Database).Name, user.Identity!.Name!, now);
        await begin.BeginAsync(run, cancel);
        return TypedResults.Created($"/api/runs/{run.Id}", new ReplicaActions.RunBegun(run.Id));
    }

    /// <summary>Why a database is not moved to a host by its sets, whatever the figures; null when it can be.</summary>
    private static string? WhyNotBegun(RecoverySubject s, Core.Fleet.Host to, Runs.Drivers drivers)
    {
        var d = s.Database;
        return drivers.TryFor(d) is not { } family ? $"this installation has no driver for {d.Name}"
            : family.WhyNoMove is { } no ? no
            : d.IsInstanceData ? "what an instance holds beside its databases stays with its host"
            : RestoreInPlace.Saves(s.Fleet, d) is not { Kind: SetKind.Log } ? "no plan backs its log up, and log is what follows"
            : s.Fleet.ReplicasOf(d.Id).FirstOrDefault(r => r.Place.Hosts.Contains(to.Id)) is { } replica ? $"{replica.Id} follows there already: switch over to it"
            : HostQualification.WhyNot(s.Fleet, d, to, Loss.None);
    }

    /// <summary>What is asked for, with what the fleet knows where nothing is said.</summary>
    /// <exception cref="BadInputException">It names what is wrong.</exception>
    private static (RecoverySubject Subject, Core.Fleet.Host To, MoveFigures Known, MoveQuestion Figures) Read(MoveSheetRequest request, FleetState state, DesignedState designed, Instant now)
    {
        var (s, fleet) = (state[request.Database ?? ""].Subject, state.Fleet);
        var d = s.Database;
        if (!fleet.Hosts.TryGetValue(new(request.To ?? ""), out var to))
        {
            throw new BadInputException("to", $"there is no host '{InputBounds.Quote(request.To ?? "")}'");
        }

        if (to.Id == d.Host)
        {
            throw new BadInputException("to", $"{d.Name} lives on {to.Id} already");
        }

        if (MoveFigures.Of(fleet, d, to, designed.LoadOf(d, now)) is not { } known)
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
        return q.Fault() is var (member, why) ? throw new BadInputException(member, why) : (s, to, known, q);
    }
}
