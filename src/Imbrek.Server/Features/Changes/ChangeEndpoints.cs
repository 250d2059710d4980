using System.Security.Claims;
using Imbrek.Core.Changes;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Changes;

/// <summary>Changes as named scripts: kept, rehearsed, and carried out on their day.</summary>
internal static class ChangeEndpoints
{
    private const int LongestId = 60;

    public sealed record ChangePartBody(string Name, string? UpgradesTo, IReadOnlyList<string>? Statements);

    public sealed record ChangeQueryBody(string Name, string Query);

    /// <summary>A change as it is written.</summary>
    public sealed record ChangeBody(string Name, string Engine, bool? KeepsOut, IReadOnlyList<ChangePartBody>? Parts, IReadOnlyList<ChangeQueryBody>? Queries);

    /// <summary>A rehearsal that went through.</summary>
    /// <param name="Seconds">Of its parts, as it measured them.</param>
    /// <param name="Broke">How much broke or became slow.</param>
    /// <param name="Same">Whether it was of the script as it is now.</param>
    public sealed record ChangeRehearsalView(Guid Run, string Database, string DatabaseName, Instant At, string Host, double Seconds, int Broke, bool Same);

    /// <param name="Statements">What its statements may be, where a driver says so.</param>
    public sealed record ChangeScriptView(string Id, ChangeBody Change, string EngineName, string? ToVersion, string ChangedBy, Instant ChangedAt, string? Statements, IReadOnlyList<ChangeRehearsalView> Rehearsals);

    public sealed record ChangeScriptsView(IReadOnlyList<ChangeScriptView> Changes);

    /// <summary>Asks what a rehearsal and a change day would be.</summary>
    public sealed record ChangeSheetRequest(string Database, string? Host, Instant? WindowEnd, double? WatchSeconds);

    /// <summary>What a rehearsal would be.</summary>
    /// <param name="Refused">Why it cannot be; null when it can.</param>
    public sealed record RehearsalSheet(string? Refused, string? Host, double? RestoreSeconds, double? CheckSeconds, IReadOnlyList<string> NotTested);

    /// <summary>What a change day would be.</summary>
    public sealed record ChangeDaySheet(string? Refused, string? Member, double? WayBackSeconds, Instant? LastTurn, bool Outage, IReadOnlyList<string> Warnings, IReadOnlyList<string> Steps);

    public sealed record ChangeSheet(string DatabaseName, string? Version, ChangeForecast? Forecast, RehearsalSheet Rehearsal, ChangeDaySheet Day);

    public sealed record ChangeBegun(Guid Id);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/changes", ListAsync).Needs(Roles.Look).WithName("Changes");
        app.MapPut("/api/changes/{id}", PutAsync).Needs(Roles.Plan).WithName("PutChange");
        app.MapDelete("/api/changes/{id}", DeleteAsync).Needs(Roles.Plan).WithName("DeleteChange");
        app.MapPost("/api/changes/{id}/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("ChangeWorksheet");
        app.MapPost("/api/changes/{id}/rehearse", RehearseAsync).Needs(Roles.Operate).Computes().WithName("RehearseChange");
        app.MapPost("/api/changes/{id}/begin", BeginAsync).Needs(Roles.Operate).Computes().WithName("BeginChange");
    }

    private static async Task<Ok<ChangeScriptsView>> ListAsync(ChangeBook book, ImbrekContext data, FleetState state, Drivers drivers, CancellationToken cancel)
    {
        var rows = await data.Changes.AsNoTracking().OrderBy(c => c.Id).ToListAsync(cancel);
        var changes = rows.Select(r => (Row: r, Change: RunJson.Read<Change>(r.Body))).ToArray();
        var rehearsed = (await book.RehearsedAsync(changes.Select(c => c.Change), null, cancel)).ToLookup(r => r.Change);
        return TypedResults.Ok(new ChangeScriptsView([.. changes.Select(c => new ChangeScriptView(
            c.Row.Id,
            new(c.Change.Name, c.Change.Engine.Value, c.Change.KeepsOut, [.. c.Change.Parts.Select(p => new ChangePartBody(p.Name, p.UpgradesTo, p.Statements))], [.. c.Change.Queries.Select(q => new ChangeQueryBody(q.Name, q.Query))]),
            state.Fleet.Engines.TryGetValue(c.Change.Engine, out var e) ? e.Name : c.Change.Engine.Value,
            c.Change.ToVersion,
            c.Row.ChangedBy,
            c.Row.ChangedAt,
            state.Fleet.Databases.Where(d => d.Engine == c.Change.Engine).Select(drivers.TryFor).FirstOrDefault(f => f is not null)?.ChangeHelp,
            [.. rehearsed[c.Change.Name].Take(20).Select(r => new ChangeRehearsalView(
                r.Run, r.Database, state.Has(r.Database) ? state[r.Database].Subject.Database.Name : r.Database, r.At, r.Host, r.Result.Seconds, r.Result.Broke, r.Same))]))]));
    }

    /// <summary>Keeps a change; the ledger has what it is and who wrote it.</summary>
    private static async Task<NoContent> PutAsync(string id, ChangeBody body, FleetState state, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (InputBounds.WhatIsWrongWithId(id, LongestId) is { } wrongId)
        {
            throw new BadInputException("id", wrongId);
        }

        var change = new Change(
            (body.Name ?? "").Trim(),
            new(body.Engine ?? ""),
            body.KeepsOut ?? false,
            [.. (body.Parts ?? []).Select(p => new ChangePart((p?.Name ?? "").Trim(), string.IsNullOrWhiteSpace(p?.UpgradesTo) ? null : p.UpgradesTo.Trim(), [.. (p?.Statements ?? []).Select(s => (s ?? "").Trim())]))],
            [.. (body.Queries ?? []).Select(q => new NamedQuery((q?.Name ?? "").Trim(), (q?.Query ?? "").Trim()))]);
        if (change.Fault() is var (member, why))
        {
            throw new BadInputException(member, why);
        }

        if (!state.Fleet.Engines.ContainsKey(change.Engine))
        {
            throw new BadInputException("engine", $"there is no engine '{InputBounds.Quote(change.Engine.Value)}'");
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        var rows = await data.Changes.ToListAsync(cancel);
        if (rows.Any(r => r.Id != id && RunJson.Read<Change>(r.Body).Name == change.Name))
        {
            throw new BadInputException("name", "another change is called so", 409, "name-taken");
        }

        var row = rows.FirstOrDefault(r => r.Id == id);
        if (row is null)
        {
            if (rows.Count >= ChangeBook.Most)
            {
                throw new BadInputException("id", $"at most {ChangeBook.Most} changes are kept: delete one first", 409, "too-many");
            }

            row = new ChangeRow { Id = id };
            data.Changes.Add(row);
        }

        (row.Body, row.ChangedBy, row.ChangedAt) = (RunJson.Write(change), user.Identity!.Name!, clock.GetCurrentInstant());
        await LedgerTable.AppendAsync(data, row.ChangedAt, row.ChangedBy, "change-written", "", RunJson.Write(new { id, change }), cancel);
        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.NoContent();
    }

    private static async Task<NoContent> DeleteAsync(string id, ChangeBook book, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        await book.FindAsync(id, cancel);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await data.Changes.Where(c => c.Id == id).ExecuteDeleteAsync(cancel);
        await LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), user.Identity!.Name!, "change-written", "", RunJson.Write(new { id, deleted = true }), cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.NoContent();
    }

    private static async Task<Ok<ChangeSheet>> WorksheetAsync(string id, ChangeSheetRequest request, ChangeBook book, FleetState state, Drivers drivers, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var ((_, change), d, now) = (await book.FindAsync(id, cancel), state[request.Database ?? ""].Subject.Database, clock.GetCurrentInstant());
        var (forecast, rehearsals) = await book.ForecastAsync(change, d.Id.Value, cancel);
        var who = user.Identity!.Name!;
        return TypedResults.Ok(new ChangeSheet(
            d.Name,
            d.Version,
            forecast,
            Rehearsal(),
            await DayAsync()));

        RehearsalSheet Rehearsal()
        {
            try
            {
                var r = ChangePlanning.OfRehearsal(change, forecast, request.Database, request.Host, state, drivers, now, who);
                return new(null, r.Path.Host.Value, r.Path.Seconds, d.CheckSeconds, r.NotTested);
            }
            catch (BadInputException e)
            {
                return new(e.Message, null, null, null, []);
            }
        }

        async Task<ChangeDaySheet> DayAsync()
        {
            try
            {
                var x = await ChangePlanning.OfDayAsync(change, forecast, rehearsals, request.Database, request.WindowEnd, request.WatchSeconds, state, drivers, now, who, cancel);
                return new(null, null, x.WayBackSeconds, x.LastTurn, change.IsOutage, x.Warnings, [.. RunJson.ReadRun(x.Row.Steps, null).Plan.Steps.Select(s => s.Title)]);
            }
            catch (BadInputException e)
            {
                return new(e.Message, e.Member, null, null, change.IsOutage, [], []);
            }
        }
    }

    private static async Task<Created<ChangeBegun>> RehearseAsync(string id, ChangeSheetRequest request, ChangeBook book, FleetState state, Drivers drivers, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (_, change) = await book.FindAsync(id, cancel);
        var (forecast, _) = await book.ForecastAsync(change, request.Database ?? "", cancel);
        var r = ChangePlanning.OfRehearsal(change, forecast, request.Database, request.Host, state, drivers, clock.GetCurrentInstant(), user.Identity!.Name!);
        await begin.BeginAsync(r.Row, cancel);
        return TypedResults.Created($"/api/runs/{r.Row.Id}", new ChangeBegun(r.Row.Id));
    }

    private static async Task<Created<ChangeBegun>> BeginAsync(string id, ChangeSheetRequest request, ChangeBook book, FleetState state, Drivers drivers, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (_, change) = await book.FindAsync(id, cancel);
        var (forecast, rehearsals) = await book.ForecastAsync(change, request.Database ?? "", cancel);
        var x = await ChangePlanning.OfDayAsync(change, forecast, rehearsals, request.Database, request.WindowEnd, request.WatchSeconds, state, drivers, clock.GetCurrentInstant(), user.Identity!.Name!, cancel);
        await begin.BeginAsync(x.Row, cancel);
        return TypedResults.Created($"/api/runs/{x.Row.Id}", new ChangeBegun(x.Row.Id));
    }
}
