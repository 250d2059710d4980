using System.Security.Claims;
using System.Text;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.LookAtReplica;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Copies;

/// <summary>Copies in use: all that was made of databases and still stands, by whom, for whom and until when; views and clones are made here, and rows taken out.</summary>
internal static class CopyEndpoints
{
    /// <summary>How many rows are shown, and how many can be taken out at once.</summary>
    private const int MostShown = 200, MostTaken = 100_000;

    /// <summary>How long a query may take.</summary>
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(90);

    /// <summary>A copy that stands, or is being made.</summary>
    /// <param name="Run">The run that makes or made it.</param>
    /// <param name="Kind">What it is: the kind of run.</param>
    /// <param name="Since">Since when it stands; null while it is being made.</param>
    /// <param name="Until">When it ends; null for what has no end.</param>
    /// <param name="Ends">Whether it is removed by itself then.</param>
    /// <param name="Bytes">Room it takes.</param>
    /// <param name="Hosts">Who is let in beside those who look through the product; null where clients are.</param>
    /// <param name="Answers">Where it answers those; null where that is not known.</param>
    /// <param name="Reached">The instant it holds.</param>
    /// <param name="Removing">The run that removes it; null when none does.</param>
    public sealed record StandingCopyView(
        Guid Run, string Kind, string Database, string DatabaseName, string Host, string Instance, string? Owner, RunState State, Instant? Since, Instant? Until, bool Ends, bool PastEnd, long Bytes, bool Mounted,
        IReadOnlyList<string>? Hosts, string? Answers, Instant? Reached, bool Asks, Guid? Removing, CopyRoundsView? Rounds);

    /// <summary>Of what is left open for log, or a clone: what comes again and again.</summary>
    /// <param name="EverySeconds">How often; null for by hand.</param>
    /// <param name="Opened">Whether what was left open was opened: no log is applied any more.</param>
    /// <param name="Empty">Whether nobody is in it because it could not be refreshed.</param>
    /// <param name="UnderWay">The run that is on it now; null when none is.</param>
    public sealed record CopyRoundsView(double? EverySeconds, bool Opened, bool Empty, Guid? UnderWay);

    /// <summary>Asks for further log.</summary>
    /// <param name="To">Up to which instant; null for as far as it goes.</param>
    /// <param name="Opens">Whether it is opened then.</param>
    public sealed record ApplyLogRequest(Instant? To, bool? Opens);

    public sealed record CopiesView(Instant Now, IReadOnlyList<StandingCopyView> Copies);

    /// <summary>What would be made.</summary>
    /// <param name="Seconds">Until it can be used.</param>
    public sealed record CopyWorksheetView(string? Refused, string? Member, string? Host, Instant? Reaches, double? LostSeconds, double? Seconds, double? CheckSeconds, bool Mounted, long? RoomBytes, long? MovedBytes, IReadOnlyList<string> Names, string? QueryHelp, string? MaskHelp, IReadOnlyList<string> MoreOpen, SettingsAsked.SettingsView? Settings = null);

    public sealed record CopiesBegun(IReadOnlyList<Guid> Ids);

    public sealed record QueryRequest(string Query);

    public sealed record UntilRequest(Instant Until);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/copies", ListAsync).Needs(Roles.Look).WithName("Copies");
        app.MapPost("/api/copies/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("CopyWorksheet");
        app.MapPost("/api/copies", MakeAsync).Needs(Roles.Operate).Computes().WithName("MakeCopies");
        app.MapPost("/api/copies/{id}/rows", RowsAsync).Needs(Roles.Operate).WithName("CopyRows");
        app.MapPost("/api/copies/{id}/rows.csv", CsvAsync).Needs(Roles.Operate).WithName("CopyRowsCsv").ExcludeFromDescription();
        app.MapPost("/api/copies/{id}/log", ApplyLogAsync).Needs(Roles.Operate).WithName("ApplyLog");
        app.MapPost("/api/copies/{id}/refresh", RefreshAsync).Needs(Roles.Operate).WithName("RefreshClone");
        app.MapPut("/api/copies/{id}/until", SetUntilAsync).Needs(Roles.Operate).WithName("SetCopyUntil");
    }

    private static async Task<Ok<CopiesView>> ListAsync(FleetState fleet, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var rows = await data.Runs.AsNoTracking().Where(r => r.Claim != null && r.Question != null && r.Steps != null).OrderBy(r => r.Due).Take(5_000).ToListAsync(cancel);
        var removals = rows.Where(r => r.Kind == RemovalKind.KindName).ToDictionary(r => r.Claim!, r => r.Id);
        var holding = await CopyRounds.OfAsync(data, rows, cancel);
        return TypedResults.Ok(new CopiesView(now, [.. rows.Select(Of).OfType<StandingCopyView>().OrderBy(c => c.Until ?? Instant.MaxValue).ThenBy(c => c.Since)]));

        StandingCopyView? Of(RunRow r)
        {
            var d = fleet.Has(r.Database) ? fleet[r.Database].Subject.Database : null;
            if (r.Kind == LookAtReplicaKind.KindName)
            {
                var look = RunJson.Read<LookAtReplicaKind.Question>(r.Question!);
                return new(r.Id, r.Kind, r.Database, d?.Name ?? r.Database, look.Host, look.Instance, r.AskedBy, r.StateIs, r.Started, look.Until, true, look.Until <= now, d?.SizeBytes ?? 0, false, [], null, look.At, false, null, null);
            }

            // Put in place, it claims its database; until then it stands beside it.
            if (RestoreQuestion.Of(r) is not { On: null } asked || (r.Claim != asked.Claim && r.StateIs.IsOver()))
            {
                return null;
            }

            var (result, log) = (RestoreResult.Kept(r), holding.GetValueOrDefault(r.Id));
            return new(
                r.Id, r.Kind, r.Database, d?.Name ?? r.Database, asked.Host, asked.Instance, r.AskedBy, r.StateIs, result?.ReadyAt ?? (r.StateIs.IsOver() ? r.Ended : null), r.Until, r.Until is not null && !asked.Stays, r.Until <= now,
                asked.Mounted ? 0 : d?.SizeBytes ?? 0, asked.Mounted, log is { Opened: true, UnderWay: null } ? null : asked.Hosts, TemporaryCopyKind.AnswersAt(r), log?.Reached ?? result?.Reached ?? (r.StateIs.IsOver() ? asked.Planned.Reaches : null),
                IsOpen(r, log), removals.TryGetValue(RestoreQuestion.BusyOf(asked.Claim), out var removal) ? removal : null, log is null ? null : new(asked.EverySeconds, log.Opened, log.IsEmpty, log.UnderWay));
        }
    }

    /// <summary>Whether what a run made can be asked: it is held, or stands. What is moved is not opened before it lives there.</summary>
    private static bool IsOpen(RunRow r, CopyRounds.Holding? log) => !Moving.Is(r.Kind) && (r.Kind == TemporaryCopyKind.LeftOpen ? log is { Opened: true, UnderWay: null } : log is { UnderWay: not null } or { IsEmpty: true } ? false : r.StateIs == RunState.Held || (r.StateIs == RunState.Done && r.Claim is not null && r.Claim == RestoreQuestion.Of(r)?.Claim));

    private static async Task<Ok<CopyWorksheetView>> WorksheetAsync(CopyPlanning.CopyRequest request, FleetState state, Drivers drivers, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var d = state[request.Database ?? ""].Subject.Database;
        var family = drivers.TryFor(d);
        try
        {
            var settings = await SettingsAsked.AtAsync(data, clock.GetCurrentInstant(), cancel);
            var now = clock.GetCurrentInstant();
            var p = CopyPlanning.Of(request, state, drivers, settings, now, user.Identity!.Name!);
            return TypedResults.Ok(new CopyWorksheetView(
                null, null, p.Path.Host.Value, p.Path.Reaches, p.Path.LostSeconds, p.Path.Seconds, d.CheckSeconds, p.Mounted, p.RoomBytes, p.MovedBytes, p.Names, family?.QueryHelp, family?.MaskHelp, p.MoreOpen, settings.Of(p.Path.Needs)));
        }
        catch (BadInputException e)
        {
            return TypedResults.Ok(new CopyWorksheetView(e.Message, e.Member, null, null, null, null, null, false, null, null, [], family?.QueryHelp, family?.MaskHelp, []));
        }
    }

    private static async Task<Created<CopiesBegun>> MakeAsync(CopyPlanning.CopyRequest request, FleetState state, Drivers drivers, ImbrekContext data, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        // What has been told since would count as not there yet: the instant is taken last.
        var settings = await SettingsAsked.AtAsync(data, clock.GetCurrentInstant(), cancel);
        var (now, who) = (clock.GetCurrentInstant(), user.Identity!.Name!);
        var p = CopyPlanning.Of(request, state, drivers, settings, now, who);
        SettingsAsked.MustBeAnswered(p.Path.Needs, request.Settings);
        if (p.MoreOpen.Count > 0 && string.IsNullOrWhiteSpace(request.MoreOpenBecause))
        {
            throw new BadInputException("moreOpenBecause", $"it would be more open than its source: {string.Join("; ", p.MoreOpen)}. Say why it is made all the same", 409, "more-open");
        }

        if (p.MoreOpen.Count > 0)
        {
            // Said before it is made, so that nothing more open ever stands without its reason.
            await using var transaction = await data.Database.BeginTransactionAsync(cancel);
            await LedgerTable.AppendAsync(data, now, who, "more-open", request.Database, RunJson.Write(new { runs = p.Rows.Select(r => r.Id), kind = request.As, open = p.MoreOpen, why = request.MoreOpenBecause }), cancel);
            await transaction.CommitAsync(cancel);
        }

        if (!await begin.TryBeginAsync(p.Rows, cancel))
        {
            throw new BadInputException("name", $"there is an instance {string.Join(" or ", p.Names)} on {p.Path.Host} already: choose another name, or remove it first", 409, "target-taken");
        }

        return TypedResults.Created("/api/copies", new CopiesBegun([.. p.Rows.Select(r => r.Id)]));
    }

    private static async Task<Ok<QueryRows>> RowsAsync(Guid id, QueryRequest request, ImbrekContext data, Drivers drivers, CancellationToken cancel) =>
        TypedResults.Ok(await AskAsync(id, request, MostShown, data, drivers, cancel));

    /// <summary>Takes rows out, as a file; the ledger says who took them, and by which query.</summary>
    private static async Task<FileContentHttpResult> CsvAsync(Guid id, QueryRequest request, ImbrekContext data, Drivers drivers, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var answer = await AskAsync(id, request, MostTaken, data, drivers, cancel);
        if (answer.More)
        {
            throw new BadInputException("query", $"it answers more than {MostTaken} rows: ask for a part at a time", 409, "too-many");
        }

        var run = await data.Runs.AsNoTracking().SingleAsync(r => r.Id == id, cancel);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), user.Identity!.Name!, "rows-taken", run.Database, RunJson.Write(new { run = id, query = request.Query, rows = answer.Rows.Count }), cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.File(Encoding.UTF8.GetBytes(Csv(answer)), "text/csv; charset=utf-8", $"{run.Database}-rows.csv");
    }

    private static string Csv(QueryRows answer)
    {
        var text = new StringBuilder();
        foreach (var row in answer.Rows.Prepend(answer.Columns))
        {
            text.AppendJoin(',', row.Select(v => v is null ? "" : v.Length == 0 || v.AsSpan().IndexOfAny("\",\r\n") >= 0 ? $"\"{v.Replace("\"", "\"\"", StringComparison.Ordinal)}\"" : v)).Append("\r\n");
        }

        return text.ToString();
    }

    /// <exception cref="BadInputException">It is not open, or the query cannot be answered.</exception>
    private static async Task<QueryRows> AskAsync(Guid id, QueryRequest request, int most, ImbrekContext data, Drivers drivers, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(request.Query) || InputBounds.WhatIsWrong(request.Query, InputBounds.Reason, lines: true) is not null)
        {
            throw new BadInputException("query", $"write one query of at most {InputBounds.Reason} letters");
        }

        var row = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        if (RestoreQuestion.Of(row) is not { } asked || !IsOpen(row, (await CopyRounds.OfAsync(data, [row], cancel)).GetValueOrDefault(row.Id)))
        {
            throw new BadInputException("id", "nothing of it stands open that could be asked", 409, "not-now");
        }

        var (rows, why) = await DriverAnswer.WithinAsync(Longest, c => drivers.Named(row.Driver!).Restore.AskAsync(asked.Spec(row.Database, row.Id), request.Query.Trim(), most, c), cancel);
        return rows ?? throw new BadInputException("query", why!, 409, "cannot-answer");
    }

    /// <summary>Applies further log to what is left open for it, or opens it.</summary>
    private static async Task<Created<CopiesBegun>> ApplyLogAsync(Guid id, ApplyLogRequest request, FleetState fleet, ImbrekContext data, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var row = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        if (!(await CopyRounds.OfAsync(data, [row], cancel)).TryGetValue(id, out var holding))
        {
            throw new BadInputException("id", "it is not open for log", 409, "not-now");
        }

        var round = CopyRounds.LogOf(holding, request.To, request.Opens ?? false, fleet, clock.GetCurrentInstant(), user.Identity!.Name!);
        await begin.BeginAsync(round, cancel);
        return TypedResults.Created($"/api/runs/{round.Id}", new CopiesBegun([round.Id]));
    }

    /// <summary>Makes a clone anew, under its name and for whom it was made.</summary>
    private static async Task<Created<CopiesBegun>> RefreshAsync(Guid id, FleetState fleet, ImbrekContext data, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var row = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        if (row.Kind != TemporaryCopyKind.Clone || !(await CopyRounds.OfAsync(data, [row], cancel)).TryGetValue(id, out var holding))
        {
            throw new BadInputException("id", "it is no clone that stands", 409, "not-now");
        }

        var settings = await SettingsAsked.AtAsync(data, clock.GetCurrentInstant(), cancel);
        var refresh = CopyRounds.RefreshOf(holding, fleet, settings, clock.GetCurrentInstant(), user.Identity!.Name!);
        await begin.BeginAsync(refresh, cancel);
        return TypedResults.Created($"/api/runs/{refresh.Id}", new CopiesBegun([refresh.Id]));
    }

    /// <summary>Gives a copy another end.</summary>
    private static async Task<NoContent> SetUntilAsync(Guid id, UntilRequest request, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        if (TemporaryCopy.WhatIsWrongWithEnd(request.Until, now) is { } wrong)
        {
            throw new BadInputException("until", wrong);
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        var row = await data.Runs.SingleOrDefaultAsync(r => r.Id == id, cancel) ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        if (row.Until is null || row.Claim is null)
        {
            throw new BadInputException("id", "it has no end, or has ended", 409, "not-now");
        }

        var was = row.Until.Value;
        await data.Runs.Where(r => r.Id == id).ExecuteUpdateAsync(u => u.SetProperty(r => r.Until, request.Until), cancel);
        await LedgerTable.AppendAsync(data, now, user.Identity!.Name!, row.Kind, row.Database, RunJson.Write(new { run = id, until = Instants.Write(request.Until), was = Instants.Write(was) }), cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.NoContent();
    }
}
