using System.Security.Claims;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Planning;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.AdHoc;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Database;

/// <summary>A copy of a database now, this way, to there: what it would be, what the account sees, and taking it.</summary>
internal static class AdHocEndpoints
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    /// <summary>What is asked for.</summary>
    /// <param name="Kind">The kind of set; it stands by itself or builds on the last full.</param>
    /// <param name="Why">What it is for.</param>
    public sealed record AdHocRequest(SetKind Kind, string Store, Compression? Compression, string? Key, string? Why);

    /// <summary>Something of the database, and whether the account sees it.</summary>
    public sealed record SeenThing(string Name, bool Seen, string Detail);

    /// <summary>What it would be.</summary>
    /// <param name="Kinds">The kinds of set that its family takes.</param>
    /// <param name="StoredBytes">What it would store; null when nothing tells.</param>
    public sealed record AdHocSheet(string? Refused, string? Member, IReadOnlyList<SetKind> Kinds, double? Seconds, double? StoredBytes, IReadOnlyList<string> Keys);

    /// <param name="Why">Why nobody could ask; null when somebody did.</param>
    public sealed record SeesView(string? Why, bool Partial, IReadOnlyList<SeenThing> Things);

    public sealed record AdHocBegun(Guid Id);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/databases/{id}/sees", SeesAsync).Needs(Roles.Operate).WithName("WhatTheAccountSees");
        app.MapPost("/api/databases/{id}/copy/worksheet", Worksheet).Needs(Roles.Look).Computes().WithName("AdHocWorksheet");
        app.MapPost("/api/databases/{id}/copy", TakeAsync).Needs(Roles.Operate).Computes().WithName("TakeAdHoc");
    }

    private static async Task<Ok<SeesView>> SeesAsync(string id, FleetState state, Drivers drivers, CancellationToken cancel)
    {
        var d = state[id].Subject.Database;
        var (seen, why) = await DriverAnswer.WithinAsync(Patience, c => drivers.For(d).Backup.SeesAsync(d.Id, c), cancel);
        return TypedResults.Ok(seen is null ? new SeesView(why, true, []) : new SeesView(null, seen.Any(s => !s.Passed), [.. seen.Select(s => new SeenThing(s.Name, s.Passed, s.Detail))]));
    }

    private static Ok<AdHocSheet> Worksheet(string id, AdHocRequest request, FleetState state, DesignedState designed, Drivers drivers, IClock clock)
    {
        var d = state[id].Subject.Database;
        SetKind[] kinds = [.. Enum.GetValues<SetKind>().Where(k => k != SetKind.Log && state.Fleet.Engines[d.Engine].CanTake(k))];
        var (take, why) = AdHocPlanning.Of(d, request, state.Fleet, drivers);
        if (take is null)
        {
            return TypedResults.Ok(new AdHocSheet(why!.Message, why.Member, kinds, null, null, KeysOf(state, d)));
        }

        var (seconds, stored) = AdHocPlanning.Expected(take, state.Fleet, designed, d, clock.GetCurrentInstant());
        return TypedResults.Ok(new AdHocSheet(null, null, kinds, seconds, stored, KeysOf(state, d)));
    }

    private static async Task<Created<AdHocBegun>> TakeAsync(string id, AdHocRequest request, FleetState state, DesignedState designed, Drivers drivers, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var d = state[id].Subject.Database;
        var (take, why) = AdHocPlanning.Of(d, request, state.Fleet, drivers);
        if (take is null)
        {
            throw why!;
        }

        var now = clock.GetCurrentInstant();
        var row = NewRuns.Row(AdHocKind.KindName, d.Id.Value, drivers.For(d).Name, new AdHocKind.Question(take, string.IsNullOrWhiteSpace(request.Why) ? null : request.Why.Trim()), AdHocKind.Plan(take, AdHocPlanning.Expected(take, state.Fleet, designed, d, now).Seconds), user.Identity!.Name!, now);
        (row.Claim, row.OutsideChain) = ($"{d.Id}:ad-hoc", true);
        await begin.BeginAsync(row, cancel);
        return TypedResults.Created($"/api/runs/{row.Id}", new AdHocBegun(row.Id));
    }

    private static IReadOnlyList<string> KeysOf(FleetState state, Core.Fleet.Database d) => state.Fleet.Hosts[d.Host].Keys;
}
