using System.Security.Claims;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.PlanChange;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Plans;

/// <summary>Plans: the list, one with its versions, saving, and what words mean.</summary>
internal static class PlanEndpoints
{
    public sealed record TaskLine(string Id, string Kind, string? When, string? Store, IReadOnlyList<string> CopyTo, IReadOnlyList<string> Follows);

    public sealed record PlanLine(
        string Id,
        string Name,
        int Version,
        Instant ChangedAt,
        string ChangedBy,
        int Members,
        IReadOnlyList<TaskLine> Tasks,
        double? WorstExposureSeconds,
        double? LongestRestoreSeconds,
        int Keeps,
        int Judged,
        IReadOnlyList<PlanFindingView> Findings);

    public sealed record PlanFindingView(string Code, Urgency Urgency, string What, string Why, string Remedy, IReadOnlyList<string> Databases);

    /// <summary>A plan that is kept and cannot be read: it does not run until somebody mends it.</summary>
    public sealed record UnreadablePlan(string Id, string Why);

    public sealed record PlanList(IReadOnlyList<PlanLine> Plans, IReadOnlyList<string> Uncovered, IReadOnlyList<string> Conflicting, IReadOnlyList<UnreadablePlan> Unreadable);

    public sealed record PlanVersionView(int Number, Instant At, string Who, bool Removed, IReadOnlyList<DifferenceView> Changes);

    public sealed record DifferenceView(string Member, string? Before, string? After);

    public sealed record PlanView(JsonObject Plan, int Version, IReadOnlyList<PlanVersionView> Versions, IReadOnlyDictionary<string, string> Words);

    public sealed record ComparedPlan(JsonObject Plan, int Version, IReadOnlyDictionary<string, string> Words);

    public sealed record PlanComparison(ComparedPlan Left, ComparedPlan Right, IReadOnlyList<DifferenceView> Differences);

    public sealed record WordsView(string? Rule, string? Start, string? Said, IReadOnlyList<string> Next, string? Error, IReadOnlyList<string> Examples);

    /// <summary>What came of saving a plan, or of removing one.</summary>
    /// <param name="Version">The number of the version that was written; null when none was yet.</param>
    /// <param name="WaitsFor">The run in which a second person must agree first; null when nobody must.</param>
    public sealed record SavedView(int? Version, Guid? WaitsFor = null);

    public sealed record ChoicesView(IReadOnlyList<string> Services, IReadOnlyList<string> Tags, IReadOnlyList<string> Engines, IReadOnlyList<string> Objectives, IReadOnlyList<string> Databases);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/plans", ListAsync).Needs(Roles.Look).Computes().WithName("Plans");
        app.MapGet("/api/plans/{plan}", GetAsync).Needs(Roles.Look).WithName("Plan");
        app.MapGet("/api/plan-comparison", CompareAsync).Needs(Roles.Look).WithName("ComparePlans");
        app.MapPut("/api/plans/{plan}", SaveAsync).Needs(Roles.Plan).WithName("SavePlan").Accepts<JsonObject>("application/json");
        app.MapDelete("/api/plans/{plan}", RemoveAsync).Needs(Roles.Plan).WithName("RemovePlan");
        app.MapGet("/api/choices", (FleetState fleet) => TypedResults.Ok(new ChoicesView(
            [.. fleet.Fleet.ServiceList.Select(s => s.Id.Value)],
            [.. fleet.Fleet.Databases.SelectMany(d => d.Tags).Distinct().Order(StringComparer.Ordinal)],
            [.. fleet.Fleet.EngineList.Select(e => e.Id.Value)],
            [.. fleet.Fleet.ObjectiveList.Select(o => o.Id.Value)],
            [.. fleet.Fleet.Databases.Select(d => d.Id.Value)]))).Needs(Roles.Look).WithName("Choices");
        app.MapGet("/api/words", Words).Needs(Roles.Look).Computes().WithName("Words");
        app.MapGet("/api/ready-plans", Ready).Needs(Roles.Look).WithName("ReadyPlans");
        ConsequenceEndpoints.Map(app);
    }

    /// <summary>Reads a plan from a request; a fault becomes one clear error that names the member.</summary>
    /// <exception cref="BadInputException">It holds a fault.</exception>
    public static async Task<Plan> ReadAsync(HttpRequest request, FleetModel fleet, IClock clock, CancellationToken cancel)
    {
        using var buffer = new MemoryStream();
        await request.Body.CopyToAsync(buffer, cancel);
        return Read(buffer.ToArray(), fleet, clock);
    }

    public static Plan Read(byte[] utf8, FleetModel fleet, IClock clock)
    {
        var now = clock.GetCurrentInstant();
        var read = PlanFile.Read(utf8, fleet, now.InUtc().Date);
        var plan = read.Value ?? throw new BadInputException(
            read.Faults[0].Member,
            string.Join("; ", read.Faults.Take(5).Select(f => f.Member.Length > 0 ? $"{f.Member}: {f.Message}" : f.Message)));
        return PlanSize.Of(plan, fleet, now).WhatIsTooMuch is { } much ? throw new BadInputException("tasks", $"the plan {much}") : plan;
    }

    /// <summary>Findings of members, those of one kind together.</summary>
    public static IReadOnlyList<PlanFindingView> Gather(IEnumerable<Finding> findings) =>
    [
        .. findings.GroupBy(f => (f.Code, f.What)).Select(g => new PlanFindingView(
                g.Key.Code, g.Max(f => f.Urgency), g.Key.What, g.First().Why, g.First().Remedy, [.. g.Select(f => f.Database.Value)]))
            .GroupBy(f => f.Code).SelectMany(g => g.Count() > 3
                ? [g.First() with { What = $"{g.First().What}, and {g.Count() - 1} more like it", Databases = [.. g.SelectMany(f => f.Databases).Distinct()] }]
                : g.ToArray())
            .OrderByDescending(f => f.Urgency),
    ];

    private static async Task<Ok<PlanList>> ListAsync(FleetState fleet, DesignedState designed, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var f = fleet.Fleet;
        var answer = await designed.GetAsync(now, cancel);
        var versions = await data.PlanVersions.AsNoTracking().GroupBy(v => v.Plan).Select(g => g.OrderByDescending(v => v.Number).First()).ToDictionaryAsync(v => v.Plan, cancel);
        var lines = f.Plans.Select(p =>
        {
            var members = p.Members.Of(f);
            var figures = members.SelectMany(m => answer.ByDatabase.GetValueOrDefault(m.Id) ?? []).ToArray();
            var judged = members.Where(m => f.ObjectiveOf(m) is not null).ToArray();
            var version = versions[p.Id.Value];
            return new PlanLine(
                p.Id.Value,
                p.Name,
                version.Number,
                version.At,
                version.Who,
                members.Count,
                [.. p.Tasks.Select(t => new TaskLine(t.Id, PlanFile.Name(t.Kind), t.Recurrence is { } r ? RecurrenceWords.Of(r) : null, t.Store?.Value, [.. t.CopyTo.Select(c => c.Value)], [.. t.After.Select(a => a.Task)]))],
                figures.Length == 0 || Array.Exists(figures, x => x.Window.SecondsUnprotected > 0) ? null : figures.Max(x => x.Window.WorstExposureSeconds),
                figures.Length == 0 || Array.Exists(figures, x => x.LongestRestore is null) ? null : figures.Max(x => x.LongestRestore!.ServiceSeconds),
                judged.Count(m => answer.ByDatabase.TryGetValue(m.Id, out var own) && own.All(x => x.Keeps(f.ObjectiveOf(m)!))),
                judged.Length,
                Gather(members.SelectMany(m => designed.Findings(m, now))));
        });
        return TypedResults.Ok(new PlanList(
            [.. lines],
            [.. f.Databases.Where(d => f.BackupPlansOf(d).Count == 0).Select(d => d.Id.Value)],
            [.. f.Databases.Where(d => f.BackupPlansOf(d).Count > 1).Select(d => d.Id.Value)],
            [.. fleet.LeftOut.Where(l => l.Kind == "plan").Select(l => new UnreadablePlan(l.Id, l.Why))]));
    }

    private static async Task<Ok<PlanView>> GetAsync(string plan, FleetState fleet, ImbrekContext data, CancellationToken cancel)
    {
        var versions = await data.PlanVersions.AsNoTracking().Where(v => v.Plan == plan).OrderByDescending(v => v.Number).ToListAsync(cancel);
        if (versions.Count == 0 || versions[0].Removed)
        {
            throw new BadInputException("plan", $"there is no plan '{plan}'", 404, "not-found");
        }

        return TypedResults.Ok(View(versions[0], versions, fleet.Fleet));
    }

    /// <summary>Two plans, or two versions of one, side by side; a version left out is the newest.</summary>
    private static async Task<Ok<PlanComparison>> CompareAsync(
        FleetState fleet, ImbrekContext data, string left, int? leftVersion, string right, int? rightVersion, CancellationToken cancel)
    {
        var (one, other) = (await FindAsync("left", left, leftVersion), await FindAsync("right", right, rightVersion));
        return TypedResults.Ok(new PlanComparison(View(one), View(other), PlanVersions.Difference(one, other)));

        ComparedPlan View(PlanVersionRow row) => new(JsonNode.Parse(row.Document)!.AsObject(), row.Number, WordsOf(row, fleet.Fleet));

        async Task<PlanVersionRow> FindAsync(string member, string plan, int? number) =>
            await data.PlanVersions.AsNoTracking().Where(v => v.Plan == plan && (number == null || v.Number == number)).OrderByDescending(v => v.Number).FirstOrDefaultAsync(cancel)
            ?? throw new BadInputException(member, number is null ? $"there is no plan '{plan}'" : $"plan '{plan}' has no version {number}", 404, "not-found");
    }

    private static PlanView View(PlanVersionRow row, List<PlanVersionRow> versions, FleetModel fleet) => new(
        JsonNode.Parse(row.Document)!.AsObject(),
        row.Number,
        [.. versions.Select((v, i) => new PlanVersionView(v.Number, v.At, v.Who, v.Removed, i + 1 < versions.Count ? PlanVersions.Difference(versions[i + 1], v) : []))],
        WordsOf(row, fleet));

    private static Dictionary<string, string> WordsOf(PlanVersionRow row, FleetModel fleet) =>
        PlanFile.Read(Encoding.UTF8.GetBytes(row.Document), fleet, default).Value?.Tasks
            .Where(t => t.Recurrence is not null).ToDictionary(t => t.Id, t => RecurrenceWords.Of(t.Recurrence!)) ?? [];

    private static async Task<Ok<SavedView>> SaveAsync(
        string plan, int basedOn, HttpRequest request, FleetState fleet, NpgsqlDataSource source, Dispatcher dispatcher, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var read = await ReadAsync(request, fleet.Fleet, clock, cancel);
        if (read.Id.Value != plan)
        {
            throw new BadInputException("id", $"the plan is '{read.Id}', the address says '{plan}'");
        }

        return TypedResults.Ok(await WriteOrAskAsync(read, false, basedOn, source, fleet, dispatcher, begin, user, clock, cancel));
    }

    private static async Task<Ok<SavedView>> RemoveAsync(
        string plan, int basedOn, FleetState fleet, NpgsqlDataSource source, Dispatcher dispatcher, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var known = fleet.Fleet.Plans.FirstOrDefault(p => p.Id.Value == plan)
            ?? (fleet.LeftOut.Any(l => l.Kind == "plan" && l.Id == plan) ? new Plan(new(plan), plan, new Selection(), [], TellRule.Nobody)
            : throw new BadInputException("plan", $"there is no plan '{plan}'", 404, "not-found"));
        return TypedResults.Ok(await WriteOrAskAsync(known, true, basedOn, source, fleet, dispatcher, begin, user, clock, cancel));
    }

    /// <summary>Writes a version of a plan; where copies would be locked for less time than before, a second person is asked first.</summary>
    private static async Task<SavedView> WriteOrAskAsync(
        Plan plan, bool removed, int basedOn, NpgsqlDataSource source, FleetState fleet, Dispatcher dispatcher, NewRuns begin, ClaimsPrincipal user, IClock clock, CancellationToken cancel)
    {
        var who = user.Identity!.Name!;
        if (fleet.Fleet.Plans.FirstOrDefault(p => p.Id == plan.Id) is not { } before || WeakerLock.Of(before, removed ? null : plan, fleet.Fleet) is not { Count: > 0 } weaker)
        {
            return new SavedView(await WriteAsync([(plan, removed, basedOn)], source, fleet, dispatcher, who, clock, cancel));
        }

        var (question, run) = PlanChangeKind.Plan(before, plan, removed, basedOn, weaker, fleet, clock.GetCurrentInstant());
        var row = NewRuns.Row(PlanChangeKind.KindName, before.Members.Of(fleet.Fleet).Select(d => d.Id.Value).FirstOrDefault() ?? "", ProductFamily.FamilyName, question, run, who, clock.GetCurrentInstant());
        row.Claim = $"plan:{plan.Id}";
        await begin.BeginAsync(row, cancel);
        return new SavedView(null, row.Id);
    }

    /// <summary>Writes versions of plans, all or none, and has everybody take them over.</summary>
    /// <returns>The number of the last one.</returns>
    /// <exception cref="BadInputException">Somebody else saved one of them first.</exception>
    public static async Task<int> WriteAsync(
        IReadOnlyList<(Plan Plan, bool Removed, int BasedOn)> changes, NpgsqlDataSource source, FleetState fleet, Dispatcher dispatcher, string who, IClock clock, CancellationToken cancel)
    {
        var number = 0;
        await using (var data = ImbrekDatabase.Context(source))
        await using (var transaction = await data.Database.BeginTransactionAsync(cancel))
        {
            foreach (var (plan, removed, basedOn) in changes)
            {
                try
                {
                    number = await PlanVersions.WriteAsync(data, fleet.Fleet, plan, removed, basedOn, who, clock.GetCurrentInstant(), cancel) ?? throw Late(plan);
                }
                catch (DbUpdateException e) when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.UniqueViolation })
                {
                    throw Late(plan);
                }
            }

            await transaction.CommitAsync(cancel);
        }

        await fleet.LoadPlansAsync(cancel);
        await dispatcher.ChangedAsync(Peers.Shared.Plans, cancel);
        return number;

        static BadInputException Late(Plan plan) => new("basedOn", $"somebody saved {plan.Name} meanwhile; look at what changed, then save again", 409, "changed-meanwhile");
    }

    private static Ok<WordsView> Words(FleetState fleet, IClock clock, string text, string? zone, string? from, string? except)
    {
        var now = clock.GetCurrentInstant();
        var id = string.IsNullOrEmpty(zone) ? fleet.Fleet.SiteList.Select(s => s.TimeZone).FirstOrDefault() ?? "UTC" : zone;
        var tz = DateTimeZoneProviders.Tzdb.GetZoneOrNull(id) ?? throw new BadInputException("zone", $"'{id}' is no time zone of the IANA list");
        var start = string.IsNullOrEmpty(from) ? now.InZone(tz).Date.AtMidnight()
            : NodaTime.Text.LocalDatePattern.Iso.Parse(from) is { Success: true } d ? d.Value.AtMidnight()
            : NodaTime.Text.LocalDateTimePattern.GeneralIso.Parse(from) is { Success: true } t ? t.Value
            : throw new BadInputException("from", $"'{from}' is not a date or a local time, such as 2026-03-01 or 2026-03-01T23:30:00");
        if (!RecurrenceWords.TryParse(text, tz, start.Date, out var r, out var error))
        {
            return TypedResults.Ok(new WordsView(null, null, null, [], error, RecurrenceWords.Examples));
        }

        if (RecurrenceWords.IsRule(text))
        {
            // A rule takes its time of day from its start.
            r = new Recurrence(r!.Rule, start, tz);
        }

        var (days, times) = (new List<LocalDate>(), new List<LocalDateTime>());
        foreach (var one in (except ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries))
        {
            if (NodaTime.Text.LocalDatePattern.Iso.Parse(one) is { Success: true } day)
            {
                days.Add(day.Value);
            }
            else
            {
                times.Add(NodaTime.Text.LocalDateTimePattern.GeneralIso.Parse(one) is { Success: true } time ? time.Value
                    : throw new BadInputException("except", $"'{one}' is not a date or a local time, such as 2026-12-24 or 2026-12-24T23:30:00"));
            }
        }

        r = new Recurrence(r!.Rule, r.Start, r.Zone, days, times);
        return TypedResults.Ok(new WordsView(r.Rule.Text, NodaTime.Text.LocalDateTimePattern.GeneralIso.Format(r.Start), RecurrenceWords.Of(r), [.. r.NextAfter(now, 10).Select(Instants.Write)], null, RecurrenceWords.Examples));
    }

    /// <summary>A few plans by tier to begin with, for the stores there are: the first near, the second at another site.</summary>
    private static Ok<IReadOnlyList<JsonObject>> Ready(FleetState fleet, IClock clock)
    {
        var f = fleet.Fleet;
        if (f.StoreList.Count == 0)
        {
            return TypedResults.Ok<IReadOnlyList<JsonObject>>([]);
        }

        var near = f.StoreList.FirstOrDefault(s => s.Array is null && s.Host is null && !s.Offline) ?? f.StoreList[0];
        var far = f.StoreList.FirstOrDefault(s => s.Site != near.Site && !s.Offline);
        var zone = f.Sites[near.Site].TimeZone;
        return TypedResults.Ok<IReadOnlyList<JsonObject>>(
        [
            Ready("minutes", "Tier of minutes", ("full", "full", "Sundays 01:00", 28), ("differential", "differential", "Monday to Saturday 01:00", 14), ("log", "log", "every 5 minutes", 14)),
            Ready("hours", "Tier of hours", ("full", "full", "Sundays 02:00", 28), ("differential", "differential", "Monday to Saturday 02:00", 14), ("log", "log", "every 30 minutes", 14)),
            Ready("day", "Tier of a day", ("full", "full", "daily 03:00", 14)),
            Ready("exported", "Exports only", ("export", "export", "daily 04:00", 14)),
        ]);

        JsonObject Ready(string id, string name, params (string Id, string Kind, string When, int Days)[] tasks)
        {
            var plan = new JsonObject
            {
                ["id"] = id,
                ["name"] = name,
                ["tasks"] = new JsonArray(
                [
                    .. tasks.Select(t => (JsonNode)new JsonObject
                    {
                        ["id"] = t.Id,
                        ["kind"] = t.Kind,
                        ["recurrence"] = new JsonObject { ["words"] = t.When, ["zone"] = zone },
                        ["store"] = near.Id.Value,
                        ["copyTo"] = far is null ? new JsonArray() : new JsonArray(far.Id.Value),
                        ["keep"] = new JsonObject { ["forSeconds"] = t.Days * 86_400 },
                    }),
                    new JsonObject { ["id"] = "read back", ["kind"] = "verify", ["recurrence"] = new JsonObject { ["words"] = "Wednesdays and Sundays 13:00", ["zone"] = zone } },
                    new JsonObject { ["id"] = "clean up", ["kind"] = "cleanUp", ["after"] = new JsonArray(new JsonObject { ["task"] = "read back", ["on"] = "always" }) },
                    new JsonObject { ["id"] = "test restore", ["kind"] = "testRestore", ["recurrence"] = new JsonObject { ["words"] = "first Saturday of the month 14:00", ["zone"] = zone } },
                ]),
            };
            return PlanFile.Write(Read(Encoding.UTF8.GetBytes(plan.ToJsonString()), f, clock));
        }
    }
}
