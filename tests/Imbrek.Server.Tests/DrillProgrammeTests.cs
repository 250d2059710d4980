using System.Text.Json;
using Xunit;
using static Imbrek.Server.Tests.DrillWorld;

namespace Imbrek.Server.Tests;

/// <summary>What must be proved by when, and drills with a date.</summary>
[Collection("drills")]
public class DrillProgrammeTests(DrillWorld world)
{
    [Fact]
    public async Task One_with_a_date_is_told_before_missed_and_escalated_once_each_and_held_by_the_run_that_is_begun_for_it()
    {
        var (admin, second) = await world.PeopleAsync();
        var now = (await admin.GetAsync("/api/clock")).GetProperty("now").GetDateTimeOffset();
        string At(double hours) => now.AddHours(hours).UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture);
        object Dated(string at, string[] people, string? replica = "sailings-hill") => new { of = "database", id = (string?)null, replica, kind = "switchover", ending = "keep", at, people, escalate = new[] { "head" }, why = "<b>quiet</b> hour" };
        Assert.Equal((400, "at"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(-1), ["team"]))));
        Assert.Equal((400, "people"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(1), []))));
        Assert.Equal((400, "people"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(1), [new string('x', 101)]))));
        Assert.Equal((404, "replica"), Session.Fault(await admin.PostAsync("/api/drills/dated", Dated(At(1), ["team"], "nobody"))));
        var (status, made) = await admin.PostAsync("/api/drills/dated", Dated(At(26), ["team", " team "]));
        Assert.True(status == 201, made.ToString());
        var id = made.GetProperty("id").GetString()!;
        var (_, other) = await admin.PostAsync("/api/drills/dated", Dated(At(27), ["team"]));
        var off = other.GetProperty("id").GetString();
        Assert.Equal(204, (await admin.PostAsync($"/api/drills/dated/{off}/call-off", new { })).Status);
        Assert.Equal(404, (await admin.PostAsync($"/api/drills/dated/{off}/call-off", new { })).Status);
        Assert.Contains("Harbour sailings", await admin.Http.GetStringAsync("/api/drills/dated.ics"), StringComparison.Ordinal);

        // Its date comes nearer and passes, and nobody holds it.
        Task<string?> ToldAsync(string drill) => world.Server.QueryAsync<string>($"select string_agg(split_part(group_key, '|', 3) || ' ' || array_to_string(people, ','), '; ' order by id) from notices where group_key like 'dated|{drill}|%'");
        foreach (var (hours, what) in new[] { (3, "soon"), (25, "missed"), (23, "escalated") })
        {
            await world.Server.ExecuteAsync($"update dated_drills set at = at - interval '{hours} hours' where id = '{id}'");
            await Eventually.Async(async () => (await ToldAsync(id))?.Contains(what, StringComparison.Ordinal) == true, what: () => $"not told: {what}");
        }

        Assert.Equal("set team; soon team; missed admin,team; escalated head", await ToldAsync(id));
        Assert.Equal("set team; off team", await ToldAsync(off!));
        await Eventually.Async(async () => (await admin.GetAsync("/api/findings?database=harbour-sailings")).ToString().Contains("drill-missed", StringComparison.Ordinal), what: () => "no finding");

        // Held at last: it is that run's, and nobody else's.
        await admin.PaceAsync(60);
        await admin.ReplicaIsAsync("sailings-hill", "inStep");
        object Asked(string? dated) => new { replica = "sailings-hill", kind = "switchover", ending = "keep", byHand = false, dated };
        Assert.Equal((409, "dated"), Session.Fault(await admin.PostAsync("/api/drills", Asked(off))));
        var run = await BeginAsync(admin, Asked(id));
        Assert.Equal(run, (await admin.GetAsync("/api/drills/dated")).EnumerateArray().Single(d => d.GetProperty("id").GetString() == id).GetProperty("run").GetString());
        await CarryOnAsync(admin, second, run);
        await Eventually.Async(async () => !(await admin.GetAsync("/api/findings?database=harbour-sailings")).ToString().Contains("drill-missed", StringComparison.Ordinal), what: () => "it is still missed");
        admin.Dispose();
        second.Dispose();
    }

    [Fact]
    public async Task The_programme_names_all_that_is_due_spreads_it_and_says_what_the_proofs_show()
    {
        var (admin, second) = await world.PeopleAsync();
        var programme = await admin.GetAsync("/api/drills/due?aDay=3&inSite=2&onHost=1&days=60");
        var due = programme.GetProperty("due").EnumerateArray().ToArray();
        Assert.Equal(due.Select(d => d.GetProperty("dueAt").GetDateTimeOffset()), due.Select(d => d.GetProperty("dueAt").GetDateTimeOffset()).Order());
        foreach (var day in due.Where(d => d.GetProperty("day").ValueKind == JsonValueKind.String).GroupBy(d => d.GetProperty("day").GetString()))
        {
            Assert.True(day.Count() <= 3);
            Assert.All(day.GroupBy(d => d.GetProperty("host").GetString()), h => Assert.Single(h));
        }

        // More is overdue than a day takes: what would have to be what is said.
        Assert.NotEqual(0, programme.GetProperty("bounds").GetArrayLength());
        var shown = programme.GetProperty("shown");

        // By kinds of proof it is the same.
        var kinds = (await admin.GetAsync("/api/proofs/kinds")).EnumerateArray().ToArray();
        Assert.Equal(due.Length, kinds.Sum(k => ((string[])["byRestore", "byTakingOver", "failed", "never"]).Sum(m => k.GetProperty(m).GetInt32())));
        Assert.Equal(due.Count(d => d.GetProperty("overdue").GetBoolean()), kinds.Sum(k => k.GetProperty("failed").GetInt32() + k.GetProperty("never").GetInt32()));
        Assert.InRange(shown.GetProperty("atMostFailing").GetInt32(), shown.GetProperty("failed").GetInt32(), shown.GetProperty("population").GetInt32());
        Assert.Equal(shown.GetProperty("needed").GetInt32(), programme.GetProperty("draw").GetProperty("drawn").GetArrayLength());
        Assert.Equal((400, "confidence"), Session.Fault(((int)(await admin.Http.GetAsync("/api/drills/due?confidence=1")).StatusCode, JsonDocument.Parse(await (await admin.Http.GetAsync("/api/drills/due?confidence=1")).Content.ReadAsStringAsync()).RootElement)));
        var site = await admin.GetAsync("/api/drills/site?site=quayside&people=2");
        Assert.All(site.GetProperty("returns").EnumerateArray(), r => Assert.True(r.GetProperty("serviceSeconds") is not { ValueKind: JsonValueKind.Number } s || s.GetDouble() >= r.GetProperty("aloneSeconds").GetDouble() - 0.1));
        Assert.Equal(2, site.GetProperty("orders").GetArrayLength());
        admin.Dispose();
        second.Dispose();
    }
}
