using System.Security.Claims;
using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs.NewDatabase;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.NewDatabase;

/// <summary>A database that is made replicated from birth: what comes of the choices, and the run that makes it.</summary>
internal static class NewDatabaseEndpoints
{
    private const int MostReplicas = 8;

    /// <summary>What is asked for.</summary>
    /// <param name="Database">It as it stands in the fleet file, with its host.</param>
    /// <param name="Group">The group it joins; null for none.</param>
    /// <param name="Replicas">Its replicas as they stand in the fleet file; none for a database that stands alone.</param>
    /// <param name="Plan">The plan that is to name it; null where one catches it anyway, or none should.</param>
    public sealed record NewDatabaseRequest(JsonObject Database, string? Group, IReadOnlyList<JsonObject>? Replicas, string? Plan);

    /// <summary>One of its replicas, by the figures.</summary>
    public sealed record NewReplicaView(string Id, double? ByDesignSeconds, double? WaitMs, double? CopySeconds);

    /// <summary>What each loss would cost once it is there.</summary>
    public sealed record NewLossView(string Kind, string Loss, double? LostSeconds, double? ServiceSeconds, double? RpoSeconds, double? RtoSeconds);

    /// <summary>What comes of the choices.</summary>
    /// <param name="Plans">The plans that will catch it.</param>
    /// <param name="FirstBase">What is taken of it first; null where no plan takes anything.</param>
    /// <param name="AloneSeconds">How long nothing will protect it, as expected; null where nothing ever will.</param>
    /// <param name="CanAct">Why it cannot be made here; null when it can.</param>
    public sealed record NewDatabaseView(
        IReadOnlyList<NewReplicaView> Replicas, IReadOnlyList<NewLossView> Losses, IReadOnlyList<string> Plans, string? FirstBase, double? AloneSeconds, IReadOnlyList<ReplicaActions.ReplicaFindingView> Findings, string? CanAct);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/databases/worksheet", Worksheet).Needs(Roles.Look).Computes().WithName("NewDatabaseWorksheet");
        app.MapPost("/api/databases", MakeAsync).Needs(Roles.Administer).WithName("NewDatabase");
    }

    private sealed record Asked(FleetModel Model, Core.Fleet.Database Database, JsonObject Part, IReadOnlyList<(Replica Replica, JsonObject Part, double? CopySeconds)> Replicas, string? Plan, PlanTask? FirstBase);

    private static Ok<NewDatabaseView> Worksheet(NewDatabaseRequest request, FleetState state, Runs.Drivers drivers, IClock clock)
    {
        var (asked, now) = (Read(request, state), clock.GetCurrentInstant());
        var alone = Empty(asked.Model, asked.Database);
        var week = ByDesign.Lag(asked.Model, asked.Database, now - DatabaseState.Window, now).SelectMany(l => l.Stretches).ToArray();
        var then = week.Length == 0 ? alone : alone.With(week);
        var (_, run) = NewDatabaseKind.Plan(asked.Database, asked.Part, request.Group, asked.Replicas, asked.Plan, asked.FirstBase);
        var begins = run.Plan.Steps.First(s => s.Kind == "create").Number;
        return TypedResults.Ok(new NewDatabaseView(
            [.. asked.Replicas.Select(r => new NewReplicaView(r.Replica.Id.Value, ByDesign.LossSeconds(asked.Model, r.Replica), ByDesign.WaitMs(asked.Model, r.Replica), r.CopySeconds))],
            [
                .. LossChange.Each(then, then, now).Select(c => new NewLossView(
                    c.Kind.ToString().ToLowerInvariant(), c.Loss.ToString(), c.Then?.LostSeconds, c.Then?.ServiceSeconds, c.Agreed ? then.Objective!.RpoSeconds : null, c.Agreed ? then.Objective!.RtoSeconds : null)),
            ],
            [.. asked.Model.PlansOf(asked.Database).Select(p => p.Name)],
            asked.FirstBase is { } first ? $"{PlanFile.Name(first.Kind)} into {first.Store}" : null,
            asked.FirstBase is null && asked.Replicas.Count == 0 ? null : run.Plan.Steps.Where(s => s.Number > begins).Sum(s => s.ExpectedSeconds ?? 0),
            [
                .. Core.Findings.FindingRules.Of(then, null, now, DatabaseState.Window)
                    .Where(f => f.Code is not ("no-sets" or "nobody-watches" or "never-taken-over" or "never-restored"))
                    .Select(f => new ReplicaActions.ReplicaFindingView(f.Code, f.What, f.Why, f.Remedy)),
            ],
            WhyNot(asked, drivers)));
    }

    private static Task<Created<ReplicaActions.RunBegun>> MakeAsync(NewDatabaseRequest request, Runs.Drivers drivers, ReplicaActions.Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var asked = Read(request, acting.Fleet);
        if (WhyNot(asked, drivers) is { } why)
        {
            throw new BadInputException("engine", why, 409, "no-driver");
        }

        var family = drivers.ThatMake(asked.Model.Engines[asked.Database.Engine])!;
        var (question, run) = NewDatabaseKind.Plan(asked.Database, asked.Part, request.Group, asked.Replicas, asked.Plan, asked.FirstBase);
        return acting.BeginAsync(NewDatabaseKind.KindName, asked.Database, family, question, run, $"new:{asked.Database.Id}", user, cancel);
    }

    private static string? WhyNot(Asked asked, Runs.Drivers drivers) => drivers.ThatMake(asked.Model.Engines[asked.Database.Engine]) is null
        ? $"this installation has no driver that makes databases on {asked.Model.Engines[asked.Database.Engine].Name}"
        : asked.Replicas.FirstOrDefault(r => r.Replica.Place is not ReplicaPlace.OnHost).Replica is { } volume ? $"{volume.Id} lies on an array: add it once the database is there" : null;

    /// <summary>A database of which there is no set yet.</summary>
    private static RecoverySubject Empty(FleetModel model, Core.Fleet.Database d) => RecoverySubject.Of(model, d, new Core.Catalogue.BackupCatalogue(Array.Empty<Core.Catalogue.BackupSet>()).Of(d.Id));

    /// <summary>The fleet as it would be, by the rules of the fleet file.</summary>
    /// <exception cref="BadInputException">It cannot be so; names the member at fault.</exception>
    private static Asked Read(NewDatabaseRequest request, FleetState state)
    {
        if (request.Database?["id"]?.ToString() is not { Length: > 0 } id)
        {
            throw new BadInputException("id", "give it a name");
        }

        if (state.Has(id))
        {
            throw new BadInputException("id", $"there is a database '{id}' already", 409, "taken");
        }

        var parts = request.Replicas ?? [];
        if (parts.Count > MostReplicas || parts.Any(p => p?["id"]?.ToString() is not { Length: > 0 }))
        {
            throw new BadInputException("replicas", $"up to {MostReplicas}, each with a name");
        }

        foreach (var p in parts)
        {
            p["database"] = id;
            if (state.Fleet.Replicas.ContainsKey(new(p["id"]!.ToString())))
            {
                throw new BadInputException("replicas", $"there is a replica '{InputBounds.Quote(p["id"]!.ToString())}' already", 409, "taken");
            }
        }

        var group = request.Group is { } g ? state.Fleet.Groups.GetValueOrDefault(new(g)) ?? throw new BadInputException("group", $"there is no group '{InputBounds.Quote(g)}'") : null;
        var model = ReplicaParts.Put(state.Fleet, [FleetParts.Put("databases", id, request.Database), .. parts.Select(p => FleetParts.Put("replicas", p["id"]!.ToString(), p))]);
        if (group is not null)
        {
            model = model.With(groups: model.GroupList.Select(x => x.Id == group.Id ? x with { Databases = [.. x.Databases, new(id)] } : x));
        }

        model = WithPlan(model, id, request.Plan);
        var d = model.DatabaseById[new(id)];
        var subject = Empty(model, d);
        var replicas = parts.Select(p => model.Replicas[new(p["id"]!.ToString())]).ToArray();
        return new Asked(
            model,
            d,
            request.Database,
            [.. replicas.Zip(parts, (r, p) => (r, p, Seeding.ByCopy(subject, r, Instant.FromUnixTimeSeconds(0), out _)?.Seconds))],
            request.Plan,
            Promoting.FirstBaseOf(model, d));
    }

    /// <summary>A fleet in which a plan names a database, unless it catches it anyway.</summary>
    /// <param name="model">The fleet, with the database.</param>
    /// <param name="id">The database.</param>
    /// <param name="plan">The plan; null for none.</param>
    /// <exception cref="BadInputException">There is no such plan.</exception>
    internal static FleetModel WithPlan(FleetModel model, string id, string? plan) => plan is null ? model
        : model.Plans.All(p => p.Id.Value != plan) ? throw new BadInputException("plan", $"there is no plan '{InputBounds.Quote(plan)}'")
        : model.WithPlans(model.Plans.Select(p => p.Id.Value == plan && !p.Members.Catches(model.DatabaseById[new(id)]) ? p with { Members = p.Members with { Databases = [.. p.Members.Databases, new(id)] } } : p));
}
