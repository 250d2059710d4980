using System.Text;
using Ical.Net;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Serialization;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;
using Calendar = Ical.Net.Calendar;

namespace Imbrek.Server.Features.Timetable;

/// <summary>
/// <c>GET /api/timetable.ics</c>: the runs of plans as a calendar of RFC 5545. Each series is one entry with its rule, its exceptions and its zone.
/// Steps of time that passes stand in UTC. Where a rule cannot say when a run is due (a member's own start that moves it past the rule's own hours
/// or days), the entry lists the times of the coming weeks instead.
/// </summary>
internal static class CalendarEndpoint
{
    private const int MostSeries = 5_000;
    private const int MostListed = 400;
    private static readonly NodaTime.Duration Listed = NodaTime.Duration.FromDays(92);

    public static void Map(IEndpointRouteBuilder app) =>
        app.MapGet("/api/timetable.ics", Get).Needs(Roles.Look).Computes().WithName("Calendar").Produces<string>(200, "text/calendar");

    private static FileContentHttpResult Get(FleetState state, IClock clock, string? plan, string? database, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var calendar = new Calendar { ProductId = "-//Imbrek//Timetable//EN" };
        var series = Series.Of(state.Fleet)
            .Where(s => s.Task.Recurrence is not null && (string.IsNullOrEmpty(plan) || s.Plan.Id.Value == plan) && (string.IsNullOrEmpty(database) || s.Database.Id.Value == database)).Take(MostSeries + 1).ToArray();
        if (series.Length > MostSeries)
        {
            throw new BadInputException("plan", $"more than {MostSeries} series; name a plan or a database");
        }

        foreach (var zone in series.Select(s => s.Task.Recurrence!).GroupBy(r => r.Zone.Id))
        {
            var earliest = zone.Min(r => r.Start.Year);
            calendar.AddTimeZone(VTimeZone.FromDateTimeZone(zone.Key, new DateTime(Math.Clamp(earliest, 1970, now.InUtc().Year), 1, 1, 0, 0, 0, DateTimeKind.Unspecified), includeHistoricalData: true));
        }

        foreach (var s in series)
        {
            cancel.ThrowIfCancellationRequested();
            if (EventOf(s, now) is { } item)
            {
                calendar.Events.Add(item);
            }
        }

        return TypedResults.File(Encoding.UTF8.GetBytes(new CalendarSerializer().SerializeToString(calendar) ?? ""), "text/calendar", "timetable.ics");
    }

    private static CalendarEvent? EventOf(Series s, Instant now)
    {
        var r = s.Task.Recurrence!;
        var item = new CalendarEvent
        {
            Uid = $"{s.Plan.Id}-{s.Task.Id}-{s.Database.Id}@imbrek".Replace(' ', '-'),
            Summary = $"{s.Task.Id} of {s.Database.Name} ({s.Plan.Name})",
            Duration = Ical.Net.DataTypes.Duration.FromMinutes(Math.Max(1, (int)Math.Min(s.Task.Window?.TotalMinutes ?? 5, 10_000))),
        };
        if (Steps(r) && r.ExceptDays.Count + r.ExceptTimes.Count == 0)
        {
            // Time that passes, whatever the clock on the wall does: in UTC the rule says just that.
            var first = (r.Start.InZoneLeniently(r.Zone).ToInstant() + s.Offset).InUtc();
            item.Start = new CalDateTime(first.Year, first.Month, first.Day, first.Hour, first.Minute, first.Second, CalDateTime.UtcTzId);
            item.RecurrenceRule = new Ical.Net.DataTypes.RecurrenceRule(r.Rule.Text);
            return item;
        }

        if (RuleSays(r, s.Offset))
        {
            item.Start = Local(r.Start + NodaTime.Period.FromTicks((long)s.Offset.TotalTicks), r.Zone);
            item.RecurrenceRule = new Ical.Net.DataTypes.RecurrenceRule(r.Rule.Text);
            foreach (var except in Excepted(r))
            {
                item.ExceptionDates.Add(Local(except + NodaTime.Period.FromTicks((long)s.Offset.TotalTicks), r.Zone));
            }

            return item;
        }

        var due = r.Between(now - NodaTime.Duration.FromDays(1) - s.Offset, now + Listed - s.Offset).Take(MostListed).Select(t => (t + s.Offset).InZone(r.Zone).LocalDateTime).ToArray();
        if (due.Length == 0)
        {
            return null;
        }

        item.Start = Local(due[0], r.Zone);
        foreach (var more in due.Skip(1))
        {
            item.RecurrenceDates.Add(Local(more, r.Zone));
        }

        return item;
    }

    /// <summary>Whether it is nothing but a step: every so many hours, minutes or seconds.</summary>
    private static bool Steps(Recurrence r) => r.Rule is { Frequency: >= Core.Planning.Frequency.Hourly, UntilLocal: null } rule
        && rule.Months.Count + rule.Weeks.Count + rule.YearDays.Count + rule.MonthDays.Count + rule.Days.Count + rule.Hours.Count + rule.Minutes.Count + rule.Seconds.Count + rule.Positions.Count == 0;

    /// <summary>Whether the rule, moved as a whole, says when a run is due.</summary>
    private static bool RuleSays(Recurrence r, NodaTime.Duration offset)
    {
        var rule = r.Rule;
        if (rule.Frequency >= Core.Planning.Frequency.Hourly)
        {
            // A calendar counts hours by the clock on the wall, we those that pass: the same where an hour holds whole steps.
            var inHour = rule.Frequency switch { Core.Planning.Frequency.Hourly => rule.Interval == 1, Core.Planning.Frequency.Minutely => 60 % rule.Interval == 0, _ => 3600 % rule.Interval == 0 };
            return inHour && offset == NodaTime.Duration.Zero;
        }

        if (offset == NodaTime.Duration.Zero)
        {
            return true;
        }

        var moved = r.Start + NodaTime.Period.FromTicks((long)offset.TotalTicks);
        return moved.Date == r.Start.Date && rule.Hours.Count + rule.Minutes.Count + rule.Seconds.Count + rule.Positions.Count == 0 && rule.Until is null && rule.UntilLocal is null;
    }

    /// <summary>The local times the exceptions leave out: what would be due on the days excepted, and the times themselves.</summary>
    private static IEnumerable<LocalDateTime> Excepted(Recurrence r)
    {
        var without = new Recurrence(r.Rule, r.Start, r.Zone);
        var days = r.ExceptDays.SelectMany(d =>
        {
            var from = d.AtStartOfDayInZone(r.Zone).ToInstant();
            return without.Between(from, d.PlusDays(1).AtStartOfDayInZone(r.Zone).ToInstant()).Take(MostListed).Select(t => t.InZone(r.Zone).LocalDateTime);
        });
        return days.Concat(r.ExceptTimes).Distinct();
    }

    private static CalDateTime Local(LocalDateTime t, DateTimeZone zone) => new(t.Year, t.Month, t.Day, t.Hour, t.Minute, t.Second, zone.Id);
}
