using System.Net.Http.Json;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Imbrek.Server.Tests;

/// <summary>Somebody who is signed in: cookie, token, and short ways to ask.</summary>
public sealed class Session : IDisposable
{
    public const string Password = "tarnholt-demo-1";

    private readonly HttpClient http;

    public Session(string url) => http = new HttpClient(new HttpClientHandler { UseCookies = true }) { BaseAddress = new Uri(url), Timeout = TimeSpan.FromSeconds(60) };

    public HttpClient Http => http;

    public static async Task<Session> SignInAsync(string url, string name, string password = Password)
    {
        var session = new Session(url);
        var answer = await session.http.PostAsJsonAsync("/api/sign-in", new { name, password });
        answer.EnsureSuccessStatusCode();
        var me = await answer.Content.ReadFromJsonAsync<JsonElement>();
        session.http.DefaultRequestHeaders.Add("X-Imbrek-Token", me.GetProperty("antiforgeryToken").GetString());
        return session;
    }

    public async Task<JsonElement> GetAsync(string path)
    {
        var answer = await http.GetAsync(path);
        var text = await answer.Content.ReadAsStringAsync();
        return answer.IsSuccessStatusCode ? JsonSerializer.Deserialize<JsonElement>(text) : throw new InvalidOperationException($"{path}: {(int)answer.StatusCode} {text}");
    }

    public async Task<string> GetTextAsync(string path) => await (await http.GetAsync(path)).EnsureSuccessStatusCode().Content.ReadAsStringAsync();

    public async Task<(int Status, JsonElement Body)> PostAsync(string path, object? body = null)
    {
        var answer = await http.PostAsJsonAsync(path, body ?? new { });
        var text = await answer.Content.ReadAsStringAsync();
        return ((int)answer.StatusCode, text.Length == 0 ? default : JsonSerializer.Deserialize<JsonElement>(text));
    }

    public async Task<(int Status, JsonElement Body)> PutAsync(string path, JsonNode body)
    {
        var answer = await http.PutAsJsonAsync(path, body);
        var text = await answer.Content.ReadAsStringAsync();
        return ((int)answer.StatusCode, text.Length == 0 ? default : JsonSerializer.Deserialize<JsonElement>(text));
    }

    /// <summary>The fleet as it is exported.</summary>
    public async Task<Core.Fleet.FleetModel> FleetAsync() => Core.Formats.FleetFile.Read(await http.GetByteArrayAsync("/api/export/fleet"), "fleet").Value!;

    /// <summary>Waits until a replica is in a state.</summary>
    public Task ReplicaIsAsync(string replica, string state)
    {
        JsonElement row = default;
        return Eventually.Async(async () => (row = (await GetAsync($"/api/replicas/{replica}")).GetProperty("row")).GetProperty("state").GetString() == state, what: () => $"{replica} is not {state}: {row}");
    }

    /// <summary>A plan as it is in force, to be changed and saved, and its version.</summary>
    public async Task<(JsonObject Plan, int Version)> PlanAsync(string plan)
    {
        var view = await GetAsync($"/api/plans/{plan}");
        return (JsonNode.Parse(view.GetProperty("plan").GetRawText())!.AsObject(), view.GetProperty("version").GetInt32());
    }

    /// <summary>What a refusal says: its status and the member at fault.</summary>
    public static (int Status, string? Member) Fault((int Status, JsonElement Body) answer) =>
        (answer.Status, answer.Body.ValueKind == JsonValueKind.Object && answer.Body.TryGetProperty("member", out var m) ? m.GetString() : null);

    /// <summary>Sets the pace; a process that has lost the lead on a busy machine takes it up again in a moment.</summary>
    public async Task PaceAsync(double pace) => await Eventually.Async(
        async () =>
        {
            var (status, body) = await PostAsync("/api/world/pace", new { pace });
            return status is 204 or 409 ? status == 204 : throw new InvalidOperationException($"pace: {status} {body}");
        },
        what: () => "the world is not run by this process");

    /// <summary>Begins a restore and gives its run.</summary>
    public async Task<string> RestoreAsync(string database, string target, string instance, string? host = null, string? query = null)
    {
        var (status, body) = await PostAsync("/api/recover", new { database, target, instance, host, query });
        return status == 201 ? body.GetProperty("id").GetString()! : throw new InvalidOperationException($"restore: {status} {body}");
    }

    /// <summary>Waits until the figures of a database rest on what a run has proved, and gives that proof.</summary>
    public async Task<JsonElement> ProofAsync(string database, string run)
    {
        // The run's end is kept first; each server process takes the proof into its figures right after.
        JsonElement[] proofs = [];
        await Eventually.Async(
            async () => (proofs = [.. (await GetAsync($"/api/databases/{database}")).GetProperty("proofs").EnumerateArray()]).Any(p => p.GetProperty("runId").GetString() == run), what: () => $"run {run} proves nothing of {database}");
        return proofs.First(p => p.GetProperty("runId").GetString() == run);
    }

    /// <summary>Waits until a run is in a state.</summary>
    public async Task<JsonElement> RunIsAsync(string run, string state)
    {
        JsonElement r = default;
        await Eventually.Async(
            async () =>
            {
                r = await GetAsync($"/api/runs/{run}");
                var now = r.GetProperty("run").GetProperty("state").GetString();
                return now == state || (now is "failed" or "cancelled" or "done" && state != now ? throw new InvalidOperationException($"the run is {now}: {r}") : false);
            },
            what: () => $"{state}: {r}");
        return r;
    }

    /// <summary>Decides at the hold of a run; the status of the answer.</summary>
    public async Task<int> DecideAsync(string run, string choice) => (await PostAsync($"/api/runs/{run}/decide", new { choice })).Status;

    /// <summary>Removes what a restore left, and waits until it is gone.</summary>
    public async Task RemoveAsync(string run)
    {
        var (status, body) = await PostAsync($"/api/runs/{run}/remove");
        if (status != 201)
        {
            throw new InvalidOperationException($"remove: {status} {body}");
        }

        await RunIsAsync(body.GetProperty("id").GetString()!, "done");
    }

    public void Dispose() => http.Dispose();
}
