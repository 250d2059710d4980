using System.Security.Claims;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Fleet;

/// <summary>
/// One part of the fleet is added, changed or removed: a site, host, store, link, … as it stands in the fleet file. Each change names the version it
/// is based on, and is a version of its own with who and why; what would point at nothing is listed, and nothing is kept.
/// </summary>
internal static class FleetParts
{
    private const int ChangeLock = 714_003;

    private const int LongestWhy = 500;

    /// <summary>The lists of the fleet file that are changed in parts; plans have versions of their own.</summary>
    public static readonly string[] Lists = ["sites", "links", "arrays", "hosts", "stores", "engines", "objectives", "services", "databases", "replicas", "groups"];

    /// <summary>What people agree on among each other; nothing that acts depends on it.</summary>
    private static readonly string[] OfPeople = ["objectives", "services"];

    /// <summary>The newest version of the fleet.</summary>
    /// <param name="Number">Its number; 0 when there is none.</param>
    /// <param name="At">When it was kept.</param>
    /// <param name="Who">By whom.</param>
    /// <param name="Why">Why, as far as that was said.</param>
    public sealed record FleetVersionView(int Number, Instant? At, string? Who, string? Why);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/fleet/version", VersionAsync).Needs(Roles.Look).WithName("FleetVersion");
        app.MapPut("/api/fleet/{list}/{id}", PutAsync).Needs(Roles.Administer).WithName("PutFleetPart");
        app.MapDelete("/api/fleet/{list}/{id}", DeleteAsync).Needs(Roles.Administer).WithName("RemoveFleetPart");
    }

    private static async Task<Ok<FleetVersionView>> VersionAsync(ImbrekContext data, CancellationToken cancel) => TypedResults.Ok(
        await data.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).Select(v => new FleetVersionView(v.Number, v.At, v.Who, v.Why)).FirstOrDefaultAsync(cancel)
        ?? new FleetVersionView(0, null, null, null));

    private static Task<Ok<FleetVersionView>> PutAsync(
        string list, string id, int basedOn, string? why, JsonObject part, FleetState state, NpgsqlDataSource source, IGuest guest, Dispatcher dispatcher, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (Lists.Contains(list) && list != "links" && part["id"]?.ToString() is { } named && named != id)
        {
            throw new BadInputException("id", $"is '{InputBounds.Quote(named)}' in the body and '{InputBounds.Quote(id)}' in the address");
        }

        return OkAsync(ChangeAsync([Put(list, id, part)], basedOn, why, state, source, guest, dispatcher, clock, user.Identity!.Name!, null, cancel));
    }

    /// <summary>A part of the fleet that is added, changed or removed.</summary>
    /// <param name="List">Which list of the fleet file it stands in.</param>
    /// <param name="Id">Its identifier there.</param>
    /// <param name="What">What is done, in a word.</param>
    /// <param name="Apply">Does it; told the list and where the part stands in it, or -1.</param>
    public sealed record Change(string List, string Id, string What, Action<JsonArray, int> Apply);

    /// <summary>A part as it is from now on.</summary>
    public static Change Put(string list, string id, JsonObject part) => new(list, id, "changed", (items, index) =>
    {
        var copy = part.DeepClone();
        if (list != "links")
        {
            copy["id"] = id;
        }

        if (index < 0)
        {
            items.Add(copy);
        }
        else
        {
            items[index] = copy;
        }
    });

    /// <summary>A part that is no longer there.</summary>
    public static Change Removed(string list, string id) => new(list, id, "removed", (items, index) =>
    {
        if (index < 0)
        {
            throw new BadInputException("id", $"there is none '{InputBounds.Quote(id)}' among the {list}", 404, "not-found");
        }

        items.RemoveAt(index);
    });

    private static async Task<Ok<FleetVersionView>> OkAsync(Task<FleetVersionView> kept) => TypedResults.Ok(await kept);

    private static Task<Ok<FleetVersionView>> DeleteAsync(
        string list, string id, int basedOn, string? why, FleetState state, NpgsqlDataSource source, IGuest guest, Dispatcher dispatcher, IClock clock, ClaimsPrincipal user, CancellationToken cancel) =>
        OkAsync(ChangeAsync(
            [Removed(list, id)],
            basedOn,
            why,
            state,
            source,
            guest,
            dispatcher,
            clock,
            user.Identity!.Name!,
            null,
            cancel));

    /// <summary>Keeps changes as one version of the fleet, all or none, and has everybody take it over.</summary>
    /// <param name="changes">The changes.</param>
    /// <param name="basedOn">The version they are based on; null for whichever is the newest.</param>
    /// <param name="why">Why, as far as that is said.</param>
    /// <param name="state">The fleet in memory.</param>
    /// <param name="source">PostgreSQL.</param>
    /// <param name="guest">Who may have a fleet that nobody else changes.</param>
    /// <param name="dispatcher">Told of it.</param>
    /// <param name="clock">The product's clock.</param>
    /// <param name="who">By whom.</param>
    /// <param name="also">What is kept in the same transaction; null for nothing else.</param>
    /// <param name="cancel">Gives up; nothing is kept then.</param>
    /// <exception cref="BadInputException">It cannot be; names the member at fault.</exception>
    public static async Task<FleetVersionView> ChangeAsync(
        IReadOnlyList<Change> changes,
        int? basedOn,
        string? why,
        FleetState state,
        NpgsqlDataSource source,
        IGuest guest,
        Dispatcher dispatcher,
        IClock clock,
        string who,
        Func<ImbrekContext, CancellationToken, Task>? also,
        CancellationToken cancel)
    {
        if (changes.Any(c => !Lists.Contains(c.List)))
        {
            throw new BadInputException("list", $"must be one of {string.Join(", ", Lists)}", 404, "not-found");
        }

        if (why?.Length > LongestWhy)
        {
            throw new BadInputException("why", $"has {why.Length} letters; at most {LongestWhy}");
        }

        if (guest.SetsThePace && changes.Any(c => !OfPeople.Contains(c.List)))
        {
            throw new BadInputException("list", $"this part of the demo's fleet belongs to its simulated world: nothing was changed; {string.Join(" and ", OfPeople)} can be", 409, "demo");
        }

        var now = clock.GetCurrentInstant();
        FleetVersionRow row;
        await using (var connection = await source.OpenConnectionAsync(cancel))
        await using (var transaction = await connection.BeginTransactionAsync(cancel))
        {
            await using var inside = await ImbrekDatabase.WithinAsync(source, transaction, cancel);

            // One after another: of many drills that name what they changed at once, each is a version of its own.
            await inside.Database.ExecuteSqlRawAsync($"select pg_advisory_xact_lock({ChangeLock})", cancel);
            var newest = await inside.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).FirstOrDefaultAsync(cancel);
            var number = newest?.Number ?? 0;
            if (basedOn is { } based && number != based)
            {
                throw Late(number, newest?.Who);
            }

            var model = Changed(newest?.Document, changes).WithPlans(state.Fleet.Plans);
            if (await FleetReferences.FindAsync(connection, model, cancel) is { Count: > 0 } missing)
            {
                // What was missing before this change does not stand in its way: of two databases that have begun a branch at once, the first could else not be named for the second.
                var before = newest is not null && FleetFile.Read(Encoding.UTF8.GetBytes(newest.Document), "fleet").Value is { } was
                    ? await FleetReferences.FindAsync(connection, was.WithPlans(state.Fleet.Plans), cancel)
                    : [];
                if (missing.Except(before).Take(20).ToArray() is { Length: > 0 } fresh)
                {
                    throw new BadInputException("id", string.Join("; ", fresh.Select(m => $"{m.List} '{m.Id}' {m.Named}")), 409, "still-named");
                }
            }

            if (model.Plans.SelectMany(p => p.Tasks.SelectMany(t => t.Stores).Where(s => !model.Stores.ContainsKey(s)).Select(s => (Plan: p, Store: s))).FirstOrDefault() is { Plan: { } plan, Store: var store })
            {
                throw new BadInputException("id", $"stores '{store}' is named by plan {plan.Name}", 409, "still-named");
            }

            foreach (var p in model.Plans)
            {
                if (PlanSize.Of(p, model, now).WhatIsTooMuch is { } much)
                {
                    throw new BadInputException("id", $"plan {p.Name} {much}", 409, "plan-too-large");
                }
            }

            row = new FleetVersionRow { Number = number + 1, At = now, Who = who, Why = string.IsNullOrWhiteSpace(why) ? null : why.Trim(), Document = FleetFile.Write(model.WithPlans([])) };
            inside.FleetVersions.Add(row);
            try
            {
                if (also is not null)
                {
                    await also(inside, cancel);
                }

                foreach (var c in changes)
                {
                    await LedgerTable.AppendAsync(inside, now, who, "fleet", c.List == "databases" ? c.Id : "", JsonSerializer.Serialize(new { version = row.Number, list = c.List, id = c.Id, what = c.What, why = row.Why }), cancel);
                }

                await transaction.CommitAsync(cancel);
            }
            catch (DbUpdateException e) when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.UniqueViolation })
            {
                throw Late(number + 1, null);
            }
        }

        await state.LoadFleetAsync(cancel);
        await dispatcher.ChangedAsync(Peers.Shared.FleetParts, cancel);
        return new FleetVersionView(row.Number, row.At, row.Who, row.Why);

        BadInputException Late(int number, string? by) => new(
            "basedOn", $"is {basedOn ?? number - 1}, and the fleet is at version {number}{(by is null ? "" : $" by {by}")}; look at what changed, then change again", 409, "changed-meanwhile");
    }

    /// <summary>A fleet as it would be after changes, without plans: what is kept is what was written and read back.</summary>
    /// <param name="kept">The document that is kept; null when none is.</param>
    /// <param name="changes">The changes.</param>
    /// <exception cref="BadInputException">It would point at nothing, or is wrong; names the member at fault.</exception>
    public static FleetModel Changed(string? kept, IEnumerable<Change> changes)
    {
        var document = kept is null ? new JsonObject { ["format"] = FleetFile.Format } : JsonNode.Parse(kept)!.AsObject();
        Apply(document, changes);
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(document.ToJsonString()), "fleet");
        return read.Value ?? throw new BadInputException(
            read.Faults[0].Member, string.Join("; ", read.Faults.Take(10).Select(f => f.Member.Length > 0 ? $"{f.Member}: {f.Message}" : f.Message)), 422, "points-at-nothing");
    }

    /// <summary>Changes a fleet as it stands in its file.</summary>
    public static void Apply(JsonObject document, IEnumerable<Change> changes)
    {
        foreach (var change in changes)
        {
            if (document[change.List] is not JsonArray items)
            {
                document[change.List] = items = [];
            }

            change.Apply(items, IndexOf(change.List, items, change.Id));
        }
    }

    private static int IndexOf(string list, JsonArray items, string id)
    {
        for (var i = 0; i < items.Count; i++)
        {
            if (items[i] is JsonObject o && (list == "links" ? IsLink(o) : o["id"]?.ToString() == id))
            {
                return i;
            }
        }

        return -1;

        // A link is named by the two sites it joins, in either order.
        bool IsLink(JsonObject o) => o["between"] is JsonArray { Count: 2 } b && b[0]?.ToString() is { } one && b[1]?.ToString() is { } other && (id == $"{one}|{other}" || id == $"{other}|{one}");
    }
}
