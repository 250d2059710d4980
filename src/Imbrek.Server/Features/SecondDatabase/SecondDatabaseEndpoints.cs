using System.Security.Claims;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Imbrek.Server.Features.Moves;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.SecondDatabase;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.SecondDatabase;

/// <summary>A second database of one, under another name or as a copy elsewhere: what comes of the choices, and the run that makes it.</summary>
internal static class SecondDatabaseEndpoints
{
    /// <summary>A name that it brings, and what it is called there.</summary>
    /// <param name="TakenBy">Who has that name there; null where nobody does.</param>
    public sealed record SecondNameView(NameKind Kind, string From, string To, string? TakenBy);

    /// <summary>What comes of the choices.</summary>
    /// <param name="Refused">Why it cannot be; null when it can.</param>
    /// <param name="Member">What is at fault.</param>
    /// <param name="Reaches">The instant it is as of; null for one after it is asked for.</param>
    /// <param name="Seconds">Until people can look, expected.</param>
    /// <param name="Names">What its files and accounts would be called; as proposed where what was wanted cannot be.</param>
    /// <param name="Rounds">Of a copy elsewhere: the first round and those of log, as expected.</param>
    /// <param name="NamesUnknown">Why its names cannot be told now; null when they are.</param>
    /// <param name="QueryHelp">What a query to check it may be; null where nothing of its family is known.</param>
    /// <param name="Plans">The plans that will take it.</param>
    /// <param name="First">The full that a copy elsewhere begins with, where log is kept for it alone; null where log is kept anyway.</param>
    /// <param name="MoreOpen">In what it would be more open than its source: it is released only where somebody says why.</param>
    public sealed record SecondView(
        string? Refused, string? Member, string? Host, Instant? Reaches, double? LostSeconds, double? Seconds, long? RoomBytes, long? MovedBytes, IReadOnlyList<MoveForecast.Round> Rounds, IReadOnlyList<SecondNameView> Names, string? NamesUnknown, string? QueryHelp,
        IReadOnlyList<string> Plans, string? FirstBase, IReadOnlyList<string> MoreOpen, IReadOnlyList<string> DoesNotComeAlong, SettingsAsked.SettingsView? Settings = null, FirstFull? First = null);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/second-databases/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("SecondDatabaseWorksheet");
        app.MapPost("/api/second-databases", BeginAsync).Needs(Roles.Operate).Computes().WithName("SecondDatabase");
    }

    private static async Task<Ok<SecondView>> WorksheetAsync(SecondDatabasePlanning.SecondRequest request, SecondDatabasePlanning planning, FleetState fleet, Drivers drivers, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var family = drivers.TryFor(fleet[request.Database ?? ""].Subject.Database);
        try
        {
            var settings = await SettingsAsked.AtAsync(data, clock.GetCurrentInstant(), cancel);
            var p = planning.Of(request, settings);
            var (names, unknown, fault) = await planning.NamesAsync(request, p, cancel);
            var (s, d) = (p.Subject, p.Subject.Database);
            MoveForecast.Round[] rounds = p.Follows is { } follows ? [.. follows.Forecast.Rounds, follows.Forecast.Last] : [];
            return TypedResults.Ok(new SecondView(
                fault?.Message,
                fault?.Member,
                p.Path.Host.Value,
                p.Follows is null ? p.Path.Reaches : null,
                p.Follows is null ? p.Path.LostSeconds : null,
                p.With([]).Run.Plan.Steps.TakeWhile(x => !x.IsHold).Sum(x => x.ExpectedSeconds ?? 0),
                p.Made.SizeBytes,
                p.Path.Steps.Sum(x => x.StoredBytes),
                rounds,
                [.. names.Select(n => new SecondNameView(n.Kind, n.From, n.To, n.TakenBy))],
                unknown,
                family?.QueryHelp,
                [.. p.Model.PlansOf(p.Made).Select(x => x.Name)],
                p.FirstBase is { } first ? $"{PlanFile.Name(first.Kind)} into {first.Store}" : null,
                MoreOpen.Of(s.Fleet, d.Id.Value, p.Path.Host.Value),
                Prechecks.DoesNotComeAlong(s.Fleet, d, s.Fleet.Hosts[p.Path.Host], family?.RestoresInstances ?? false, planned: p.FirstBase is not null),
                settings.Of(p.Needs),
                FirstFull.Of(p.Follows?.Kept)));
        }
        catch (BadInputException e) when (e.Status != 404)
        {
            return TypedResults.Ok(new SecondView(e.Message, e.Member, null, null, null, null, null, null, [], [], null, family?.QueryHelp, [], null, [], []));
        }
    }

    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(
        SecondDatabasePlanning.SecondRequest request, SecondDatabasePlanning planning, Drivers drivers, ReplicaActions.Acting acting, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var p = planning.Of(request, await SettingsAsked.AtAsync(data, clock.GetCurrentInstant(), cancel));
        SettingsAsked.MustBeAnswered(p.Needs, request.Settings);
        var (names, unknown, fault) = await planning.NamesAsync(request, p, cancel);
        if (fault is not null)
        {
            throw fault;
        }

        if (unknown is not null)
        {
            throw new BadInputException("names", $"{unknown}: what its files and accounts are to be called must be known before", 409, "names-unknown");
        }

        var d = p.Subject.Database;
        var (question, run) = p.With([.. names.Select(n => new MappedName(n.Kind, n.From, n.To))]);
        return await acting.BeginAsync(SecondDatabaseKind.KindName, d, drivers.For(d), question, run, $"new:{p.Made.Id}", user, cancel);
    }
}
