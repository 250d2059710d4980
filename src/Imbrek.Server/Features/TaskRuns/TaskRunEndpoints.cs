using System.Security.Claims;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Setup;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.TaskRuns;

/// <summary>What ran, runs, or should have run.</summary>
internal static class TaskRunEndpoints
{
    private static readonly Duration FurthestAhead = Duration.FromDays(366);

    public sealed record TaskRunLine(
        Guid Id,
        string Plan,
        string Task,
        string Kind,
        string Database,
        string DatabaseName,
        Instant Due,
        string State,
        Instant? Started,
        Instant? Ended,
        int Attempts,
        long DataBytes,
        long StoredBytes,
        double ExpectedSeconds,
        string? Set,
        string? Note,
        string? Oddity,
        Guid? After,
        string? AskedBy,
        int Like,
        Instant? FirstLike);

    public sealed record TaskRunPage(IReadOnlyList<TaskRunLine> Runs, string? Next);

    public sealed record LogLine(Instant At, string Text);

    public sealed record TaskRunView(TaskRunLine Run, IReadOnlyList<LogLine> Log, IReadOnlyList<TaskRunLine> Followed, double? UsualSeconds, double? UsualBytes);

    public sealed record RunRequest(string Plan, string Task, string Database, bool OutsideChain, string? At);

    public sealed record RunAsked(Guid Id, Instant Due);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/task-runs", ListAsync).Needs(Roles.Look).WithName("TaskRuns");
        app.MapGet("/api/task-runs/{id:guid}", GetAsync).Needs(Roles.Look).WithName("TaskRun");
        app.MapPost("/api/task-runs", AskAsync).Needs(Roles.Operate).WithName("AskForTaskRun");
        app.MapPost("/api/task-runs/{id:guid}/cancel", CancelAsync).Needs(Roles.Operate).WithName("CancelTaskRun");
    }

    /// <param name="r">The run.</param>
    /// <param name="fleet">Names its database.</param>
    /// <param name="like">How many runs of the task on the database failed for the same reason, this one included; 1 for a run by itself.</param>
    /// <param name="first">When the first of them was due.</param>
    internal static TaskRunLine View(TaskRunRow r, FleetState fleet, int like = 1, Instant? first = null) => new(
        r.Id,
        r.Plan,
        r.Task,
        PlanFile.Name((TaskKind)r.Kind),
        r.Database,
        fleet.Has(r.Database) ? fleet[r.Database].Subject.Database.Name : r.Database,
        r.Due,
        PlanFile.Name((TaskRunState)r.State),
        r.Started,
        r.Ended,
        r.Attempts,
        r.DataBytes,
        r.StoredBytes,
        r.ExpectedSeconds,
        r.SetId,
        r.Note,
        r.Oddity,
        r.AfterId,
        r.AskedBy,
        like,
        first);

    /// <summary>Newest first, by key, so that the millionth page is as fast as the first.</summary>
    private static async Task<Ok<TaskRunPage>> ListAsync(
        ImbrekContext data, FleetState fleet, string? state, string? kind, string? plan, string? database, string? find, string? from, string? to, string? odd, bool? fold, string? before, int? take, CancellationToken cancel)
    {
        IQueryable<TaskRunRow> rows = data.TaskRuns.AsNoTracking();
        if (!string.IsNullOrEmpty(state))
        {
            var states = state.Split(',').Select(s => (short)Read<TaskRunState>("state", s)).ToArray();
            rows = rows.Where(r => states.Contains(r.State));
        }

        if (!string.IsNullOrEmpty(kind))
        {
            var kinds = kind.Split(',').Select(k => (short)Read<TaskKind>("kind", k)).ToArray();
            rows = rows.Where(r => kinds.Contains(r.Kind));
        }

        rows = string.IsNullOrEmpty(plan) ? rows : rows.Where(r => r.Plan == plan);
        rows = string.IsNullOrEmpty(database) ? rows : rows.Where(r => r.Database == database);
        rows = string.IsNullOrEmpty(odd) ? rows : rows.Where(r => r.Oddity != null);
        if (!string.IsNullOrWhiteSpace(find))
        {
            var word = find.Trim().ToLowerInvariant().Replace("\\", "\\\\", StringComparison.Ordinal).Replace("%", "\\%", StringComparison.Ordinal).Replace("_", "\\_", StringComparison.Ordinal);
            rows = rows.Where(r => EF.Functions.Like(r.Search, $"%{word}%"));
        }

        if (Premise.ReadInstantOrNull("from", from) is { } since)
        {
            rows = rows.Where(r => r.Due >= since);
        }

        if (Premise.ReadInstantOrNull("to", to) is { } until)
        {
            rows = rows.Where(r => r.Due < until);
        }

        if (!string.IsNullOrEmpty(before))
        {
            var parts = before.Split('|');
            if (parts.Length != 2 || !Guid.TryParse(parts[1], out var id))
            {
                throw new BadInputException("before", "expected what \"next\" of the page before said");
            }

            var due = Premise.ReadInstant("before", parts[0]);
            // The first condition says where in the index to begin.
            rows = rows.Where(r => r.Due <= due && (r.Due < due || r.Id.CompareTo(id) < 0));
        }

        if (fold == true)
        {
            // Of failures of one task on one database for one reason the last stands for all.
            var upTo = Premise.ReadInstantOrNull("to", to);
            rows = rows.Where(r => r.State != (short)TaskRunState.Failed || !data.TaskRuns.Any(n =>
                n.Database == r.Database && n.Due >= r.Due && (n.Due > r.Due || n.Id.CompareTo(r.Id) > 0) && (upTo == null || n.Due < upTo)
                && n.State == (short)TaskRunState.Failed && n.Plan == r.Plan && n.Task == r.Task && n.Note == r.Note));
        }

        var count = Math.Clamp(take ?? 100, 1, 1000);
        var found = await rows.OrderByDescending(r => r.Due).ThenByDescending(r => r.Id).Take(count + 1).ToListAsync(cancel);
        var last = found.Count > count ? found[count - 1] : null;
        var like = fold == true ? await LikeAsync(found, data, from, to, cancel) : [];
        return TypedResults.Ok(new TaskRunPage(
            [.. found.Take(count).Select(r => like.TryGetValue((r.Plan, r.Task, r.Database, r.Note), out var l) && r.State == (short)TaskRunState.Failed ? View(r, fleet, l.Count, l.First) : View(r, fleet))],
            last is null ? null : $"{Instants.Write(last.Due)}|{last.Id}"));
    }

    /// <summary>How many failures each of the failed runs stands for.</summary>
    private static async Task<Dictionary<(string, string, string, string?), (int Count, Instant First)>> LikeAsync(List<TaskRunRow> found, ImbrekContext data, string? from, string? to, CancellationToken cancel)
    {
        var databases = found.Where(r => r.State == (short)TaskRunState.Failed).Select(r => r.Database).Distinct().ToArray();
        if (databases.Length == 0)
        {
            return [];
        }

        var (since, until) = (Premise.ReadInstantOrNull("from", from), Premise.ReadInstantOrNull("to", to));
        var groups = await data.TaskRuns.AsNoTracking()
            .Where(r => r.State == (short)TaskRunState.Failed && databases.Contains(r.Database) && (since == null || r.Due >= since) && (until == null || r.Due < until))
            .GroupBy(r => new { r.Plan, r.Task, r.Database, r.Note }).Select(g => new { g.Key, Count = g.Count(), First = g.Min(r => r.Due) }).ToListAsync(cancel);
        return groups.ToDictionary(g => (g.Key.Plan, g.Key.Task, g.Key.Database, g.Key.Note), g => (g.Count, g.First));
    }

    private static async Task<Ok<TaskRunView>> GetAsync(Guid id, ImbrekContext data, FleetState fleet, CancellationToken cancel)
    {
        var r = await data.TaskRuns.AsNoTracking().SingleOrDefaultAsync(x => x.Id == id, cancel) ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        var log = await data.TaskRunLines.AsNoTracking().Where(l => l.RunId == id).OrderBy(l => l.Id).ToListAsync(cancel);
        var followed = await data.TaskRuns.AsNoTracking().Where(x => x.AfterId == id).OrderBy(x => x.Due).Take(20).ToListAsync(cancel);
        var like = await data.TaskRuns.AsNoTracking()
            .Where(x => x.Plan == r.Plan && x.Task == r.Task && x.Database == r.Database && x.Due < r.Due && x.State == (short)TaskRunState.Done)
            .OrderByDescending(x => x.Due).Take(40).Select(x => new { x.StoredBytes, x.Started, x.Ended }).ToListAsync(cancel);
        var seconds = like.Where(l => l.Started is not null && l.Ended is not null).Select(l => (l.Ended!.Value - l.Started!.Value).TotalSeconds).Order().ToArray();
        var bytes = like.Select(l => (double)l.StoredBytes).Order().ToArray();
        return TypedResults.Ok(new TaskRunView(
            View(r, fleet),
            [.. log.Select(l => new LogLine(l.At, l.Text))],
            [.. followed.Select(f => View(f, fleet))],
            seconds.Length == 0 ? null : seconds[seconds.Length / 2],
            bytes.Length == 0 ? null : bytes[bytes.Length / 2]));
    }

    /// <summary>
    /// Asks for a run, now or at a time. Kept as a run that waits; the process that runs the plans takes it up, whichever process was asked.
    /// </summary>
    private static async Task<Created<RunAsked>> AskAsync(
        RunRequest request, FleetState fleet, ImbrekContext data, WorldHost host, Peers peers, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var database = fleet[request.Database ?? ""].Subject.Database;
        var plan = fleet.Fleet.Plans.FirstOrDefault(p => p.Id.Value == request.Plan) ?? throw new BadInputException("plan", $"there is no plan '{request.Plan}'");
        var task = plan.Task(request.Task ?? "") ?? throw new BadInputException("task", $"plan {plan.Name} has no task '{request.Task}'");
        if (!plan.Members.Catches(database))
        {
            throw new BadInputException("database", $"{database.Name} is not a member of {plan.Name}");
        }

        var now = clock.GetCurrentInstant();
        var due = Instant.FromUnixTimeMilliseconds((Premise.ReadInstantOrNull("at", request.At) ?? now).ToUnixTimeMilliseconds());
        if (due < now - Duration.FromMinutes(1) || due > now + FurthestAhead)
        {
            throw new BadInputException("at", $"must lie between now and {FurthestAhead.Days} days from now");
        }

        var who = user.Identity!.Name!;
        var row = new TaskRunRow
        {
            Id = TaskRun.IdOf(plan.Id, task.Id, database.Id, due, null, who),
            Plan = plan.Id.Value,
            Task = task.Id,
            Kind = (short)task.Kind,
            Database = database.Id.Value,
            Due = due,
            State = (short)TaskRunState.Waiting,
            Note = request.At is null ? null : "waits for its time",
            AskedBy = who,
            OutsideChain = request.OutsideChain,
        };
        data.TaskRuns.Add(row);
        data.TaskRunLines.Add(new TaskRunLineRow { RunId = row.Id, At = now, Text = $"asked for by {who}{(request.OutsideChain ? ", outside the chain" : "")}" });
        try
        {
            await data.SaveChangesAsync(cancel);
        }
        catch (DbUpdateException e) when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.UniqueViolation })
        {
            throw new BadInputException("at", "you asked for this run at this time already", 409, "asked-already");
        }

        await peers.TellAsync([], [row.Id], cancel);
        await host.TakeUpAskedAsync(cancel);
        return TypedResults.Created($"/api/task-runs/{row.Id}", new RunAsked(row.Id, due));
    }

    private static async Task<NoContent> CancelAsync(Guid id, ImbrekContext data, WorldHost host, Peers peers, ClaimsPrincipal user, CancellationToken cancel)
    {
        var who = user.Identity!.Name!;
        if (await data.TaskRuns.Where(r => r.Id == id && r.State <= (short)TaskRunState.Running).ExecuteUpdateAsync(u => u.SetProperty(r => r.CancelledBy, who), cancel) == 0)
        {
            throw new BadInputException("id", "it is over, or there is no such run", 409, "not-now");
        }

        await peers.TellAsync([], [id], cancel);
        await host.TakeUpAskedAsync(cancel);
        return TypedResults.NoContent();
    }

    private static T Read<T>(string member, string text)
        where T : struct, Enum =>
        Enum.GetValues<T>().Where(v => PlanFile.Name(v) == text).Select(v => (T?)v).FirstOrDefault()
        ?? throw new BadInputException(member, $"'{text}' is not one of {string.Join(", ", Enum.GetValues<T>().Select(PlanFile.Name))}");
}
