using System.Globalization;
using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Settings of hosts that a way needs, on the real process: asked when, changed, and set back however it ends.</summary>
[Collection("demo")]
public class SettingsTests(DemoServer demo)
{
    private static string? Text(JsonElement of, string member) => of.GetProperty(member).GetString();

    private static JsonElement? Step(JsonElement run, string kind) => run.GetProperty("steps").EnumerateArray().Where(s => Text(s, "kind") == kind).Select(s => (JsonElement?)s).FirstOrDefault();

    private static string? Note(JsonElement run, string kind) => Step(run, kind) is { } s ? Text(s, "note") : null;

    private static object Restore(string target, string? settings, string instance, bool rehearse = true, string database = "passenger-counts") => new { database, target, host = "hill-h2", instance, rehearse, settings };

    private static async Task<string> BegunAsync(Session session, string path, object asked)
    {
        var (status, body) = await session.PostAsync(path, asked);
        Assert.True(status == 201, body.ToString());
        return Text(body, "id")!;
    }

    [Fact]
    public async Task A_host_that_loads_nothing_does_for_the_restore_and_not_afterwards_also_when_it_is_killed_called_off_or_fails()
    {
        using var admin = await demo.AdminAsync();
        var now = await DemoServer.AgoAsync(admin, 0);
        var ways = await admin.GetAsync($"/api/recover/passenger-counts?target={now}&host=hill-h2");
        var need = Assert.Single(ways.GetProperty("settings").GetProperty("needs").EnumerateArray());
        Assert.Equal(("hill-h2", "bulk loading", "on", "off"), (Text(need, "host"), Text(need, "setting"), Text(need, "value"), Text(need, "stated")));
        Assert.Contains(ways.GetProperty("prechecks").EnumerateArray(), c => Text(c, "name") == "settings" && Text(c, "outcome") == "warned");
        Assert.Equal(JsonValueKind.Null, (await admin.GetAsync($"/api/recover/passenger-counts?target={now}&host=quay-h4")).GetProperty("settings").ValueKind);

        // Nobody is asked twice, and nothing is begun without an answer that can be kept.
        var (status, refused) = await admin.PostAsync("/api/recover", Restore(now, null, "asked"));
        Assert.Equal((409, "settings", "settings"), (status, Text(refused, "member"), Text(refused, "code")));
        Assert.Equal((400, "settings"), Session.Fault(await admin.PostAsync("/api/recover", Restore(now, "some day", "asked"))));

        var run = await BegunAsync(admin, "/api/recover", Restore(now, "now", "at-once"));
        await demo.Server.KillAsync();
        await demo.Server.RunAsync();
        var done = await admin.RunIsAsync(run, "done");
        Assert.Equal(("it was off", "is off again"), (Note(done, "set"), Note(done, "set-back")));

        // Called off while it is loaded, and failed at the end of its copies: off in both.
        run = await BegunAsync(admin, "/api/recover", Restore(now, "now", "called-off"));
        await Eventually.Async(async () => Note(await admin.GetAsync($"/api/runs/{run}"), "set") is not null);
        Assert.Equal(204, (await admin.PostAsync($"/api/runs/{run}/cancel")).Status);
        await admin.RunIsAsync(run, "cancelled");
        done = await admin.RunIsAsync(await BegunAsync(admin, "/api/recover", Restore(now, "now", "again")), "done");
        Assert.Equal(("it was off", "is off again"), (Note(done, "set"), Note(done, "set-back")));
    }

    [Fact]
    public async Task In_the_next_window_of_the_host_it_waits_for_that_and_without_one_nothing_is_begun()
    {
        using var admin = await demo.AdminAsync();
        var now = await DemoServer.AgoAsync(admin, 0);
        Assert.Equal((409, "settings"), Session.Fault(await admin.PostAsync("/api/recover", Restore(now, "window", "in-window"))));
        var from = DateTimeOffset.Parse(now, CultureInfo.InvariantCulture).AddMinutes(20).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture);
        var pause = (await admin.PostAsync("/api/pauses", new { host = "hill-h2", reason = "new disks", from })).Body.GetProperty("id").GetInt32();
        try
        {
            var asked = new { database = "weather-obs", @as = "clone", host = "hill-h2", hosts = (string[])["quay-h4"], until = DateTimeOffset.Parse(now, CultureInfo.InvariantCulture).UtcDateTime.AddDays(2).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", null), name = "in-window", moreOpenBecause = "a try", settings = "window" };
            var window = (await admin.PostAsync("/api/copies/worksheet", asked)).Body.GetProperty("settings").GetProperty("window");
            Assert.Equal(("new disks", DateTimeOffset.Parse(from, CultureInfo.InvariantCulture)), (Text(window, "reason"), window.GetProperty("from").GetDateTimeOffset()));
            var (status, body) = await admin.PostAsync("/api/copies", asked);
            Assert.True(status == 201, body.ToString());
            var done = await admin.RunIsAsync(body.GetProperty("ids")[0].GetString()!, "done");
            Assert.True(Step(done, "provision")!.Value.GetProperty("started").GetDateTimeOffset() >= DateTimeOffset.Parse(from, CultureInfo.InvariantCulture), done.ToString());
            Assert.Equal("is off again", Note(done, "set-back"));

            // Waiting is not restoring.
            var measured = done.GetProperty("restore").GetProperty("measured");
            Assert.Equal((measured.GetProperty("readyAt").GetDateTimeOffset() - DateTimeOffset.Parse(from, CultureInfo.InvariantCulture)).TotalSeconds, measured.GetProperty("secondsToReady").GetDouble(), 3);
            await admin.RunIsAsync(await BegunAsync(admin, $"/api/runs/{Text(done.GetProperty("run"), "id")}/remove", new { }), "done");
        }
        finally
        {
            await admin.PostAsync($"/api/pauses/{pause}/end");
        }
    }

    [Fact]
    public async Task A_move_has_changes_tracked_until_it_lives_there_or_is_thrown_away()
    {
        using var admin = await demo.AdminAsync();
        object Move(string? settings) => new { database = "pensions", to = "hill-h1", window = 3600, settings };
        Assert.Equal("change tracking", Text((await admin.PostAsync("/api/moves/worksheet", Move(null))).Body.GetProperty("settings").GetProperty("needs")[0], "setting"));
        Assert.Equal((409, "settings"), Session.Fault(await admin.PostAsync("/api/moves", Move(null))));
        var run = await BegunAsync(admin, "/api/moves", Move("now"));
        await admin.RunIsAsync(run, "held");
        Assert.Equal(204, await admin.DecideAsync(run, "throw-away"));
        var done = await admin.RunIsAsync(run, "done");
        Assert.Equal(["it was off", "is off again"], done.GetProperty("steps").EnumerateArray().Where(s => Text(s, "kind")!.StartsWith("set", StringComparison.Ordinal) && Text(s, "state") == "done").Select(s => Text(s, "note")));

        run = await BegunAsync(admin, "/api/moves", Move("now"));
        await admin.RunIsAsync(run, "held");
        Assert.Equal(204, await admin.DecideAsync(run, "switch"));
        done = await admin.RunIsAsync(run, "done");
        Assert.Contains("it lives on hill-h1", Text(done.GetProperty("run"), "note"), StringComparison.Ordinal);
        Assert.Equal("is off again", done.GetProperty("steps").EnumerateArray().Single(s => Text(s, "kind") == "set-back" && Text(s, "state") == "done").GetProperty("note").GetString());
    }
}
