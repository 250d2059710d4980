using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A world in which roles change, shared by all tests of drills, one after the other; and what they do in it again and again.</summary>
public sealed class DrillWorld : IAsyncLifetime
{
    public ServerProcess Server { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Server = await ServerProcess.StartAsync(demo: true, days: 2);

    public ValueTask DisposeAsync() => Server.DisposeAsync();

    /// <summary>Who asks and confirms, and who agrees; at a pace at which minutes are seconds.</summary>
    public async Task<(Session Admin, Session Second)> PeopleAsync()
    {
        await Server.ReviveAsync();
        var admin = await Session.SignInAsync(Server.Url, "admin");
        await admin.PaceAsync(60);
        return (admin, await Session.SignInAsync(Server.Url, "approve"));
    }

    /// <summary>Begins a drill.</summary>
    public static async Task<string> BeginAsync(Session session, object body)
    {
        var (status, answer) = await session.PostAsync("/api/drills", body);
        return status == 201 ? answer.GetProperty("id").GetString()! : throw new InvalidOperationException($"{status} {answer}");
    }

    /// <summary>The last step of a kind.</summary>
    public static JsonElement Step(JsonElement run, string kind) => run.GetProperty("steps").EnumerateArray().Last(s => s.GetProperty("kind").GetString() == kind);

    /// <summary>Confirms and approves whatever is asked until it is over.</summary>
    public static async Task<JsonElement> CarryOnAsync(Session operate, Session approve, string id, string state = "done", Func<JsonElement, Task>? each = null)
    {
        var stands = "";
        await Eventually.Async(
            async () =>
            {
                var now = await operate.GetAsync($"/api/runs/{id}");
                stands = string.Join("; ", now.GetProperty("steps").EnumerateArray().Select(s => $"{s.GetProperty("kind")} {s.GetProperty("state")} {s.GetProperty("note")}"));
                if (now.GetProperty("steps").EnumerateArray().FirstOrDefault(s => s.GetProperty("choices").GetArrayLength() > 0) is { ValueKind: JsonValueKind.Object } asks)
                {
                    if (each is not null)
                    {
                        await each(asks);
                    }

                    var step = asks.GetProperty("number").GetInt32();
                    _ = asks.GetProperty("hold").GetBoolean()
                        ? await operate.PostAsync($"/api/runs/{id}/decide", new { step, choice = asks.GetProperty("choices")[0].GetString() })
                        : await approve.PostAsync($"/api/runs/{id}/approve", new { step, choice = "approve" });
                }

                return now.GetProperty("run").GetProperty("ended").ValueKind != JsonValueKind.Null;
            },
            what: () => $"it does not end: {stands}");
        return await operate.RunIsAsync(id, state);
    }

    /// <summary>For how long, under each loss, a database was over its RPO since this world began, seconds: the days of the window before that, when there was nothing, are taken off.</summary>
    public static async Task<Dictionary<string, double>> OverRpoAsync(Session session, string database)
    {
        var d = await session.GetAsync($"/api/databases/{database}");
        var since = DateTimeOffset.Parse(d.GetProperty("at").GetString()!, System.Globalization.CultureInfo.InvariantCulture).ToUnixTimeMilliseconds() / 1000.0;
        return d.GetProperty("losses").EnumerateArray().ToDictionary(l => l.GetProperty("kind").GetString()!, l => l.GetProperty("secondsOverRpo").GetDouble() + since);
    }

    /// <summary>What a run keeps as measured.</summary>
    public async Task<JsonElement> ResultAsync(string id) => JsonDocument.Parse((await Server.QueryAsync<string>($"select result::text from runs where id = '{id}'"))!).RootElement;
}

[CollectionDefinition("drills")]
public sealed class DrillWorldCollection : ICollectionFixture<DrillWorld>;

/// <summary>Members that are left out where they are nothing.</summary>
internal static class LeftOut
{
    public static double TryGetPropertyOr(this JsonElement e, string member) => e.TryGetProperty(member, out var v) && v.ValueKind == JsonValueKind.Number ? v.GetDouble() : 0;

    public static bool TryGetPropertyOrFalse(this JsonElement e, string member) => e.TryGetProperty(member, out var v) && v.GetBoolean();
}
