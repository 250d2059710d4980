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
    /// <summary>A drill of many that is asked for.</summary>
    /// <param name="Of">group, service or site.</param>
    /// <param name="Id">Which.</param>
    /// <param name="Kind">switchover or forced; a site is taken for lost, which is forced.</param>
    /// <param name="Ending">keep, home or part.</param>
    /// <param name="Dated">The drill with a date that it holds; null for none.</param>
    public sealed record JointDrillRequest(string Of, string Id, string Kind, string? Ending, Guid? Dated = null);

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

    public sealed record Planned(JointRunbook.Member Member, double ServiceSeconds, Core.Fleet.Database Database, IReadOnlyList<string> Failed);

    public sealed record LeftOut(Core.Fleet.Database Database, string WhyNot);

    public sealed record Joint(string Title, string Claim, DrillKind Kind, DrillEnding Ending, Loss Loss, IReadOnlyList<Planned> Members, IReadOnlyList<LeftOut> Out, RunPlan? Steps, string? Refused);

    public static async Task<Joint> ReadAsync(JointDrillRequest request, FleetState state, DrillPlanning planning, IClock clock, CancellationToken cancel)
    {
        var (fleet, now) = (state.Fleet, clock.GetCurrentInstant());
        var kind = request.Kind switch { "switchover" => DrillKind.Switchover, "forced" => DrillKind.Forced, _ => throw new BadInputException("kind", "must be one of switchover, forced") };
        var ending = (request.Ending ?? "keep") switch { "keep" => DrillEnding.Keep, "home" => DrillEnding.Home, "part" => DrillEnding.Part, _ => throw new BadInputException("ending", "must be one of keep, home, part") };
        var id = request.Id ?? "";
        (string Title, Loss Loss, IEnumerable<Core.Fleet.Database> Databases) about = request.Of switch
        {
            "group" when fleet.Groups.TryGetValue(new(id), out var g) => ($"group {g.Name}", Loss.OfKind(LossKind.Host), g.Databases.Select(d => fleet.DatabaseById[d])),
            "service" when fleet.Services.TryGetValue(new(id), out var s) => ($"service {s.Name}", Loss.OfKind(LossKind.Host), fleet.Databases.Where(d => d.Service == s.Id)),
            "site" when fleet.Sites.TryGetValue(new(id), out var s) => ($"site {s.Name}", Loss.Of(s.Id), fleet.Databases.Where(d => fleet.Hosts[d.Host].Site == s.Id)),
            "group" or "service" or "site" => throw new BadInputException("id", $"there is no {request.Of} '{InputBounds.Quote(id)}'", 404, "not-found"),
            _ => throw new BadInputException("of", "must be one of group, service, site"),
        };
        var (title, loss, databases) = about;
        if (request.Of == "site" && kind != DrillKind.Forced)
        {
            throw new BadInputException("kind", "must be forced: a site is taken for lost, with all that is on it");
        }

        RecoverySubject[] subjects = [.. databases.Where(d => state.Has(d.Id.Value)).Select(d => state[d.Id].Subject)];
        var ways = request.Of == "site" ? SiteLoss.Of(subjects, fleet, new(id), now).Returns.ToDictionary(r => r.Database) : null;
        IEnumerable<RecoverySubject> ordered = ways is null ? subjects.OrderBy(s => s.Objective?.RtoSeconds ?? double.PositiveInfinity) : ways.Keys.Select(d => state[d].Subject);
        var (members, left) = (new List<Planned>(), new List<LeftOut>());
        foreach (var s in ordered)
        {
            // What is too much is not planned to its end.
            if (members.Count > JointRunbook.MostMembers)
            {
                break;
            }

            var way = ways?[s.Database.Id].Way;
            (Planned? planned, string? whyNot) = ways is null || way is TakeOver
                ? await ByReplicaAsync(s, kind, ending, loss, (way as TakeOver)?.Replica, planning, now, cancel)
                : (null, null);
            var nobody = planned is null && ways is not null ? planning.WhyNobodyRestores(s.Database) : null;
            if (planned is null && ways is not null && nobody is null && PathOf(s, loss, now) is { } path)
            {
                // A test restore writes aside: what else is at the database does not matter to it.
                var bad = Prechecks.Of(s, fleet.Hosts[path.Host], path, loss, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}");
                planned = new(new(s.Database.Id, null, path.Host, path.LostSeconds, path.Seconds), path.ServiceSeconds, s.Database, [.. bad]);
            }

            if (planned is not null)
            {
                // Of a site all come back at once: what they wait for each other counts.
                members.Add(ways?[s.Database.Id].ServiceSeconds is { } together ? planned with { ServiceSeconds = Math.Max(together, planned.ServiceSeconds) } : planned);
            }
            else
            {
                left.Add(new(s.Database, whyNot ?? nobody ?? ways?[s.Database.Id].WhyNot ?? "it has no replica"));
            }
        }

        var refused = members.Count == 0 ? "none of its databases can take part"
            : members.Count > JointRunbook.MostMembers ? $"more than {JointRunbook.MostMembers} of its databases could take part, and one drill has so many at most"
            : request.Of == "group" && left.Count > 0 ? $"a group changes roles as one, and {left[0].Database.Id} cannot: {left[0].WhyNot}"
            : members.FirstOrDefault(m => m.Failed.Count > 0) is { } f ? $"{f.Database.Id}: {f.Failed[0]}"
            : null;
        var steps = members.Count is 0 or > JointRunbook.MostMembers
            ? null
            : JointRunbook.Of(new(title, kind, ending, [.. members.Select(m => m.Member)], h => fleet.Hosts[h].Slots ?? SiteLoss.UnstatedSlots));

        // Of a group nobody else may have it take over meanwhile.
        return new(title, request.Of == "group" ? $"group:{id}:take-over" : $"{request.Of}:{id}:drill", kind, ending, loss, members, left, steps, refused);
    }

    /// <summary>The replica by which least is lost, then the soonest back, of those that can.</summary>
    private static async Task<(Planned? Planned, string? WhyNot)> ByReplicaAsync(RecoverySubject s, DrillKind kind, DrillEnding ending, Loss loss, Id<Replica>? only, DrillPlanning planning, Instant now, CancellationToken cancel)
    {
        DrillPlanning.Drill? best = null;
        string? why = null;
        foreach (var r in s.Replicas.Select(r => r.Replica).Where(r => (only is null || r.Id == only) && !(now < r.Since) && !(now >= r.Until)))
        {
            var drill = await planning.ReadAsync(new(r.Id.Value, PlanFile.Name(kind), PlanFile.Name(ending), null, kind == DrillKind.Forced ? loss.ToString() : null, true), cancel, joint: true);
            if (drill.Planned.Refused.Count > 0 || planning.WhyNobodyActs(drill) is not null)
            {
                why ??= drill.Planned.Refused.Count > 0 ? string.Join("; ", drill.Planned.Refused) : planning.WhyNobodyActs(drill);
            }
            else if (best is null || (drill.Planned.LostSeconds, drill.Planned.ServiceSeconds) is var (lost, service) && (lost < best.Planned.LostSeconds || (lost == best.Planned.LostSeconds && service < best.Planned.ServiceSeconds)))
            {
                best = drill;
            }
        }

        if (best is null)
        {
            return (null, why);
        }

        var failed = (await planning.PrechecksAsync(best, null, cancel)).Where(p => p.Outcome == PrecheckOutcome.Failed).Select(p => $"{p.Name}: {p.Detail}");
        return (new(new(s.Database.Id, best.Source.Replica.Id, best.To, best.Planned.LostSeconds ?? 0, best.Planned.ServiceSeconds ?? 0), best.Planned.ServiceSeconds ?? 0, s.Database, [.. failed]), null);
    }

    private static RestorePath? PathOf(RecoverySubject s, Loss loss, Instant now) =>
        PathFinder.Find(s, new PathQuestion { Target = now, At = now, Loss = loss, Choice = new(HostQualification.FirstWithKeys(s, loss)) }).Best;

    private static async Task<Ok<JointWorksheetView>> WorksheetAsync(JointDrillRequest request, FleetState state, DrillPlanning planning, IClock clock, CancellationToken cancel)
    {
        var joint = await ReadAsync(request, state, planning, clock, cancel);
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

    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(JointDrillRequest request, FleetState state, DrillPlanning planning, ReplicaActions.Acting acting, Runs.Drivers drivers, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var joint = await ReadAsync(request, state, planning, clock, cancel);
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
