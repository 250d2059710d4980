using System.Security.Claims;
using Imbrek.Core.Drills;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.RestoreTogether;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>Runs of any kind: what ran, runs, or should have run; their steps; and what people decide about them.</summary>
internal static class RunEndpoints
{
    private const int LongestWhy = 500;

    private static readonly Duration FurthestAhead = Duration.FromDays(366);

    public sealed record RunPage(IReadOnlyList<RunLine> Runs, string? Next);

    /// <summary>A run of a task of a plan.</summary>
    public sealed record RunRequest(string Plan, string Task, string Database, bool OutsideChain, string? At);

    public sealed record RunAsked(Guid Id, Instant Due);

    /// <summary>A decision about a step.</summary>
    /// <param name="Step">The number of the step; null for the one that people are asked about, when there is one.</param>
    /// <param name="Choice">One of the choices it offers.</param>
    /// <param name="Why">Why; who refuses to approve must say.</param>
    public sealed record DecisionRequest(int? Step, string Choice, string? Why = null);

    /// <summary>One person decides alone what needs a second one, in an emergency.</summary>
    /// <param name="Step">The number of the step.</param>
    /// <param name="Why">Why nobody else can be asked.</param>
    /// <param name="Word">The name of the database, said again the second time; null the first time, which is refused.</param>
    public sealed record AloneRequest(int Step, string Why, string? Word);

    public sealed record RemovalBegun(Guid Id);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/runs", ListAsync).Needs(Roles.Look).WithName("Runs");
        app.MapGet("/api/runs/{id:guid}", GetAsync).Needs(Roles.Look).WithName("Run");
        app.MapPost("/api/runs", AskAsync).Needs(Roles.Operate).WithName("AskForRun");
        app.MapPost("/api/runs/{id:guid}/decide", DecideAsync).Needs(Roles.Operate).WithName("DecideRun");
        app.MapPost("/api/runs/{id:guid}/approve", ApproveAsync).Needs(Roles.Approve).WithName("ApproveRun");
        app.MapPost("/api/runs/{id:guid}/alone", AloneAsync).Needs(Roles.Operate).InSession().WithName("DecideAlone");
        app.MapPost("/api/runs/{id:guid}/cancel", CancelAsync).Needs(Roles.Operate).WithName("CancelRun");
        app.MapPost("/api/runs/{id:guid}/remove", RemoveAsync).Needs(Roles.Operate).WithName("RemoveInstance");
    }

    /// <summary>Newest first, by key, so that the millionth page is as fast as the first.</summary>
    private static async Task<Ok<RunPage>> ListAsync(
        ImbrekContext data, FleetState fleet, string? state, string? kind, string? plan, string? database, string? find, string? from, string? to, string? odd, bool? fold, string? before, int? take, IEnumerable<IRunKind> all, CancellationToken cancel)
    {
        IQueryable<RunRow> rows = data.Runs.AsNoTracking();
        if (!string.IsNullOrEmpty(state))
        {
            var states = state.Split(',').Select(s => (short)Read<RunState>("state", s)).ToArray();
            rows = rows.Where(r => states.Contains(r.State));
        }

        if (!string.IsNullOrEmpty(kind))
        {
            var kinds = kind.Split(',');
            foreach (var unknown in kinds.Where(k => all.All(a => !a.Names.Contains(k))))
            {
                throw new BadInputException("kind", $"'{unknown}' is no kind of run");
            }

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
            rows = rows.Where(r => r.State != (short)RunState.Failed || !data.Runs.Any(n =>
                n.Database == r.Database && n.Due >= r.Due && (n.Due > r.Due || n.Id.CompareTo(r.Id) > 0) && (upTo == null || n.Due < upTo)
                && n.State == (short)RunState.Failed && n.Plan == r.Plan && n.Task == r.Task && n.Note == r.Note));
        }

        var count = Math.Clamp(take ?? 100, 1, 1000);
        var found = await rows.OrderByDescending(r => r.Due).ThenByDescending(r => r.Id).Take(count + 1).ToListAsync(cancel);
        var last = found.Count > count ? found[count - 1] : null;
        var like = fold == true ? await LikeAsync(found, data, from, to, cancel) : [];
        return TypedResults.Ok(new RunPage(
            [.. found.Take(count).Select(r => like.TryGetValue((r.Plan, r.Task, r.Database, r.Note), out var l) && r.State == (short)RunState.Failed ? RunLine.Of(r, fleet, l.Count, l.First) : RunLine.Of(r, fleet))],
            last is null ? null : $"{Instants.Write(last.Due)}|{last.Id}"));
    }

    /// <summary>How many failures each of the failed runs stands for.</summary>
    private static async Task<Dictionary<(string?, string?, string, string?), (int Count, Instant First)>> LikeAsync(List<RunRow> found, ImbrekContext data, string? from, string? to, CancellationToken cancel)
    {
        var databases = found.Where(r => r.State == (short)RunState.Failed).Select(r => r.Database).Distinct().ToArray();
        if (databases.Length == 0)
        {
            return [];
        }

        var (since, until) = (Premise.ReadInstantOrNull("from", from), Premise.ReadInstantOrNull("to", to));
        var groups = await data.Runs.AsNoTracking()
            .Where(r => r.State == (short)RunState.Failed && databases.Contains(r.Database) && (since == null || r.Due >= since) && (until == null || r.Due < until))
            .GroupBy(r => new { r.Plan, r.Task, r.Database, r.Note }).Select(g => new { g.Key, Count = g.Count(), First = g.Min(r => r.Due) }).ToListAsync(cancel);
        return groups.ToDictionary(g => (g.Key.Plan, g.Key.Task, g.Key.Database, g.Key.Note), g => (g.Count, g.First));
    }

    /// <summary>What an earlier run of the same task on the same database stored, and when.</summary>
    private sealed record Alike(long StoredBytes, Instant? Started, Instant? Ended);

    private static async Task<Ok<RunView>> GetAsync(Guid id, ImbrekContext data, RunStore store, FleetState fleet, Drivers drivers, IClock clock, CancellationToken cancel)
    {
        var (r, decisions) = await store.FindAsync(id, cancel) ?? throw NotFound();
        var log = await data.RunLines.AsNoTracking().Where(l => l.RunId == id).OrderBy(l => l.Id).ToListAsync(cancel);
        var followed = await data.Runs.AsNoTracking().Where(x => x.AfterId == id).OrderBy(x => x.Due).Take(JointRunbook.MostMembers).ToListAsync(cancel);
        List<Alike> like = r.Plan is null ? [] : await data.Runs.AsNoTracking()
            .Where(x => x.Plan == r.Plan && x.Task == r.Task && x.Database == r.Database && x.Due < r.Due && x.State == (short)RunState.Done)
            .OrderByDescending(x => x.Due).Take(40).Select(x => new Alike(x.StoredBytes, x.Started, x.Ended)).ToListAsync(cancel);
        var seconds = like.Where(l => l.Started is not null && l.Ended is not null).Select(l => (l.Ended!.Value - l.Started!.Value).TotalSeconds).Order().ToArray();
        var bytes = like.Select(l => (double)l.StoredBytes).Order().ToArray();
        return TypedResults.Ok(new RunView(
            RunLine.Of(r, fleet),
            RunView.StepsOf(r, decisions, clock.GetCurrentInstant()),
            !r.StateIs.IsOver() && r.CancelledBy is null && !r.NoWayBack,
            r.CancelledBy,
            RunView.RestoreOf(r, fleet),
            RunView.DrillOf(r),
            RunView.JointOf(r, followed, fleet),
            RunView.ChangeOf(r, fleet, drivers),
            RunView.MoveOf(r),
            RunView.SecondOf(r),
            RunView.OfMany(r),
            r.StateIs.IsOver() ? [] : MoreOpen.Of(r, fleet.Fleet),
            [.. log.Select(l => new RunLogLine(l.At, l.Text))],
            [.. followed.Select(f => RunLine.Of(f, fleet))],
            seconds.Length == 0 ? null : seconds[seconds.Length / 2],
            bytes.Length == 0 ? null : bytes[bytes.Length / 2]));
    }

    /// <summary>
    /// Asks for a run, now or at a time. Kept as a run that waits; the process that runs the plans takes it up, whichever process was asked.
    /// </summary>
    private static async Task<Created<RunAsked>> AskAsync(
        RunRequest request, FleetState fleet, ImbrekContext data, Drivers drivers, Dispatcher dispatcher, Peers peers, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var database = fleet[request.Database ?? ""].Subject.Database;
        var plan = fleet.Fleet.Plans.FirstOrDefault(p => p.Id.Value == request.Plan) ?? throw new BadInputException("plan", $"there is no plan '{request.Plan}'");
        var task = plan.Task(request.Task ?? "") ?? throw new BadInputException("task", $"plan {plan.Name} has no task '{request.Task}'");
        if (!plan.Members.Catches(database))
        {
            throw new BadInputException("database", $"{database.Name} is not a member of {plan.Name}");
        }

        _ = drivers.For(database);
        var now = clock.GetCurrentInstant();
        var due = Instants.Floor(Premise.ReadInstantOrNull("at", request.At) ?? now);
        if (due < now - Duration.FromMinutes(1) || due > now + FurthestAhead)
        {
            throw new BadInputException("at", $"must lie between now and {FurthestAhead.Days} days from now");
        }

        var who = user.Identity!.Name!;
        var row = new RunRow
        {
            Id = TaskRun.IdOf(plan.Id, task.Id, database.Id, due, null, who),
            Plan = plan.Id.Value,
            Task = task.Id,
            Kind = PlanFile.Name(task.Kind),
            Database = database.Id.Value,
            Due = due,
            State = (short)RunState.Waiting,
            Note = request.At is null ? null : "waits for its time",
            AskedBy = who,
            OutsideChain = request.OutsideChain,
        };
        data.Runs.Add(row);
        data.RunLines.Add(new RunLineRow { RunId = row.Id, At = now, Text = $"asked for by {who}{(request.OutsideChain ? ", outside the chain" : "")}" });
        try
        {
            await data.SaveChangesAsync(cancel);
        }
        catch (DbUpdateException e) when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.UniqueViolation })
        {
            throw new BadInputException("at", "you asked for this run at this time already", 409, "asked-already");
        }

        await peers.TellAsync([], [row.Id], cancel);
        await dispatcher.TakeUpAskedAsync(cancel);
        return TypedResults.Created($"/api/runs/{row.Id}", new RunAsked(row.Id, due));
    }

    /// <summary>Takes a decision about a step, once: of two people who decide at the same time one is told.</summary>
    private static async Task<NoContent> DecideAsync(
        Guid id, DecisionRequest request, ImbrekContext data, RunDecisions decisions, ClaimsPrincipal user, CancellationToken cancel)
    {
        await NotOneOfManyAsync(id, data, cancel);
        await decisions.TakeAsync(id, request.Step, request.Choice, approves: false, request.Why, null, user.Identity!.Name!, cancel);
        return TypedResults.NoContent();
    }

    /// <summary>Those that are restored together are released or thrown away together: nobody decides about one of them.</summary>
    private static async Task NotOneOfManyAsync(Guid id, ImbrekContext data, CancellationToken cancel)
    {
        var all = await data.Runs.AsNoTracking().Where(r => r.Id == id && r.AfterId != null).Join(data.Runs.AsNoTracking(), r => r.AfterId, p => p.Id, (r, p) => p)
            .Where(p => p.Kind == RestoreTogetherKind.KindName && p.State < (short)RunState.Done).Select(p => (Guid?)p.Id).SingleOrDefaultAsync(cancel);
        if (all is not null)
        {
            throw new BadInputException("id", $"it is restored together with others, and decided about together with them: in run {all}", 409, "together");
        }
    }

    /// <summary>Approves or refuses a step that needs it: never whoever asked for the run.</summary>
    private static async Task<NoContent> ApproveAsync(
        Guid id, DecisionRequest request, RunDecisions decisions, ClaimsPrincipal user, CancellationToken cancel)
    {
        await decisions.TakeAsync(id, request.Step, request.Choice, approves: true, request.Why, null, user.Identity!.Name!, cancel);
        return TypedResults.NoContent();
    }

    /// <summary>In an emergency one person may approve alone: asked for twice, told to everybody, and in the ledger in its own kind.</summary>
    private static async Task<NoContent> AloneAsync(
        Guid id, AloneRequest request, RunStore store, RunDecisions decisions, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(request.Why) || request.Why.Length > LongestWhy)
        {
            throw new BadInputException("why", $"say in at most {LongestWhy} letters why nobody else can be asked");
        }

        var (row, _) = await store.FindAsync(id, cancel) ?? throw NotFound();
        if (request.Word != row.Database)
        {
            throw new BadInputException("word", $"you alone decide what a second person should; everybody will be told. Ask again with the name of the database, {row.Database}", 409, "ask-again");
        }

        await decisions.TakeAsync(id, request.Step, Step.Approve, approves: true, null, request.Why.Trim(), user.Identity!.Name!, cancel);
        return TypedResults.NoContent();
    }

    /// <summary>Cancels a run, or a run of a task; once it is told, it holds.</summary>
    private static async Task<NoContent> CancelAsync(Guid id, ImbrekContext data, RunDecisions decisions, Dispatcher dispatcher, ClaimsPrincipal user, CancellationToken cancel)
    {
        await NotOneOfManyAsync(id, data, cancel);
        if (!await decisions.CancelAsync(id, user.Identity!.Name!, cancel))
        {
            var now = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) ?? throw NotFound();
            throw new BadInputException(
                "id",
                now.NoWayBack ? "there is no way back any more" : $"it cannot be cancelled: it is {PlanFile.Name(now.StateIs)}{(now.CancelledBy is { } other ? $" (by {other})" : "")}",
                409,
                "not-now");
        }

        await dispatcher.TakeUpAskedAsync(cancel);
        return TypedResults.NoContent();
    }

    /// <summary>Begins a run that removes the instance another run left.</summary>
    private static async Task<Created<RemovalBegun>> RemoveAsync(
        Guid id, ImbrekContext data, Drivers drivers, FleetState fleet, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var row = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel) ?? throw NotFound();
        if (row.Claim is null || !row.StateIs.IsOver())
        {
            throw new BadInputException("id", "there is no instance of it to remove", 409, "not-now");
        }

        var family = drivers.For(fleet[row.Database].Subject.Database);

        // Somebody may have begun to remove it in the same moment: one run is enough, and they are told of it.
        var made = RemovalKind.Of(row, family.Name, user.Identity!.Name!, clock.GetCurrentInstant());
        var begun = await begin.TryBeginAsync(made, cancel)
            ? made.Id
            : await data.Runs.Where(r => r.Claim == made.Claim).Select(r => r.Id).FirstOrDefaultAsync(cancel);
        return TypedResults.Created($"/api/runs/{begun}", new RemovalBegun(begun));
    }

    private static BadInputException NotFound() => new("id", "there is no such run", 404, "not-found");

    private static T Read<T>(string member, string text)
        where T : struct, Enum =>
        Enum.GetValues<T>().Where(v => PlanFile.Name(v) == text).Select(v => (T?)v).FirstOrDefault()
        ?? throw new BadInputException(member, $"'{text}' is not one of {string.Join(", ", Enum.GetValues<T>().Select(PlanFile.Name))}");
}
