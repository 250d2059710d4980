using System.Security.Claims;
using Imbrek.Core.Formats;
using Imbrek.Core.Inventory;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Inventory;

/// <summary>Hosts, asked for their databases.</summary>
internal static class InventoryEndpoints
{
    /// <summary>A host, and what it last told.</summary>
    /// <param name="Host">The host.</param>
    /// <param name="Site">Where it stands.</param>
    /// <param name="Known">How many databases of the fleet run on it.</param>
    /// <param name="At">When it was last asked; null when it never was.</param>
    /// <param name="BeforeAt">When it was asked before that.</param>
    /// <param name="Waits">Whether it is being asked.</param>
    /// <param name="Seen">How many databases were seen; null when it never was asked.</param>
    /// <param name="Changes">What is other than the fleet, or the asking before, has it.</param>
    /// <param name="Unseen">What could not be seen: where there is any, the list is partial.</param>
    public sealed record HostInventoryView(
        string Host, string Site, int Known, Instant? At, Instant? BeforeAt, bool Waits, int? Seen, IReadOnlyList<InventoryChangeView> Changes, IReadOnlyList<string> Unseen);

    /// <param name="What">What is other.</param>
    /// <param name="Name">What the engine calls the database.</param>
    /// <param name="Database">The database of the fleet that it is, or lies in; null when the fleet has none.</param>
    /// <param name="Engine">Its engine family.</param>
    /// <param name="Version">Its version, where it was told.</param>
    /// <param name="SizeBytes">Its size, where it was told.</param>
    /// <param name="LogMode">What it does with its log, where it was told.</param>
    /// <param name="Said">In words.</param>
    /// <param name="SinceBefore">Whether the asking before did not have it so yet.</param>
    public sealed record InventoryChangeView(InventoryWord What, string Name, string? Database, string Engine, string? Version, long? SizeBytes, Core.Fleet.LogMode? LogMode, string Said, bool SinceBefore);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/inventory", GetAsync).Needs(Roles.Look).WithName("Inventory");
        app.MapPost("/api/inventory/{host}/ask", AskAsync).Needs(Roles.Operate).WithName("AskHost");
    }

    private static async Task<Ok<IReadOnlyList<HostInventoryView>>> GetAsync(InventoryBook book, FleetState state, CancellationToken cancel)
    {
        var (asked, fleet) = (await book.LoadAsync(cancel), state.Fleet);
        var known = fleet.Databases.CountBy(d => d.Host).ToDictionary(c => c.Key, c => c.Value);
        return TypedResults.Ok<IReadOnlyList<HostInventoryView>>(
        [
            .. fleet.Hosts.Values.OrderBy(h => h.Id.Value, StringComparer.Ordinal).Select(h =>
            {
                var a = asked.GetValueOrDefault(h.Id.Value);
                return new HostInventoryView(
                    h.Id.Value,
                    h.Site.Value,
                    known.GetValueOrDefault(h.Id),
                    a?.At,
                    a?.BeforeAt,
                    a?.Waits ?? false,
                    a?.Answer?.Databases.Count,
                    [.. (a?.Changes(fleet, h.Id.Value) ?? []).Select(View)],
                    a?.Answer?.Unseen ?? []);
            }),
        ]);
    }

    /// <summary>Has a host asked: at once, and from then on once a day.</summary>
    private static async Task<Accepted> AskAsync(string host, FleetState state, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (!state.Fleet.Hosts.ContainsKey(new(host)))
        {
            throw new BadInputException("host", $"there is no host '{InputBounds.Quote(host)}'", 404, "not-found");
        }

        var (now, who) = (clock.GetCurrentInstant(), user.Identity!.Name!);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await data.Database.ExecuteSqlInterpolatedAsync(
            $"insert into inventories (host, waits) values ({host}, true) on conflict (host) do update set waits = true", cancel);
        await LedgerTable.AppendAsync(data, now, who, "inventory", "", RunJson.Write(new { host }), cancel);
        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.Accepted("/api/inventory");
    }

    private static InventoryChangeView View(InventoryChange c) =>
        new(c.What, c.Seen.Name, (c.Seen.Of ?? c.Seen.In)?.Value, c.Seen.Engine.Value, c.Seen.Version, c.Seen.SizeBytes, c.Seen.LogMode, c.Said, c.SinceBefore);
}
