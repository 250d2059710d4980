using System.Security.Claims;
using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs.JointDrill;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>Drills of a group, a service or a site: what one comes to for each of its databases, and beginning it.</summary>
internal static class JointDrillEndpoints
{
    /// <summary>A database of it.</summary>
    /// <param name="By">The replica that becomes the primary; null where sets are restored, or it is left out.</param>
    /// <param name="Host">The host it comes back on; null when it is left out.</param>
    /// <param name="WhyNot">Why it is left out; null when it is not.</param>
    /// <param name="Failed">Prechecks that failed, each with its reason: with one the drill is not begun.</param>
    public sealed record JointMemberView(
        string Database, string Name, string? By, string? Host, string? WhyNot, double? LostSeconds, double? ServiceSeconds, double? RpoSeconds, double? RtoSeconds, IReadOnlyList<string> Failed);

    /// <summary>What it comes to.</summary>
    /// <param name="Title">What it is held on, in words.</param>
    /// <param name="Seconds">Its runbook put into time, people not counted.</param>
    /// <param name="Approval">Whether a second person must agree, because something may be lost.</param>
    /// <param name="Refused">Why it cannot be begun; null when it can.</param>
    public sealed record JointWorksheetView(string Title, string Loss, double Seconds, bool Approval, IReadOnlyList<JointMemberView> Members, string? Refused);

    /// <summary>What a drill of many can be held on.</summary>
    public sealed record JointChoice(string Of, string Id, string Name, int Databases);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/drills/joint", (FleetState state) => TypedResults.Ok(Choices(state.Fleet))).Needs(Roles.Look).WithName("JointDrillChoices");
        app.MapPost("/api/drills/joint/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("JointDrillWorksheet");
        app.MapPost("/api/drills/joint", BeginAsync).Needs(Roles.Operate).WithName("BeginJointDrill");
    }

    private static IReadOnlyList<JointChoice> Choices(FleetModel fleet)
    {
        var ofService = fleet.Databases.Where(d => d.Service is not null).CountBy(d => d.Service!.Value).ToDictionary();
        var ofSite = fleet.Databases.CountBy(d => fleet.Hosts[d.Host].Site).ToDictionary();
        return
        [
            .. fleet.GroupList.Select(g => new JointChoice("group", g.Id.Value, g.Name, g.Databases.Count)),
            .. fleet.ServiceList.Where(s => ofService.ContainsKey(s.Id)).Select(s => new JointChoice("service", s.Id.Value, s.Name, ofService[s.Id])),
            .. fleet.SiteList.Where(s => ofSite.ContainsKey(s.Id)).Select(s => new JointChoice("site", s.Id.Value, s.Name, ofSite[s.Id])),
        ];
    }

    private static async Task<Ok<JointWorksheetView>> WorksheetAsync(JointDrillRequest request, FleetState state, JointDrillPlanning planning, CancellationToken cancel)
    {
        var joint = await planning.ReadAsync(request, cancel);
        return TypedResults.Ok(new JointWorksheetView(
            joint.Title,
            joint.Loss.ToString(),
            joint.Steps is null ? 0 : Schedule.Of(joint.Steps).Seconds,
            joint.Steps?.Steps.Any(s => s.NeedsApproval) == true,
            [
                .. joint.Members.Select(m => View(m.Database, m.Member, m.ServiceSeconds, null, m.Failed)),
                .. joint.Out.Select(o => View(o.Database, null, null, o.WhyNot, [])),
            ],
            joint.Refused));

        JointMemberView View(Core.Fleet.Database d, JointRunbook.Member? m, double? service, string? whyNot, IReadOnlyList<string> failed) => new(
            d.Id.Value, d.Name, m?.Replica?.Value, m?.Host.Value, whyNot, m?.LostSeconds, service, state.Fleet.ObjectiveOf(d)?.RpoSeconds, state.Fleet.ObjectiveOf(d)?.RtoSeconds, failed);
    }

    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(JointDrillRequest request, FleetState state, JointDrillPlanning planning, ReplicaActions.Acting acting, Runs.Drivers drivers, ImbrekContext data, ClaimsPrincipal user, CancellationToken cancel)
    {
        var joint = await planning.ReadAsync(request, cancel);
        if (joint.Refused is { } refused)
        {
            throw new BadInputException("id", refused, 409, "not-possible");
        }

        var question = new JointDrillKind.Question(joint.Title, joint.Kind, joint.Ending, joint.Loss.ToString(), [.. joint.Members.Select(m =>
        {
            var objective = state.Fleet.ObjectiveOf(m.Database);
            return new JointDrillKind.Member(m.Database.Id.Value, m.Member.Replica?.Value, m.Member.Host.Value, m.Member.LostSeconds, m.ServiceSeconds, objective?.RpoSeconds, objective?.RtoSeconds);
        })]);
        var first = joint.Members[0].Database;
        return await acting.BeginAsync(JointDrillKind.KindName, first, drivers.For(first), question, Run.Of(joint.Steps!), joint.Claim, user, cancel, await DatedDrillEndpoints.HeldAsync(data, request.Dated, request.Of, request.Id, cancel));
    }
}
