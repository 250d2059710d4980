using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
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

    public sealed record LinkView(string One, string Other, bool Down, bool Flaps, double BytesPerSecond, double? SlowBytesPerSecond);

    public sealed record WorldHostView(string Id, string Site, bool Down, double ClockSeconds);

    /// <summary>What goes wrong with a replica.</summary>
    public sealed record ReplicaFaultView(string Id, bool ApplyStopped, bool Read, bool SignInExpired, string? Unusable);

    public sealed record StoreView(string Id, string Site, bool Full, bool Offline);

    public sealed record WorldView(Instant Now, double Pace, Instant? NextEvent, IReadOnlyList<StoreView> Stores, IReadOnlyList<LinkView> Links, IReadOnlyList<WorldHostView> Hosts, IReadOnlyList<ReplicaFaultView> Replicas, IReadOnlyList<string> Hanging, IReadOnlyList<string> SignInExpired, bool NamesSlow, IReadOnlyList<HappeningLine> Happenings);

    public sealed record PaceRequest(double Pace);

    public sealed record NamesSlowRequest(bool Slow);

    public sealed record ForwardRequest(double Minutes);

    public sealed record StoreFullRequest(string Store, bool Full);

    public sealed record LinkDownRequest(string One, string Other, bool Down);

    public sealed record LinkSlowRequest(string One, string Other, double? BytesPerSecond);

    public sealed record LinkFlapsRequest(string One, string Other, bool Flaps);

    public sealed record HostDownRequest(string Host, bool Down);

    public sealed record ClockRequest(string Host, double SecondsAhead);

    public sealed record ReplicaFaultRequest(string Replica, ReplicaFault Fault, bool On, double? Seconds);

    /// <summary>What can go wrong with a replica: two of them cannot be switched off again, but mended.</summary>
    public enum ReplicaFault
    {
        ApplyStopped,
        Reader,
        SignInExpired,
        LogVolumeFull,
        Diverged,
    }

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
        app.MapPost("/api/world/link-slow", (LinkSlowRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("one", w.Fleet.LinkBetween(new(r.One ?? ""), new(r.Other ?? "")) is not null, $"{r.One}|{r.Other}");
            if (r.BytesPerSecond is { } rate && !(rate >= 1 && rate <= 1e12))
            {
                throw new BadInputException("bytesPerSecond", "must be from 1 to 1e12");
            }

            w.Faults.SetLinkSlow(new(r.One!), new(r.Other!), r.BytesPerSecond);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetLinkSlow");
        app.MapPost("/api/world/link-flaps", (LinkFlapsRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("one", w.Fleet.LinkBetween(new(r.One ?? ""), new(r.Other ?? "")) is not null, $"{r.One}|{r.Other}");
            w.Faults.SetLinkFlapping(new(r.One!), new(r.Other!), r.Flaps);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetLinkFlaps");
        app.MapPost("/api/world/host-down", (HostDownRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("host", w.Fleet.Hosts.ContainsKey(new(r.Host ?? "")), r.Host);
            w.Faults.SetHostDown(new(r.Host!), r.Down);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetHostDown");
        app.MapPost("/api/world/names-slow", (NamesSlowRequest r, WorldHost host) =>
        {
            Led(host).Faults.SetNamesSlow(r.Slow);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetNamesSlow");
        app.MapPost("/api/world/clock", (ClockRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("host", w.Fleet.Hosts.ContainsKey(new(r.Host ?? "")), r.Host);
            if (!(Math.Abs(r.SecondsAhead) <= 86_400))
            {
                throw new BadInputException("secondsAhead", "must be within a day");
            }

            w.Faults.SetClock(new(r.Host!), r.SecondsAhead);
            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetClock");
        app.MapPost("/api/world/replica", (ReplicaFaultRequest r, WorldHost host) =>
        {
            var w = Led(host);
            Known("replica", w.Fleet.Replicas.ContainsKey(new(r.Replica ?? "")), r.Replica);
            if (r.Seconds is { } seconds && !(seconds > 0 && seconds <= 7 * 86_400))
            {
                throw new BadInputException("seconds", "must be above 0 and at most a week");
            }

            var replica = new Id<Replica>(r.Replica!);
            switch (r.Fault)
            {
                case ReplicaFault.ApplyStopped:
                    w.Faults.SetApplyStopped(replica, r.On);
                    break;
                case ReplicaFault.Reader:
                    w.Faults.SetReader(replica, r.On ? r.Seconds ?? 3600 : 0);
                    break;
                case ReplicaFault.SignInExpired:
                    w.Faults.SetReplicaSignIn(replica, r.On);
                    break;
                case ReplicaFault.LogVolumeFull:
                    w.Faults.FillLogVolume(replica);
                    break;
                case ReplicaFault.Diverged:
                    w.Faults.Diverge(replica);
                    break;
                default:
                    throw new BadInputException("fault", "is not known");
            }

            return TypedResults.NoContent();
        }).Needs(Roles.Administer).WithName("SetReplicaFault");
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
        var (full, down, flaps, slow, hosts, clocks) = (w.Faults.FullStores, w.Faults.DownLinks, w.Faults.FlappingLinks, w.Faults.SlowLinks, w.Faults.DownHosts, w.Faults.Clocks);
        var happenings = await data.Happenings.AsNoTracking().OrderByDescending(h => h.At).Take(100).ToListAsync(cancel);
        return TypedResults.Ok(new WorldView(
            w.Now,
            host.Pace,
            w.NextEvent,
            [.. w.Fleet.StoreList.Select(s => new StoreView(s.Id.Value, s.Site.Value, full.Contains(s.Id.Value), s.Offline))],
            [.. w.Fleet.Links.Select(l => (Link: l, Name: Routes.Of(l.One, l.Other))).Select(l => new LinkView(
                l.Link.One.Value, l.Link.Other.Value, down.Contains(l.Name), flaps.Contains(l.Name), l.Link.BytesPerSecond, slow.TryGetValue(l.Name, out var rate) ? rate : null))],
            [.. w.Fleet.HostList.Select(h => new WorldHostView(h.Id.Value, h.Site.Value, hosts.Contains(h.Id.Value), clocks.GetValueOrDefault(h.Id.Value)))],
            [.. w.Faults.OfReplicas.Select(f => new ReplicaFaultView(f.Replica.Value, f.ApplyStopped, f.Read, f.SignInExpired, f.Unusable))],
            w.Faults.Hanging,
            w.Faults.Refused,
            w.Faults.NamesSlow,
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
