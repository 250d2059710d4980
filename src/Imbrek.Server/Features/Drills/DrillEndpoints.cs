using System.Security.Claims;
using System.Text;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>Drills in which roles change: what one comes to before it is begun, its runbook to take along, and beginning it.</summary>
internal static class DrillEndpoints
{
    /// <param name="Final">Whether nobody may go on in spite of it where it failed.</param>
    public sealed record DrillPrecheckView(string Name, PrecheckOutcome Outcome, string Detail, bool Final);

    /// <summary>A step of the runbook, in time.</summary>
    public sealed record DrillStepView(int Number, string Kind, string Title, string? Subject, string Owner, bool Hold, bool NeedsApproval, bool NoWayBack, double? Seconds, string? From, double StartsAt, double EndsAt, double Slack, bool Critical, IReadOnlyList<int> After);

    /// <summary>What a drill comes to.</summary>
    /// <param name="CanAct">Why nobody can act on it; null when somebody can.</param>
    /// <param name="Follower">What the old side is called when it follows; null where it does not.</param>
    public sealed record DrillWorksheetView(
        string Database,
        string DatabaseName,
        string From,
        string To,
        IReadOnlyList<string> Refused,
        double? LostSeconds,
        double? LostBytes,
        double? WriteStopSeconds,
        double? ServiceSeconds,
        bool? Approval,
        double? RpoSeconds,
        double? RtoSeconds,
        IReadOnlyList<DrillPrecheckView> Prechecks,
        IReadOnlyList<DrillStepView> Steps,
        double Seconds,
        string? Follower,
        string? CanAct);

    /// <summary>What was seen in a drill, and what follows from it.</summary>
    public sealed record DrillSeenView(IReadOnlyList<DrillSpan> Spans, IReadOnlyList<DrillTrail.Stop> Stops, double WithoutServiceSeconds, int BothWritable)
    {
        public static DrillSeenView Of(DrillTrail t) => new(t.Spans, t.Stops, t.WithoutServiceSeconds, t.BothWritable);
    }

    /// <summary>A database that comes back after the loss of a site.</summary>
    public sealed record SiteReturnRow(string Database, string Name, string? By, string? Host, string? WhyNot, double? StartsSeconds, double? ReadySeconds, double? ServiceSeconds, double? AloneSeconds, double? RtoSeconds, bool? WithinRto, bool LateForTheOthers);

    /// <summary>What another order would change.</summary>
    public sealed record SiteOrderView(SiteLoss.GoesFirst Order, IReadOnlyList<string> InTime, IReadOnlyList<string> Late);

    /// <summary>The return of a site.</summary>
    public sealed record SiteReturnView(string Site, double Seconds, IReadOnlyList<SiteReturnRow> Returns, IReadOnlyList<SiteOrderView> Orders);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/drills/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("DrillWorksheet");
        app.MapPost("/api/drills", BeginAsync).Needs(Roles.Operate).WithName("BeginDrill");
        app.MapGet("/api/drills/runbook", RunbookAsync).Needs(Roles.Look).Computes().WithName("DrillRunbook").Produces<string>(200, "text/markdown");
        app.MapGet("/api/drills/site", Site).Needs(Roles.Look).Computes().WithName("SiteReturn");
        app.MapGet("/api/drills/{id:guid}/seen", SeenAsync).Needs(Roles.Look).WithName("DrillSeen");
    }

    private static async Task<Ok<DrillWorksheetView>> WorksheetAsync(DrillRequest request, DrillPlanning planning, CancellationToken cancel)
    {
        var drill = await planning.ReadAsync(request, cancel);
        var (d, objective) = (drill.Database, drill.Subject.Objective);
        var prechecks = await planning.PrechecksAsync(drill, null, cancel);
        var schedule = drill.Steps is { } steps ? Schedule.Of(steps) : null;
        return TypedResults.Ok(new DrillWorksheetView(
            d.Id.Value,
            d.Name,
            d.Host.Value,
            drill.To.Value,
            drill.Planned.Refused,
            drill.Planned.LostSeconds,
            drill.Planned.LostBytes,
            drill.Planned.WriteStopSeconds,
            drill.Planned.ServiceSeconds,
            drill.Planned.Approval,
            objective?.RpoSeconds,
            objective?.RtoSeconds,
            [.. prechecks.Select(p => new DrillPrecheckView(p.Name, p.Outcome, p.Detail, DrillPlanning.Final.Contains(p.Name)))],
            schedule is null ? [] : [.. schedule.Plan.Steps.Select(s => new DrillStepView(
                s.Number, s.Kind, s.Title, s.Subject, s.Owner, s.IsHold, s.NeedsApproval, s.NoWayBack, s.ExpectedSeconds, s.ExpectedFrom, schedule.StartOf(s.Number), schedule.EndOf(s.Number), schedule.SlackOf(s.Number), schedule.CriticalPath.Contains(s.Number), s.After))],
            schedule?.Seconds ?? 0,
            drill.Ending == DrillEnding.Part ? null : drill.Follower,
            planning.WhyNobodyActs(drill)));
    }

    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(DrillRequest request, DrillPlanning planning, ReplicaActions.Acting acting, ImbrekContext data, ClaimsPrincipal user, CancellationToken cancel)
    {
        var drill = await planning.ReadAsync(request, cancel);
        var (question, run) = await planning.PlanAsync(drill, request, null, cancel);
        return await acting.BeginAsync(DrillRunKind.KindName, drill.Database, acting.For(drill.Database, ReplicaAct.TakeOver, drill.Source.Replica.Id), question, run, TakeOverKind.ClaimOf(drill.Subject.Fleet, drill.Database.Id), user, cancel, await DatedDrillEndpoints.HeldAsync(data, request.Dated, "database", drill.Database.Id.Value, cancel));
    }

    private static async Task<FileContentHttpResult> RunbookAsync(string replica, string kind, string? ending, string? host, string? loss, bool? byHand, string? form, DrillPlanning planning, IClock clock, CancellationToken cancel)
    {
        var drill = await planning.ReadAsync(new(replica, kind, ending, host, loss, byHand), cancel);
        if (drill.Steps is null)
        {
            throw new BadInputException("replica", string.Join("; ", drill.Planned.Refused), 409, "not-possible");
        }

        var script = form switch { null or "markdown" => false, "script" => true, _ => throw new BadInputException("form", "must be one of markdown, script") };
        var about = DrillHands.About(drill.Subject, drill.Source.Replica, drill.Kind, drill.Ending, drill.Planned, drill.To, clock.GetCurrentInstant());
        var schedule = Schedule.Of(drill.Steps);
        var name = $"drill-{drill.Source.Replica.Id}";
        return script
            ? TypedResults.File(Encoding.UTF8.GetBytes(RunbookText.Script(about, schedule)), "text/x-shellscript", $"{name}.sh")
            : TypedResults.File(Encoding.UTF8.GetBytes(RunbookText.Markdown(about, schedule)), "text/markdown", $"{name}.md");
    }

    private static async Task<Ok<DrillSeenView>> SeenAsync(Guid id, RunStore store, Runs.Drivers drivers, CancellationToken cancel)
    {
        var (row, _) = await store.FindAsync(id, cancel) is { } found && found.Row.Kind == DrillRunKind.KindName ? found : throw new BadInputException("id", "there is no such drill", 404, "not-found");
        if (row.Result is { } result && RunJson.Read<DrillResult>(result) is { Seen.Count: > 0 } kept)
        {
            return TypedResults.Ok(DrillSeenView.Of(new(kept.Seen)));
        }

        // While it runs whoever looks on is asked, where they can be reached from here.
        return TypedResults.Ok(DrillSeenView.Of(new(drivers.Here.Contains(row.Driver) && drivers.Named(row.Driver!).Drill is { } drill ? await drill.SeenAsync(id, new(row.Database), cancel) : [])));
    }

    private static Ok<SiteReturnView> Site(string site, string? order, int? people, FleetState fleet, IClock clock)
    {
        if (!fleet.Fleet.Sites.ContainsKey(new(site ?? "")))
        {
            throw new BadInputException("site", $"there is no site '{InputBounds.Quote(site ?? "")}'", 404, "not-found");
        }

        if (people is < 1 or > 10_000)
        {
            throw new BadInputException("people", "must be 1 to 10000");
        }

        var goesFirst = order switch
        {
            null or "smallerRto" => SiteLoss.GoesFirst.SmallerRto,
            "lessToSpare" => SiteLoss.GoesFirst.LessToSpare,
            "sooner" => SiteLoss.GoesFirst.Sooner,
            _ => throw new BadInputException("order", "must be one of smallerRto, lessToSpare, sooner"),
        };
        var f = fleet.Fleet;
        var (plan, changes) = SiteLoss.Compared(f.Databases.Where(d => fleet.Has(d.Id.Value)).Select(d => fleet[d.Id].Subject), f, new(site!), clock.GetCurrentInstant(), people, goesFirst);
        return TypedResults.Ok(new SiteReturnView(
            site!,
            plan.Seconds,
            [.. plan.Returns.Select(r => new SiteReturnRow(
                r.Database.Value, f.DatabaseById[r.Database].Name, r.Way is TakeOver t ? t.Replica.Value : r.Way is null ? null : "sets", r.Way?.Host.Value, r.WhyNot, r.StartsSeconds, r.ReadySeconds, r.ServiceSeconds, r.AloneSeconds, r.RtoSeconds, r.WithinRto, r.LateForTheOthers))],
            [.. changes.Select(c => new SiteOrderView(c.Order, [.. c.InTime.Select(d => d.Value)], [.. c.Late.Select(d => d.Value)]))]));
    }
}
