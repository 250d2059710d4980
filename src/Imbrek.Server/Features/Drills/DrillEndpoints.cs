using System.Security.Claims;
using System.Text;
using System.Text.Json.Nodes;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>Drills in which roles change: what one comes to before it is begun, its runbook to take along, and beginning it.</summary>
internal static class DrillEndpoints
{
    /// <summary>Of how many finished drills of a database the seconds of steps are learned.</summary>
    private const int LearnsFrom = 20;

    /// <summary>Steps whose seconds depend on what was written meanwhile, or on people.</summary>
    private static readonly string[] NotLearned = ["caught", "copy", "catch-up", "tell", "send", "home"];

    /// <summary>A drill that is asked for.</summary>
    /// <param name="Replica">The replica that becomes the primary.</param>
    /// <param name="Kind">switchover, forced or automatic.</param>
    /// <param name="Ending">keep, home or part.</param>
    /// <param name="Host">Of a replica on an array: the host it is opened on; null for the first.</param>
    /// <param name="Loss">Of a forced one, what is lost: host, array or site; the primary's host when left out.</param>
    /// <param name="ByHand">Whether people confirm steps; yes when left out.</param>
    /// <param name="InSpite">Why it is begun in spite of what failed before; a second person must agree then. Null to stop there.</param>
    public sealed record DrillRequest(string Replica, string Kind, string? Ending, string? Host, string? Loss, bool? ByHand, string? InSpite = null);

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

    private const int LongestWhy = 500;

    /// <summary>What nobody may go on in spite of.</summary>
    private static readonly string[] Final = ["can be done", "nobody else"];

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/drills/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("DrillWorksheet");
        app.MapPost("/api/drills", BeginAsync).Needs(Roles.Operate).WithName("BeginDrill");
        app.MapGet("/api/drills/runbook", RunbookAsync).Needs(Roles.Look).Computes().WithName("DrillRunbook").Produces<string>(200, "text/markdown");
        app.MapGet("/api/drills/site", Site).Needs(Roles.Look).Computes().WithName("SiteReturn");
        app.MapGet("/api/drills/{id:guid}/seen", SeenAsync).Needs(Roles.Look).WithName("DrillSeen");
    }

    /// <summary>A drill that was read, with all that is known of it.</summary>
    private sealed record Drill(RecoverySubject Subject, ReplicaSource Source, DrillKind Kind, DrillEnding Ending, Loss Loss, Id<Core.Fleet.Host> To, string Follower, PlannedDrill Planned, Core.Drills.DrillRunbook.Ask? Ask, Func<string, double?> Learned, RunPlan? Steps);

    private static async Task<Drill> ReadAsync(DrillRequest request, FleetState fleet, ImbrekContext data, IGuest guest, Instant now, CancellationToken cancel)
    {
        if (ReplicaEndpoints.Find(fleet, request.Replica ?? "") is not var (subject, source))
        {
            throw ReplicaActions.NotFound(request.Replica ?? "", "replica");
        }

        DrillKind kind = request.Kind switch { "switchover" => DrillKind.Switchover, "forced" => DrillKind.Forced, "automatic" => DrillKind.Automatic, _ => throw new BadInputException("kind", "must be one of switchover, forced, automatic") };
        DrillEnding ending = (request.Ending ?? "keep") switch { "keep" => DrillEnding.Keep, "home" => DrillEnding.Home, "part" => DrillEnding.Part, _ => throw new BadInputException("ending", "must be one of keep, home, part") };
        var (d, replica) = (subject.Database, source.Replica);
        var loss = Loss.Of(d.Host);
        if (kind == DrillKind.Forced && !string.IsNullOrEmpty(request.Loss))
        {
            if (!Loss.TryParse(request.Loss, subject.Fleet, out loss, out var error))
            {
                throw new BadInputException("loss", error);
            }

            loss = loss.For(d, subject.Fleet);
            if (loss.Kind is LossKind.None or LossKind.Hostile || loss.Spares(subject.Fleet.Hosts[d.Host]))
            {
                throw new BadInputException("loss", $"takes no host, array or site of {d.Id}");
            }
        }

        var to = request.Host is null ? replica.HostAfter(kind == DrillKind.Forced ? loss : Loss.Of(d.Host), subject.Fleet)?.Id ?? replica.Place.Hosts[0] : new(request.Host);
        if (!replica.Place.Hosts.Contains(to))
        {
            throw new BadInputException("host", $"must be one of {string.Join(", ", replica.Place.Hosts)}");
        }

        // Of what was received since its last look nobody knows yet.
        var lastLook = ReplicaEndpoints.LookedAt(source, now, guest.Pace);
        var planned = kind == DrillKind.Switchover ? PlannedDrill.Switchover(subject, source, lastLook)
            : kind == DrillKind.Automatic ? PlannedDrill.Automatic(subject, source, lastLook)
            : PlannedDrill.Forced(subject, source, replica.LosesNothing ? lastLook : now, loss);
        if (ending != DrillEnding.Part && replica.Place is not ReplicaPlace.OnHost)
        {
            planned = planned with { Refused = [.. planned.Refused, $"{replica.Id} lies on an array: {d.Host} cannot follow it; the drill can end by parting"] };
        }

        if (replica.Mode == ReplicaMode.BothActive)
        {
            planned = planned with { Refused = [.. planned.Refused, $"both sides of {replica.Id} take writes already: there is no role to change"] };
        }

        var follower = FollowerOf(subject.Fleet, d, now);
        if (planned.Refused.Count > 0)
        {
            return new(subject, source, kind, ending, loss, to, follower, planned, null, _ => null, null);
        }

        var known = await LearnedAsync(data, d.Id, cancel);
        double? Learned(string kind) => known.TryGetValue(kind, out var seconds) ? seconds : null;
        var ask = new Core.Drills.DrillRunbook.Ask(kind, ending, replica, to, follower, planned, request.ByHand ?? true, Promoting.FirstBaseOf(subject.Fleet, d));
        return new(subject, source, kind, ending, loss, to, follower, planned, ask, Learned, Core.Drills.DrillRunbook.Of(subject, ask, Learned));
    }

    /// <summary>What the host a database runs on is called when it is a replica of it: the name it had before, or one that nobody has.</summary>
    private static string FollowerOf(FleetModel fleet, Core.Fleet.Database d, Instant now)
    {
        var name = $"{d.Id}-{d.Host}";
        for (var n = 2; fleet.Replicas.TryGetValue(new(name), out var there) && !(there.Until <= now && there.Database == d.Id); n++)
        {
            name = $"{d.Id}-{d.Host}-{n}";
        }

        return name;
    }

    /// <summary>The median seconds of each kind of step in the last finished drills of a database.</summary>
    private static async Task<IReadOnlyDictionary<string, double>> LearnedAsync(ImbrekContext data, Id<Core.Fleet.Database> database, CancellationToken cancel)
    {
        var rows = await data.Runs.AsNoTracking().Where(r => r.Kind == DrillRunKind.KindName && r.Database == database.Value && r.State == (short)RunState.Done)
            .OrderByDescending(r => r.Due).Take(LearnsFrom).ToListAsync(cancel);
        return rows.Select(RunJson.ReadRun)
            .SelectMany(run => run.Plan.Steps.Where(s => !s.IsHold && !NotLearned.Contains(s.Kind)).Select(s => (s.Kind, Is: run[s.Number])))
            .Where(s => s.Is is { State: StepState.Done, TakenUp: 0, StartedAt: not null, EndedAt: not null })
            .GroupBy(s => s.Kind, s => (s.Is.EndedAt!.Value - s.Is.StartedAt!.Value).TotalSeconds)
            .ToDictionary(g => g.Key, g => LearnedPace.From([.. g]).Median);
    }

    private static async Task<Ok<DrillWorksheetView>> WorksheetAsync(DrillRequest request, FleetState fleet, ImbrekContext data, ReplicaActions.Acting acting, IGuest guest, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var drill = await ReadAsync(request, fleet, data, guest, now, cancel);
        var (d, objective) = (drill.Subject.Database, drill.Subject.Objective);
        var prechecks = DrillPrechecks.Of(drill.Subject, drill.Source, drill.Kind, drill.Planned, now).Concat(await OthersAsync(data, d, cancel));
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
            [.. prechecks.Select(p => new DrillPrecheckView(p.Name, p.Outcome, p.Detail, Final.Contains(p.Name)))],
            schedule is null ? [] : [.. schedule.Plan.Steps.Select(s => new DrillStepView(
                s.Number, s.Kind, s.Title, s.Subject, s.Owner, s.IsHold, s.NeedsApproval, s.NoWayBack, s.ExpectedSeconds, s.ExpectedFrom, schedule.StartOf(s.Number), schedule.EndOf(s.Number), schedule.SlackOf(s.Number), schedule.CriticalPath.Contains(s.Number), s.After))],
            schedule?.Seconds ?? 0,
            drill.Ending == DrillEnding.Part ? null : drill.Follower,
            WhyNobodyActs(acting, d, drill.Source.Replica.Id)));
    }

    private static string? WhyNobodyActs(ReplicaActions.Acting acting, Core.Fleet.Database d, Id<Replica> replica) => acting.WhyNot(d, ReplicaAct.TakeOver, replica) ?? acting.WhyNoDrill(d);

    /// <summary>Others that act on the same database now.</summary>
    private static async Task<IEnumerable<Precheck>> OthersAsync(ImbrekContext data, Core.Fleet.Database d, CancellationToken cancel)
    {
        var open = await data.Runs.AsNoTracking().Where(r => r.Database == d.Id.Value && r.State < (short)RunState.Done && r.Claim != null).Select(r => new { r.Kind, r.AskedBy }).ToListAsync(cancel);
        return open.Count == 0
            ? [new Precheck("nobody else", PrecheckOutcome.Passed, "no other drill or restore touches it")]
            : open.Select(o => new Precheck("nobody else", PrecheckOutcome.Failed, $"{o.Kind} of {o.AskedBy ?? "a plan"} is under way"));
    }

    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(DrillRequest request, FleetState fleet, ImbrekContext data, ReplicaActions.Acting acting, FleetChanges changes, IGuest guest, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var drill = await ReadAsync(request, fleet, data, guest, now, cancel);
        var (s, replica, planned) = (drill.Subject, drill.Source.Replica, drill.Planned);
        var family = acting.For(s.Database, ReplicaAct.TakeOver, replica.Id);
        if (acting.WhyNoDrill(s.Database) is { } nobody)
        {
            throw new BadInputException("replica", nobody, 409, "no-driver");
        }

        if (planned.Refused.Count > 0)
        {
            throw new BadInputException("replica", string.Join("; ", planned.Refused), 409, "not-possible");
        }

        Precheck[] failed = [.. DrillPrechecks.Of(s, drill.Source, drill.Kind, planned, now).Concat(await OthersAsync(data, s.Database, cancel)).Where(p => p.Outcome == PrecheckOutcome.Failed)];
        if (request.InSpite?.Length > LongestWhy)
        {
            throw new BadInputException("inSpite", $"is at most {LongestWhy} letters");
        }

        if (failed.FirstOrDefault(f => string.IsNullOrWhiteSpace(request.InSpite) || Final.Contains(f.Name)) is { } stops)
        {
            throw new BadInputException("replica", $"{stops.Name}: {stops.Detail}", 409, "precheck");
        }

        var inSpite = failed.Length == 0 ? null : $"{string.Join(", ", failed.Select(f => $"{f.Name} ({f.Detail})"))}, because {request.InSpite!.Trim()}";
        if (inSpite is not null)
        {
            drill = drill with { Steps = Core.Drills.DrillRunbook.Of(s, drill.Ask! with { Overridden = inSpite }, drill.Learned) };
        }

        var asked = new DrillRunKind.Question(
            replica.Id.Value,
            drill.Kind,
            drill.Ending,
            drill.Loss.ToString(),
            s.Database.Host.Value,
            drill.To.Value,
            drill.Follower,
            changes.Find("replicas", replica.Id.Value)?.ToJsonString() ?? "{}",
            planned.LostSeconds ?? 0,
            planned.ServiceSeconds ?? 0,
            s.Objective?.RpoSeconds,
            s.Objective?.RtoSeconds,
            inSpite);
        var steps = new RunPlan([.. drill.Steps!.Steps.Select(x => x.Kind == "base" ? x with { Work = RunJson.Write(TakeSpec.Of(Promoting.FirstBaseOf(s.Fleet, s.Database)!, s.Database.Id)) } : x)]);
        return await acting.BeginAsync(DrillRunKind.KindName, s.Database, family, asked, Run.Of(steps), TakeOverKind.ClaimOf(s.Fleet, s.Database.Id), user, cancel);
    }

    private static async Task<FileContentHttpResult> RunbookAsync(string replica, string kind, string? ending, string? host, string? loss, bool? byHand, string? form, FleetState fleet, ImbrekContext data, IGuest guest, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var drill = await ReadAsync(new(replica, kind, ending, host, loss, byHand), fleet, data, guest, now, cancel);
        if (drill.Steps is null)
        {
            throw new BadInputException("replica", string.Join("; ", drill.Planned.Refused), 409, "not-possible");
        }

        var script = form switch { null or "markdown" => false, "script" => true, _ => throw new BadInputException("form", "must be one of markdown, script") };
        var about = DrillHands.About(drill.Subject, drill.Source.Replica, drill.Kind, drill.Ending, drill.Planned, drill.To, now);
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
