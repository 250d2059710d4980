using System.Security.Claims;
using System.Text;
using Imbrek.Core.Drills;
using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>Drills with a date: set, told to people beforehand, held or called off; one that was not held is said, and after a day to whom it escalates.</summary>
internal static class DatedDrillEndpoints
{
    private const int MostPeople = 20, LongestName = 100, LongestWhy = 500, MostOpen = 1000;
    private static readonly Duration Longest = Duration.FromDays(2 * 366), Shown = Duration.FromDays(30);

    /// <summary>A drill that is given a date.</summary>
    /// <param name="Of">database, group, service or site.</param>
    /// <param name="Id">Which; of a database this follows from the replica.</param>
    /// <param name="Replica">Of a database, the replica that becomes the primary.</param>
    /// <param name="Kind">switchover, forced or automatic; of several databases restoreTest too.</param>
    /// <param name="Ending">keep, home or part.</param>
    /// <param name="At">When, in UTC.</param>
    /// <param name="People">Who is told now, the day before, and when it was not held.</param>
    /// <param name="Escalate">Who is told when it was not held a day later.</param>
    /// <param name="Why">What people should know.</param>
    public sealed record DatedDrillRequest(string Of, string? Id, string? Replica, string Kind, string? Ending, string At, IReadOnlyList<string> People, IReadOnlyList<string>? Escalate, string? Why);

    /// <summary>A drill with a date.</summary>
    /// <param name="Title">What it is of, in words.</param>
    /// <param name="Missed">Whether it was to be held an hour ago or earlier, and was not.</param>
    /// <param name="Run">The run that held it; null before.</param>
    public sealed record DatedDrillView(
        Guid Id, string Of, string Target, string Title, string Database, string? Replica, string Kind, string Ending, Instant At, IReadOnlyList<string> People, IReadOnlyList<string> Escalate, string? Why, string AskedBy, string? CalledOffBy, Guid? Run, bool Missed);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/drills/dated", async (ImbrekContext data, IClock clock, CancellationToken cancel) => TypedResults.Ok(await ListAsync(data, clock, cancel))).Needs(Roles.Look).WithName("DatedDrills");
        app.MapPost("/api/drills/dated", SetAsync).Needs(Roles.Operate).WithName("DateDrill");
        app.MapPost("/api/drills/dated/{id:guid}/call-off", CallOffAsync).Needs(Roles.Operate).WithName("CallOffDrill");
        app.MapGet("/api/drills/dated.ics", CalendarAsync).Needs(Roles.Look).WithName("DatedDrillCalendar").Produces<string>(200, "text/calendar");
    }

    /// <summary>The drill with a date that a run is about to hold; null when none is named.</summary>
    /// <exception cref="BadInputException">There is none of that name to be held, or it is of something else.</exception>
    public static async Task<DatedDrillRow?> HeldAsync(ImbrekContext data, Guid? id, string of, string target, CancellationToken cancel) =>
        id is null ? null
        : await data.DatedDrills.SingleOrDefaultAsync(d => d.Id == id && d.RunId == null && d.CalledOffBy == null && d.Of == of && d.Target == target, cancel)
            ?? throw new BadInputException("dated", "there is no such drill of it to be held", 409, "not-now");

    /// <summary>What is said of it to people.</summary>
    public static string Sentence(DatedDrillRow d) =>
        $"{DrillWords.Of(DrillPlanning.ReadKind(d.Kind, Enum.GetValues<DrillKind>()))} of {d.Title}{(d.Replica is null ? "" : $" to {d.Replica}")}, {(d.Kind == PlanFile.Name(DrillKind.RestoreTest) ? "restored aside" : DrillWords.Of(DrillPlanning.ReadEnding(d.Ending)))}, at {Instants.Write(d.At)}{(d.Why is null ? "" : $": {d.Why}")}";

    /// <summary>A message about it.</summary>
    /// <param name="d">The drill.</param>
    /// <param name="what">Which message: the same is told once.</param>
    /// <param name="subject">What it says.</param>
    /// <param name="people">To whom.</param>
    /// <param name="now">When.</param>
    public static NoticeRow Notice(DatedDrillRow d, string what, string subject, IEnumerable<string> people, Instant now) => new()
    {
        FirstAt = now,
        LastAt = now,
        GroupKey = $"dated|{d.Id}|{what}",
        Kind = "drill",
        People = [.. people.Distinct().Order(StringComparer.Ordinal)],
        Subject = subject,
        Count = 1,
        Databases = [d.Database],
    };

    private static async Task<IReadOnlyList<DatedDrillView>> ListAsync(ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var since = now - Shown;
        var rows = await data.DatedDrills.AsNoTracking().Where(d => d.At >= since || (d.RunId == null && d.CalledOffBy == null)).OrderBy(d => d.At).Take(MostOpen).ToListAsync(cancel);
        return [.. rows.Select(d => new DatedDrillView(
            d.Id, d.Of, d.Target, d.Title, d.Database, d.Replica, d.Kind, d.Ending, d.At, d.People, d.Escalate, d.Why, d.AskedBy, d.CalledOffBy, d.RunId, d is { RunId: null, CalledOffBy: null } && now >= d.At + DatedDrillReminders.Grace))];
    }

    private static async Task<Created<DatedDrillView>> SetAsync(DatedDrillRequest r, ImbrekContext data, DrillPlanning planning, JointDrillPlanning jointPlanning, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var at = Premise.ReadInstantOrNull("at", r.At) ?? throw new BadInputException("at", "say when");
        if (at <= now || at > now + Longest)
        {
            throw new BadInputException("at", "must be to come, and within two years");
        }

        var (people, escalate) = (Names("people", r.People), Names("escalate", r.Escalate));
        if (people.Length == 0)
        {
            throw new BadInputException("people", "name whom to tell");
        }

        if (r.Why?.Length > LongestWhy)
        {
            throw new BadInputException("why", $"is at most {LongestWhy} letters");
        }

        var row = new DatedDrillRow
        {
            Id = Guid.CreateVersion7(),
            Of = r.Of,
            Kind = r.Kind,
            Ending = r.Ending ?? "keep",
            At = at,
            People = people,
            Escalate = escalate,
            Why = string.IsNullOrWhiteSpace(r.Why) ? null : r.Why.Trim(),
            AskedBy = user.Identity!.Name!,
            AskedAt = now,

            // Who hears of it within the day before is not told twice.
            Told = at <= now + DatedDrillReminders.Before ? 1 : 0,
        };

        // What cannot be done now may be possible then; what cannot be understood is refused.
        if (r.Of == "database")
        {
            var drill = await planning.ReadAsync(new(r.Replica ?? "", r.Kind, r.Ending, null, null, true), cancel);
            (row.Target, row.Database, row.Title, row.Replica) = (drill.Database.Id.Value, drill.Database.Id.Value, drill.Database.Name, drill.Source.Replica.Id.Value);
        }
        else
        {
            var joint = await jointPlanning.ReadAsync(new(r.Of, r.Id ?? "", r.Kind, r.Ending), cancel);
            var first = joint.Members.Select(m => m.Database).Concat(joint.Out.Select(o => o.Database)).FirstOrDefault() ?? throw new BadInputException("id", "it has no database", 409, "not-possible");
            (row.Target, row.Database, row.Title) = (r.Id!, first.Id.Value, joint.Title);
        }

        data.DatedDrills.Add(row);
        data.Notices.Add(Notice(row, "set", $"A drill is set. {Sentence(row)}", people, now));
        await data.SaveChangesAsync(cancel);
        return TypedResults.Created($"/api/drills/dated/{row.Id}", (await ListAsync(data, clock, cancel)).Single(d => d.Id == row.Id));
    }

    private static async Task<NoContent> CallOffAsync(Guid id, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        var row = await data.DatedDrills.FromSql($"select * from dated_drills where id = {id} and run_id is null and called_off_by is null for update").SingleOrDefaultAsync(cancel)
            ?? throw new BadInputException("id", "there is no such drill, or it was held or called off", 404, "not-found");
        row.CalledOffBy = user.Identity!.Name!;
        data.Notices.Add(Notice(row, "off", $"A drill is called off by {row.CalledOffBy}. {Sentence(row)}", row.People, clock.GetCurrentInstant()));
        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.NoContent();
    }

    /// <summary>Those to come as a calendar of RFC 5545.</summary>
    private static async Task<FileContentHttpResult> CalendarAsync(ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var calendar = new Ical.Net.Calendar { ProductId = "-//Imbrek//Drills//EN" };
        foreach (var d in (await ListAsync(data, clock, cancel)).Where(d => d.Run is null && d.CalledOffBy is null))
        {
            calendar.Events.Add(new Ical.Net.CalendarComponents.CalendarEvent
            {
                Uid = $"drill-{d.Id}@imbrek",
                Summary = $"Drill of {d.Title}: {d.Kind}",
                Start = new Ical.Net.DataTypes.CalDateTime(d.At.ToDateTimeUtc(), "UTC"),
                Description = $"{(d.Why is null ? "" : d.Why + ". ")}Told: {string.Join(", ", d.People)}.",
            });
        }

        return TypedResults.File(Encoding.UTF8.GetBytes(new Ical.Net.Serialization.CalendarSerializer().SerializeToString(calendar) ?? ""), "text/calendar", "drills.ics");
    }

    private static string[] Names(string member, IReadOnlyList<string>? given)
    {
        string[] names = [.. (given ?? []).Select(n => n?.Trim() ?? "").Distinct()];
        return names.Length > MostPeople ? throw new BadInputException(member, $"at most {MostPeople} can be named")
            : Array.Exists(names, n => n.Length is 0 or > LongestName || n.Any(char.IsControl)) ? throw new BadInputException(member, $"each is a name of at most {LongestName} letters")
            : names;
    }
}
