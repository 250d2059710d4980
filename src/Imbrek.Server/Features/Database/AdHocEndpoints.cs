using System.Security.Claims;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
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
        using var enough = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        enough.CancelAfter(Patience);
        try
        {
            var seen = await drivers.For(d).Backup.SeesAsync(d.Id, enough.Token).WaitAsync(enough.Token);
            return TypedResults.Ok(new SeesView(null, seen.Any(s => !s.Passed), [.. seen.Select(s => new SeenThing(s.Name, s.Passed, s.Detail))]));
        }
        catch (DriverException e)
        {
            return TypedResults.Ok(new SeesView(e.Message, true, []));
        }
        catch (DriverGoneException)
        {
            return TypedResults.Ok(new SeesView("another process can ask, this one cannot", true, []));
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return TypedResults.Ok(new SeesView($"it did not answer within {Patience.TotalSeconds:0} s", true, []));
        }
    }

    private static Ok<AdHocSheet> Worksheet(string id, AdHocRequest request, FleetState state, DesignedState designed, Drivers drivers, IClock clock)
    {
        var d = state[id].Subject.Database;
        SetKind[] kinds = [.. Enum.GetValues<SetKind>().Where(k => k != SetKind.Log && state.Fleet.Engines[d.Engine].CanTake(k))];
        var (take, why) = Try(id, request, state, drivers);
        if (take is null)
        {
            return TypedResults.Ok(new AdHocSheet(why!.Message, why.Member, kinds, null, null, KeysOf(state, d)));
        }

        var (seconds, stored) = Expected(take, state, designed, d, clock.GetCurrentInstant());
        return TypedResults.Ok(new AdHocSheet(null, null, kinds, seconds, stored, KeysOf(state, d)));
    }

    private static async Task<Created<AdHocBegun>> TakeAsync(string id, AdHocRequest request, FleetState state, DesignedState designed, Drivers drivers, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var d = state[id].Subject.Database;
        var (take, why) = Try(id, request, state, drivers);
        if (take is null)
        {
            throw why!;
        }

        var now = clock.GetCurrentInstant();
        var row = NewRuns.Row(AdHocKind.KindName, d.Id.Value, drivers.For(d).Name, new AdHocKind.Question(take, string.IsNullOrWhiteSpace(request.Why) ? null : request.Why.Trim()), AdHocKind.Plan(take, Expected(take, state, designed, d, now).Seconds), user.Identity!.Name!, now);
        (row.Claim, row.OutsideChain) = ($"{d.Id}:ad-hoc", true);
        await begin.BeginAsync(row, cancel);
        return TypedResults.Created($"/api/runs/{row.Id}", new AdHocBegun(row.Id));
    }

    /// <summary>What would be taken, or why it cannot be.</summary>
    private static (TakeSpec? Take, BadInputException? Why) Try(string id, AdHocRequest request, FleetState state, Drivers drivers)
    {
        var d = state[id].Subject.Database;
        var engine = state.Fleet.Engines[d.Engine];
        if (request.Kind == SetKind.Log || !engine.CanTake(request.Kind))
        {
            return (null, new("kind", request.Kind == SetKind.Log ? "log is taken by plans: outside the chain it would be a hole in it" : $"{engine.Name} takes no {request.Kind.ToString().ToLowerInvariant()}"));
        }

        if (!state.Fleet.Stores.TryGetValue(new(request.Store ?? ""), out var store))
        {
            return (null, new("store", $"there is no store '{InputBounds.Quote(request.Store ?? "")}'"));
        }

        if (Routes.Slowest(state.Fleet, d.Host, store.Id) <= 0)
        {
            return (null, new("store", $"nothing leads from {d.Host} to {store.Id}", 409, "no-link"));
        }

        if (request.Key is { Length: > 0 } key && (InputBounds.WhatIsWrong(key, InputBounds.Name) is not null || state.Fleet.Hosts[d.Host].HasKey(key) == false))
        {
            return (null, new("key", $"key '{InputBounds.Quote(key)}' is not on {d.Host}", 409, "no-key"));
        }

        if (request.Why is { } why && InputBounds.WhatIsWrong(why, InputBounds.Reason) is { } wrong)
        {
            return (null, new("why", wrong));
        }

        if (drivers.TryFor(d) is null)
        {
            return (null, new("database", $"this installation has no driver for {d.Name}", 409, "no-driver"));
        }

        return (new(d.Id.Value, request.Kind, store.Id.Value, request.Compression ?? Compression.Light, string.IsNullOrEmpty(request.Key) ? null : request.Key, $"{{database}}-now-{{kind}}-{{date}}T{{time}}-{Guid.NewGuid().ToString("n")[..6]}", OutsideChain: true, ReadBack: false, LockSeconds: null), null);
    }

    private static (double? Seconds, double? Stored) Expected(TakeSpec take, FleetState state, DesignedState designed, Core.Fleet.Database d, Instant now)
    {
        var task = new PlanTask { Id = "now", Kind = Enum.GetValues<TaskKind>().First(k => k.Makes() == take.Kind), Store = new(take.Store), Compression = take.Compression };
        return designed.LoadOf(d, now).StoredWhole(task, now) is var stored && RunPace.Alone(state.Fleet, d, task, stored) is var seconds && double.IsFinite(seconds) ? (seconds, stored) : (null, null);
    }

    private static IReadOnlyList<string> KeysOf(FleetState state, Core.Fleet.Database d) => state.Fleet.Hosts[d.Host].Keys;
}
