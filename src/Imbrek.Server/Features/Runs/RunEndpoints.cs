using System.Security.Claims;
using Imbrek.Core.Drivers;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>Runs, their steps, and what people decide about them.</summary>
internal static class RunEndpoints
{
    public sealed record RunStepView(int Ordinal, string Kind, string Title, StepState State, double? PlannedSeconds, Instant? StartedAt, Instant? EndedAt, double Progress, string? Note, int Attempts);

    public sealed record RunView(
        Guid Id,
        string Kind,
        string Database,
        string DatabaseName,
        RunState State,
        string Host,
        string Instance,
        string Loss,
        Instant Target,
        Instant Reaches,
        double PlannedLostSeconds,
        double PlannedSeconds,
        double PlannedServiceSeconds,
        string PlannedFrom,
        double? RpoSeconds,
        double? RtoSeconds,
        string CreatedBy,
        Instant CreatedAt,
        Instant? StartedAt,
        Instant? ReadyAt,
        Instant? EndedAt,
        string? Message,
        string? DecidedBy,
        RestoreRunner.Measured? Measured,
        IReadOnlyList<RunStepView> Steps);

    public sealed record RunLine(Guid Id, string Kind, string Database, string DatabaseName, RunState State, string Host, string Instance, string CreatedBy, Instant CreatedAt, Instant? EndedAt, string? Message);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/runs", ListAsync).Needs(Roles.Look).WithName("Runs");
        app.MapGet("/api/runs/{id:guid}", GetAsync).Needs(Roles.Look).WithName("Run");
        app.MapPost("/api/runs/{id:guid}/release", (Guid id, Deciding d, ClaimsPrincipal u, CancellationToken c) =>
            d.DecideAsync(id, u, [RunState.Held], RunState.Releasing, "released", c)).Needs(Roles.Operate).WithName("ReleaseRun");
        app.MapPost("/api/runs/{id:guid}/throw-away", (Guid id, Deciding d, ClaimsPrincipal u, CancellationToken c) =>
            d.DecideAsync(id, u, [RunState.Held], RunState.Discarding, "thrown away", c)).Needs(Roles.Operate).WithName("ThrowAwayRun");
        app.MapPost("/api/runs/{id:guid}/remove", (Guid id, Deciding d, ClaimsPrincipal u, CancellationToken c) =>
            d.DecideAsync(id, u, [RunState.Released], RunState.Discarding, "removed", c)).Needs(Roles.Operate).WithName("RemoveInstance");
        app.MapPost("/api/runs/{id:guid}/cancel", (Guid id, Deciding d, ClaimsPrincipal u, CancellationToken c) =>
            d.DecideAsync(id, u, [RunState.Queued, RunState.Running, RunState.Held, RunState.Releasing], RunState.Cancelling, "cancelled", c)).Needs(Roles.Operate).WithName("CancelRun");
    }

    private static async Task<Ok<IReadOnlyList<RunLine>>> ListAsync(ImbrekContext data, FleetState fleet, string? database, string? before, int? take, CancellationToken cancel)
    {
        var earlier = Premise.ReadInstantOrNull("before", before);
        var rows = await data.Runs.AsNoTracking()
            .Where(r => (database == null || r.Database == database) && (earlier == null || r.CreatedAt < earlier))
            .OrderByDescending(r => r.CreatedAt).Take(Math.Clamp(take ?? 50, 1, 500)).ToListAsync(cancel);
        return TypedResults.Ok<IReadOnlyList<RunLine>>(
            [.. rows.Select(r => new RunLine(r.Id, r.Kind, r.Database, NameOf(fleet, r.Database), r.State, r.Host, r.Instance, r.CreatedBy, r.CreatedAt, r.EndedAt, r.Message))]);
    }

    private static async Task<Ok<RunView>> GetAsync(Guid id, ImbrekContext data, FleetState fleet, CancellationToken cancel)
    {
        var r = await data.Runs.AsNoTracking().Include(x => x.Steps.OrderBy(s => s.Ordinal)).SingleOrDefaultAsync(x => x.Id == id, cancel)
            ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
        var asked = RunJson.Read<RestorePlan.Asked>(r.Request);
        var plan = RunJson.Read<RestorePlan.Planned>(r.Plan);
        var objective = fleet.Has(r.Database) ? fleet[r.Database].Subject.Objective : null;
        return TypedResults.Ok(new RunView(
            r.Id,
            r.Kind,
            r.Database,
            NameOf(fleet, r.Database),
            r.State,
            r.Host,
            r.Instance,
            asked.Loss,
            asked.Target,
            plan.Reaches,
            plan.LostSeconds,
            plan.Seconds,
            plan.ServiceSeconds,
            plan.Source,
            objective?.RpoSeconds,
            objective?.RtoSeconds,
            r.CreatedBy,
            r.CreatedAt,
            r.StartedAt,
            r.ReadyAt,
            r.EndedAt,
            r.Message,
            r.DecidedBy,
            r.Result is null ? null : RunJson.Read<RestoreRunner.Measured>(r.Result),
            [.. r.Steps.Select(s => new RunStepView(s.Ordinal, s.Kind, s.Title, s.State, s.PlannedSeconds, s.StartedAt, s.EndedAt, s.Progress, s.Note, s.Attempts))]));
    }

    private static string NameOf(FleetState fleet, string database) => fleet.Has(database) ? fleet[database].Subject.Database.Name : database;

    /// <summary>Takes a decision about a run, once: of two people who decide at the same time one is told.</summary>
    internal sealed class Deciding(ImbrekContext data, RunSignal signal, Peers peers)
    {
        public async Task<NoContent> DecideAsync(Guid id, ClaimsPrincipal user, RunState[] from, RunState to, string done, CancellationToken cancel)
        {
            var who = user.Identity!.Name!;
            var changed = await data.Runs.Where(r => r.Id == id && from.Contains(r.State))
                .ExecuteUpdateAsync(u => u.SetProperty(r => r.State, to).SetProperty(r => r.DecidedBy, who), cancel);
            if (changed == 0)
            {
                var now = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Id == id, cancel)
                    ?? throw new BadInputException("id", "there is no such run", 404, "not-found");
                throw new BadInputException(
                    "id", $"it cannot be {done}: it is {now.State.ToString().ToLowerInvariant()}{(now.DecidedBy is { } other ? $" (by {other})" : "")}", 409, "not-now");
            }

            signal.Wake();
            await peers.TellAsync([], [id], cancel);
            return TypedResults.NoContent();
        }
    }
}
