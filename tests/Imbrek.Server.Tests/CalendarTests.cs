using System.Text.Json.Nodes;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using Calendar = Ical.Net.Calendar;

namespace Imbrek.Server.Tests;

/// <summary>The calendar file, read by another library: it says when runs are due, as the product itself does.</summary>
[Collection("demo")]
public class CalendarTests(DemoServer demo)
{
    [Fact]
    public async Task The_calendar_says_what_is_due_with_exceptions_own_starts_and_zones()
    {
        using var admin = await demo.StillAsync("admin");

        // Other tests let this world's time go on: what is looked at begins where it stands.
        var from = Instant.FromDateTimeOffset((await admin.GetAsync("/api/clock")).GetProperty("now").GetDateTimeOffset());
        var weekday = from.InUtc().Date.PlusDays(2);
        weekday = weekday.PlusDays(weekday.DayOfWeek switch { IsoDayOfWeek.Saturday => 2, IsoDayOfWeek.Sunday => 1, _ => 0 });
        var plan = JsonNode.Parse($$$"""
            {"id":"calendar","name":"Calendar","members":{"databases":["tickets","passes"]},"tasks":[
             {"id":"nights","kind":"full","store":"quay-s2","recurrence":{"words":"weekdays 23:30","start":"2026-01-01","exceptDays":["{{{weekday:yyyy-MM-dd}}}"],"exceptTimes":["{{{weekday.PlusWeeks(1):yyyy-MM-dd}}}T23:30:00"]},"offsets":[{"database":"passes","seconds":3600}]},
             {"id":"hours","kind":"differential","store":"quay-s2","recurrence":{"words":"daily 06:00, 12:00, 18:00","start":"2026-01-01"},"offsets":[{"database":"passes","seconds":600}]},
             {"id":"steps","kind":"log","store":"quay-s2","recurrence":{"words":"every 7 hours","start":"2026-11-20"}},
             {"id":"working","kind":"log","store":"quay-s2","recurrence":{"words":"every 20 minutes between 06:00 and 22:00","start":"2026-11-23"}}]}
            """)!;
        Assert.Equal(200, (await admin.PutAsync("/api/plans/calendar?basedOn=0", plan)).Status);
        try
        {
            var text = await admin.Http.GetStringAsync("/api/timetable.ics?plan=calendar");
            var calendar = Calendar.Load(text)!;
            var fleet = await admin.FleetAsync();
            var (to, looked) = (from + NodaTime.Duration.FromDays(14), 0);
            foreach (var s in Series.Of(fleet).Where(s => s.Plan.Id.Value == "calendar"))
            {
                var due = new List<long>();
                s.Expand(from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds(), due);
                var item = Assert.Single(calendar.Events, e => e.Uid == $"calendar-{s.Task.Id}-{s.Database.Id}@imbrek");
                Assert.Equal(due.Select(Instant.FromUnixTimeMilliseconds), Occurrences(item, from, to));
                looked += due.Count;
            }

            Assert.True(looked > 100, $"{looked} occurrences");

            // RFC 5545, 3.6.5: every zone that is named is described.
            foreach (var zone in System.Text.RegularExpressions.Regex.Matches(text, "TZID=([A-Za-z_/]+)").Select(m => m.Groups[1].Value).Distinct())
            {
                Assert.Contains(calendar.TimeZones, z => z.TzId == zone);
            }
        }
        finally
        {
            await admin.Http.DeleteAsync("/api/plans/calendar?basedOn=1");
        }
    }

    private static IEnumerable<Instant> Occurrences(CalendarEvent item, Instant from, Instant to)
    {
        var start = from.InUtc();
        return item.GetOccurrences(new CalDateTime(start.Year, start.Month, start.Day, start.Hour, start.Minute, start.Second, CalDateTime.UtcTzId))
            .Select(o => Instant.FromDateTimeUtc(DateTime.SpecifyKind(o.Period.StartTime.AsUtc, DateTimeKind.Utc))).SkipWhile(t => t < from).TakeWhile(t => t < to).Order();
    }
}
