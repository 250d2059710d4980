using System.Security.Claims;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Host = Imbrek.Core.Fleet.Host;

namespace Imbrek.Server.Features.Plans;

/// <summary>Pauses and maintenance windows: of a plan, a database, a host, a store, or everything.</summary>
internal static class PauseEndpoints
{
    public sealed record PauseView(int Id, Instant From, Instant? To, string? Plan, string? Database, string? Host, string? Store, string Reason, string Who);

    public sealed record PauseRequest(string? From, string? To, string? Plan, string? Database, string? Host, string? Store, string Reason);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/pauses", ListAsync).Needs(Roles.Look).WithName("Pauses");
        app.MapPost("/api/pauses", AddAsync).Needs(Roles.Operate).WithName("AddPause");
        app.MapPost("/api/pauses/{number:int}/end", EndAsync).Needs(Roles.Operate).WithName("EndPause");
    }

    internal static Blackout ToBlackout(this PauseRow p) => new(
        p.From,
        p.To,
        p.Plan is null ? null : new Id<Plan>(p.Plan),
        p.Database is null ? null : new Id<Core.Fleet.Database>(p.Database),
        p.Host is null ? null : new Id<Host>(p.Host),
        p.Store is null ? null : new Id<Store>(p.Store),
        p.Reason);

    private static async Task<Ok<IReadOnlyList<PauseView>>> ListAsync(ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var rows = await data.Pauses.AsNoTracking().Where(p => p.To == null || p.To > now).OrderBy(p => p.From).ToListAsync(cancel);
        return TypedResults.Ok<IReadOnlyList<PauseView>>([.. rows.Select(p => new PauseView(p.Id, p.From, p.To, p.Plan, p.Database, p.Host, p.Store, p.Reason, p.Who))]);
    }

    private static async Task<Created<PauseView>> AddAsync(PauseRequest r, ImbrekContext data, FleetState fleet, Dispatcher dispatcher, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var f = fleet.Fleet;
        Known("plan", r.Plan, p => f.Plans.Any(x => x.Id.Value == p));
        Known("database", r.Database, d => f.DatabaseById.ContainsKey(new(d)));
        Known("host", r.Host, h => f.Hosts.ContainsKey(new(h)));
        Known("store", r.Store, s => f.Stores.ContainsKey(new(s)));
        if (string.IsNullOrWhiteSpace(r.Reason))
        {
            throw new BadInputException("reason", "say why");
        }

        var now = clock.GetCurrentInstant();
        var from = Premise.ReadInstantOrNull("from", r.From) ?? now;
        var to = Premise.ReadInstantOrNull("to", r.To);
        if (to <= from)
        {
            throw new BadInputException("to", "must be after the beginning");
        }

        var row = new PauseRow { From = from, To = to, Plan = r.Plan, Database = r.Database, Host = r.Host, Store = r.Store, Reason = r.Reason.Trim(), Who = user.Identity!.Name! };
        data.Pauses.Add(row);
        await data.SaveChangesAsync(cancel);
        await dispatcher.ChangedAsync(Peers.Shared.Plans, cancel);
        return TypedResults.Created($"/api/pauses/{row.Id}", new PauseView(row.Id, row.From, row.To, row.Plan, row.Database, row.Host, row.Store, row.Reason, row.Who));
    }

    private static async Task<NoContent> EndAsync(int number, ImbrekContext data, Dispatcher dispatcher, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        if (await data.Pauses.Where(p => p.Id == number && (p.To == null || p.To > now)).ExecuteUpdateAsync(u => u.SetProperty(p => p.To, now), cancel) == 0)
        {
            throw new BadInputException("number", "there is no such pause, or it is over", 404, "not-found");
        }

        await dispatcher.ChangedAsync(Peers.Shared.Plans, cancel);
        return TypedResults.NoContent();
    }

    private static void Known(string member, string? value, Func<string, bool> known)
    {
        if (value is not null && !known(value))
        {
            throw new BadInputException(member, $"there is no {member} '{value}'");
        }
    }
}
