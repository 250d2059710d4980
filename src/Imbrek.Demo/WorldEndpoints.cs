using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Imbrek.StandIn;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Demo;

/// <summary>The controls of the simulated world, for who administers.</summary>
internal static class WorldEndpoints
{
    private const double FastestPace = 3600;

    public sealed record HappeningLine(Instant At, string? Database, string Kind, string Text);

    public sealed record LinkView(string One, string Other, bool Down);

    public sealed record StoreView(string Id, string Site, bool Full, bool Offline);

    public sealed record WorldView(Instant Now, double Pace, Instant? NextEvent, IReadOnlyList<StoreView> Stores, IReadOnlyList<LinkView> Links, IReadOnlyList<string> Hanging, IReadOnlyList<string> SignInExpired, IReadOnlyList<HappeningLine> Happenings);

    public sealed record PaceRequest(double Pace);

    public sealed record ForwardRequest(double Minutes);

    public sealed record StoreFullRequest(string Store, bool Full);

    public sealed record LinkDownRequest(string One, string Other, bool Down);

    public sealed record DamageRequest(string Database, string Set, string Store);

    public sealed record DatabaseRequest(string Database);

    public sealed record HangRequest(string Database, bool Hangs);

    public sealed record BackupSignInRequest(string Database, bool Expired);

    public sealed record MarkerRequest(string Database, string Name);

    public sealed record MarkerMade(Instant At);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/world", GetAsync).Needs(Roles.Administer).WithName("World");
        app.MapPost("/api/world/pace", SetPaceAsync).Needs(Roles.Administer).WithName("SetPace");
        app.MapPost("/api/world/next", async (WorldHost host, CancellationToken cancel) =>
        {
            Led(host);
            await host.ToNextEventAsync(cancel);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("NextEvent");
        app.MapPost("/api/world/forward", ForwardAsync).Needs(Roles.Administer).WithName("Forward");
        app.MapPost("/api/world/store-full", (StoreFullRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("store", w.Fleet.Stores.ContainsKey(new(r.Store ?? "")), r.Store);
            w.Faults.SetStoreFull(new(r.Store!), r.Full);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetStoreFull");
        app.MapPost("/api/world/link-down", (LinkDownRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("one", w.Fleet.LinkBetween(new(r.One ?? ""), new(r.Other ?? "")) is not null, $"{r.One}|{r.Other}");
            w.Faults.SetLinkDown(new(r.One!), new(r.Other!), r.Down);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetLinkDown");
        app.MapPost("/api/world/damage-copy", (DamageRequest r, WorldHost host, FleetState fleet) =>
        {
            var w = Led(host);
            var catalogue = fleet[r.Database ?? ""].Subject.Catalogue;
            var index = catalogue.IndexOf(new(r.Set ?? ""));
            Known("set", index >= 0, r.Set);
            Known("store", catalogue[index].Copies.Any(c => c.Store.Value == r.Store && c.RemovedAt is null), r.Store);
            w.Faults.DamageCopy(new(r.Database!), new(r.Set!), new(r.Store!));
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("DamageCopy");
        app.MapPost("/api/world/drop-log", (DatabaseRequest r, WorldHost host, FleetState fleet) =>
        {
            var w = Led(host);
            _ = fleet[r.Database ?? ""];
            w.Faults.DropLog(new(r.Database!));
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("DropLog");
        app.MapPost("/api/world/hang", (HangRequest r, WorldHost host, FleetState fleet) =>
        {
            var w = Led(host);
            _ = fleet[r.Database ?? ""];
            w.Faults.SetHanging(new(r.Database!), r.Hangs);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("HangBackups");
        app.MapPost("/api/world/sign-in", (BackupSignInRequest r, WorldHost host, FleetState fleet) =>
        {
            var w = Led(host);
            _ = fleet[r.Database ?? ""];
            w.Faults.SetRefused(new(r.Database!), r.Expired);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("ExpireBackupSignIn");
        app.MapPost("/api/world/marker", (MarkerRequest r, WorldHost host, FleetState fleet) =>
        {
            var w = Led(host);
            _ = fleet[r.Database ?? ""];
            if (string.IsNullOrWhiteSpace(r.Name) || r.Name.Length > 100)
            {
                throw new BadInputException("name", "give the marker a name of at most 100 letters");
            }

            return TypedResults.Ok(new MarkerMade(w.WriteMarker(new(r.Database!), r.Name.Trim())));
        }).Needs(Roles.Operate).WithName("WriteMarker");
    }

    private static World Led(WorldHost host) => host.World ?? throw new BadInputException(
        "world",
        host.IsDemo ? "another server process runs the world; ask that one" : "this server has no simulated world",
        409,
        "no-world");

    private static void Known(string member, bool known, string? value)
    {
        if (!known)
        {
            throw new BadInputException(member, $"there is no {member} '{value}'");
        }
    }

    private static async Task<Ok<WorldView>> GetAsync(WorldHost host, ImbrekContext data, CancellationToken cancel)
    {
        var w = Led(host);
        var (full, down) = (w.Faults.FullStores, w.Faults.DownLinks);
        var happenings = await data.Happenings.AsNoTracking().OrderByDescending(h => h.At).Take(100).ToListAsync(cancel);
        return TypedResults.Ok(new WorldView(
            w.Now,
            host.Pace,
            w.NextEvent,
            [.. w.Fleet.StoreList.Select(s => new StoreView(s.Id.Value, s.Site.Value, full.Contains(s.Id.Value), s.Offline))],
            [.. w.Fleet.Links.Select(l => new LinkView(l.One.Value, l.Other.Value, down.Contains($"{l.One}|{l.Other}") || down.Contains($"{l.Other}|{l.One}")))],
            w.Faults.Hanging,
            w.Faults.Refused,
            [.. happenings.Select(h => new HappeningLine(h.At, h.Database, h.Kind, h.Text))]));
    }

    private static async Task<NoContent> SetPaceAsync(PaceRequest request, WorldHost host, CancellationToken cancel)
    {
        Led(host);
        if (!(request.Pace >= 0 && request.Pace <= FastestPace))
        {
            throw new BadInputException("pace", $"must be between 0 (paused) and {FastestPace}");
        }

        await host.SetPaceAsync(request.Pace, cancel);
        return TypedResults.NoContent();
    }

    private static async Task<NoContent> ForwardAsync(ForwardRequest request, WorldHost host, CancellationToken cancel)
    {
        Led(host);
        if (!(request.Minutes > 0 && request.Minutes <= 7 * 24 * 60))
        {
            throw new BadInputException("minutes", "must be above 0 and at most a week");
        }

        await host.ForwardAsync(Duration.FromMinutes(request.Minutes), cancel);
        return TypedResults.NoContent();
    }
}
