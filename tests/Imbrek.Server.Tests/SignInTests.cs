using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;
using System.Text.RegularExpressions;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Sessions that end, people who come and go, tokens of scripts, and the first start.</summary>
[Collection("demo")]
public sealed partial class SignInTests(DemoServer demo)
{
    private string Url => demo.Server.Url;

    private static async Task<string> ReadUntilEndAsync(HttpResponseMessage answer)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        return await answer.Content.ReadAsStringAsync(limit.Token);
    }

    /// <summary>A cookie as somebody who copied it would send it.</summary>
    private static HttpRequestMessage With(string cookie, string path) => new(HttpMethod.Get, path) { Headers = { { "Cookie", cookie } } };

    [Fact]
    public async Task Signing_out_ends_the_session_on_the_server_and_its_event_stream()
    {
        using var bare = new HttpClient(new HttpClientHandler { UseCookies = false }) { BaseAddress = new Uri(Url) };
        using var signed = await bare.PostAsJsonAsync("/api/sign-in", new { name = "look", password = Session.Password });
        var cookie = string.Join("; ", signed.Headers.GetValues("Set-Cookie").Select(c => c.Split(';')[0]));
        var token = (await signed.Content.ReadFromJsonAsync<JsonElement>()).GetProperty("antiforgeryToken").GetString();
        Assert.Equal(HttpStatusCode.OK, (await bare.SendAsync(With(cookie, "/api/me"))).StatusCode);
        using var stream = await bare.SendAsync(With(cookie, "/api/events"), HttpCompletionOption.ResponseHeadersRead);
        Assert.Equal(HttpStatusCode.OK, stream.StatusCode);

        using var leave = new HttpRequestMessage(HttpMethod.Post, "/api/sign-out") { Headers = { { "Cookie", cookie }, { "X-Imbrek-Token", token } } };
        Assert.Equal(HttpStatusCode.NoContent, (await bare.SendAsync(leave)).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await bare.SendAsync(With(cookie, "/api/me"))).StatusCode);
        Assert.StartsWith("event: hello", await ReadUntilEndAsync(stream), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_session_ends_however_much_it_is_used()
    {
        using var session = await Session.SignInAsync(Url, "look");
        await demo.Server.ExecuteAsync("update sessions set ends_at = now() - interval '1 second' where person_id = (select id from people where user_name = 'look')");
        Assert.Equal(HttpStatusCode.Unauthorized, (await session.Http.GetAsync("/api/me")).StatusCode);
    }

    [Fact]
    public async Task Wrong_passwords_slow_down_who_guesses_and_nobody_else()
    {
        using var admin = await Session.SignInAsync(Url, "admin");
        var (_, made) = await admin.PostAsync("/api/people", new { name = "guessed", roles = new[] { "look" } });
        using var session = new Session(Url);
        var answers = new List<(int Status, JsonElement Body)>();
        for (var i = 0; i < 6; i++)
        {
            answers.Add(await session.PostAsync("/api/sign-in", new { name = "guessed", password = "wrong" }));
        }

        Assert.All(answers[..5], a => Assert.Equal((401, "wrong-password"), (a.Status, a.Body.GetProperty("code").GetString())));
        Assert.Equal((429, "too-many"), (answers[5].Status, answers[5].Body.GetProperty("code").GetString()));
        using var refused = await session.Http.PostAsJsonAsync("/api/sign-in", new { name = "guessed", password = "wrong" });
        Assert.InRange(refused.Headers.RetryAfter!.Delta!.Value.TotalSeconds, 1, 10);

        // Others from the same place sign in, and a name that does not exist is answered alike.
        using var other = await Session.SignInAsync(Url, "operate");
        var unknown = await session.PostAsync("/api/sign-in", new { name = "who-is-not-there", password = "wrong" });
        Assert.Equal(answers[0].Body.GetRawText(), unknown.Body.GetRawText());
        Assert.Equal(401, unknown.Status);
    }

    [Fact]
    public async Task A_person_is_added_changed_reset_and_disabled_each_in_the_ledger()
    {
        using var admin = await Session.SignInAsync(Url, "admin");
        var (status, made) = await admin.PostAsync("/api/people", new { name = "nils", displayName = "Nils (nights)", roles = new[] { "operate" } });
        Assert.Equal(201, status);
        var code = made.GetProperty("path").GetString()!.Split('#')[1];
        using var nobody = new Session(Url);
        Assert.Equal((400, "password"), Session.Fault(await nobody.PostAsync("/api/welcome", new { code, password = "short" })));
        Assert.Equal("nils", (await nobody.PostAsync("/api/welcome/look", new { code })).Body.GetProperty("name").GetString());
        Assert.Equal(200, (await nobody.PostAsync("/api/welcome", new { code, password = "a-long-password-1" })).Status);
        Assert.Equal(404, (await nobody.PostAsync("/api/welcome", new { code, password = "a-long-password-1" })).Status);

        using var nils = await Session.SignInAsync(Url, "nils", "a-long-password-1");
        Assert.Equal((400, "current"), Session.Fault(await nils.PostAsync("/api/me/password", new { current = "wrong-password", wanted = "another-long-one-2" })));
        Assert.Equal(204, (await nils.PostAsync("/api/me/password", new { current = "a-long-password-1", wanted = "another-long-one-2" })).Status);
        Assert.Equal("nils", (await nils.GetAsync("/api/me")).GetProperty("name").GetString());

        // Another role ends what was begun with the old one; so does being disabled.
        Assert.Equal(204, (await admin.PutAsync("/api/people/nils", new System.Text.Json.Nodes.JsonObject { ["displayName"] = "Nils", ["roles"] = new System.Text.Json.Nodes.JsonArray("plan"), ["disabled"] = false })).Status);
        Assert.Equal(HttpStatusCode.Unauthorized, (await nils.Http.GetAsync("/api/me")).StatusCode);
        using var again = await Session.SignInAsync(Url, "nils", "another-long-one-2");
        Assert.Equal(204, (await admin.PutAsync("/api/people/nils", new System.Text.Json.Nodes.JsonObject { ["roles"] = new System.Text.Json.Nodes.JsonArray("plan"), ["disabled"] = true })).Status);
        Assert.Equal(HttpStatusCode.Unauthorized, (await again.Http.GetAsync("/api/me")).StatusCode);
        Assert.Equal(401, (await nobody.PostAsync("/api/sign-in", new { name = "nils", password = "another-long-one-2" })).Status);
        Assert.Equal(
            ["person-added", "password-changed", "password-changed", "person-changed", "person-changed"],
            (await admin.GetAsync("/api/ledger?take=100")).GetProperty("entries").EnumerateArray()
                .Where(e => e.GetProperty("body").GetRawText().Contains("nils", StringComparison.Ordinal) || e.GetProperty("who").GetString() == "nils").Select(e => e.GetProperty("kind").GetString()).Reverse());
    }

    [Fact]
    public async Task The_last_who_administers_stays()
    {
        using var admin = await Session.SignInAsync(Url, "admin");
        foreach (var change in (string[])["""{"roles":["look"],"disabled":false}""", """{"roles":["administer"],"disabled":true}"""])
        {
            var (status, body) = await admin.PutAsync("/api/people/admin", System.Text.Json.Nodes.JsonNode.Parse(change)!);
            Assert.Equal((409, "last-administrator"), (status, body.GetProperty("code").GetString()));
        }

        Assert.Equal("admin", (await admin.GetAsync("/api/me")).GetProperty("name").GetString());
    }

    [Fact]
    public async Task A_token_works_on_the_api_with_its_role_until_it_is_revoked_and_never_as_a_session()
    {
        using var admin = await Session.SignInAsync(Url, "admin");
        var (status, made) = await admin.PostAsync("/api/tokens", new { name = "nightly report", role = "operate", days = 2 });
        Assert.Equal(201, status);
        var token = made.GetProperty("token").GetString()!;
        Assert.Equal(0L, await demo.Server.QueryAsync<long>($"select count(*) from tokens where hash = '{token}' or name = '{token}'"));
        using var script = new HttpClient { BaseAddress = new Uri(Url) };
        script.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
        Assert.Equal(HttpStatusCode.OK, (await script.GetAsync("/api/fleet?take=1")).StatusCode);
        Assert.Equal(HttpStatusCode.Created, (await script.PostAsJsonAsync("/api/incidents", new { database = "tickets", title = "by a script" })).StatusCode);
        Assert.Equal(HttpStatusCode.Forbidden, (await script.PostAsJsonAsync("/api/world/pace", new { pace = 1 })).StatusCode);
        foreach (var path in (string[])["/api/me", "/api/people", "/api/tokens"])
        {
            Assert.Equal(HttpStatusCode.Forbidden, (await script.GetAsync(path)).StatusCode);
        }

        Assert.Equal("token:nightly report", await demo.Server.QueryAsync<string>("select noted_by from incidents where title = 'by a script'"));
        var metrics = await script.GetStringAsync("/metrics");
        foreach (var expected in (string[])["imbrek_exposure_seconds{", "imbrek_restore_seconds{", "imbrek_verdict{", "database=\"tickets\"", "imbrek_evaluation_duration_seconds_bucket", "imbrek_runs_waiting"])
        {
            Assert.Contains(expected, metrics, StringComparison.Ordinal);
        }

        Assert.Equal(HttpStatusCode.Forbidden, (await admin.Http.GetAsync("/metrics")).StatusCode);
        Assert.Equal(1L, await demo.Server.QueryAsync<long>("select count(*) from tokens where name = 'nightly report' and used_at is not null"));
        Assert.Equal(204, (await admin.PostAsync($"/api/tokens/{made.GetProperty("id").GetString()}/revoke")).Status);
        Assert.Equal(HttpStatusCode.Unauthorized, (await script.GetAsync("/api/fleet?take=1")).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await script.GetAsync("/metrics")).StatusCode);
    }

    [Fact]
    public async Task Errors_keep_the_headers_and_answers_are_not_stored()
    {
        using var session = await Session.SignInAsync(Url, "look");
        foreach (var path in (string[])["/api/fleet?take=1", "/api/fleet?loss=volcano", "/api/nothing", "/api/world"])
        {
            using var answer = await session.Http.GetAsync(path);
            Assert.Equal("nosniff", answer.Headers.GetValues("X-Content-Type-Options").Single());
            Assert.Contains("frame-ancestors 'none'", answer.Headers.GetValues("Content-Security-Policy").Single(), StringComparison.Ordinal);
            Assert.True(answer.Headers.CacheControl!.NoStore, path);
            Assert.False(answer.Headers.Contains("Strict-Transport-Security"));
        }
    }

    [Fact]
    public async Task The_receiver_of_a_demo_takes_nothing_without_its_secret()
    {
        using var http = new HttpClient { BaseAddress = new Uri(Url) };
        Assert.NotEqual(HttpStatusCode.NoContent, (await http.PostAsJsonAsync("/webhook-receiver", new { subject = "forged" })).StatusCode);
        Assert.NotEqual(HttpStatusCode.NoContent, (await http.PostAsJsonAsync("/webhook-receiver/guess", new { subject = "forged" })).StatusCode);
        Assert.Equal(HttpStatusCode.NoContent, (await http.PostAsJsonAsync("/webhook-receiver/secret-of-the-tests", new { subject = "not forged" })).StatusCode);
    }

    [Fact]
    public async Task A_real_installation_is_entered_by_the_address_its_first_start_prints()
    {
        await using var server = await ServerProcess.StartAsync(demo: false, first: true, more: ["--behind-proxy", "127.0.0.1"]);
        await Eventually.Async(() => Task.FromResult(Address().IsMatch(server.Said)), what: () => server.Said);
        var code = Address().Match(server.Said).Groups["code"].Value;
        using var nobody = new Session(server.Url);
        Assert.Equal(JsonValueKind.Null, (await nobody.PostAsync("/api/welcome/look", new { code })).Body.GetProperty("name").ValueKind);
        Assert.Equal((400, "name"), Session.Fault(await nobody.PostAsync("/api/welcome", new { code, name = "a b", password = "a-long-password-1" })));
        Assert.Equal(200, (await nobody.PostAsync("/api/welcome", new { code, name = "first", password = "a-long-password-1" })).Status);
        Assert.Equal(404, (await nobody.PostAsync("/api/welcome", new { code, name = "second", password = "a-long-password-1" })).Status);
        using var first = await Session.SignInAsync(server.Url, "first", "a-long-password-1");
        Assert.Equal(["administer"], (await first.GetAsync("/api/me")).GetProperty("roles").EnumerateArray().Select(r => r.GetString()));

        // Behind a proxy that ends TLS, cookies are for TLS alone; without it they are not, or nobody could sign in.
        using var bare = new HttpClient(new HttpClientHandler { UseCookies = false }) { BaseAddress = new Uri(server.Url) };
        using var plain = await bare.PostAsJsonAsync("/api/sign-in", new { name = "first", password = "a-long-password-1" });
        Assert.DoesNotContain(plain.Headers.GetValues("Set-Cookie"), c => c.Contains("secure", StringComparison.OrdinalIgnoreCase));
        using var tls = new HttpRequestMessage(HttpMethod.Post, "/api/sign-in") { Content = JsonContent.Create(new { name = "first", password = "a-long-password-1" }), Headers = { { "X-Forwarded-Proto", "https" } } };
        using var secure = await bare.SendAsync(tls);
        Assert.All(secure.Headers.GetValues("Set-Cookie"), c => Assert.Contains("secure", c, StringComparison.OrdinalIgnoreCase));
        Assert.True(secure.Headers.Contains("Strict-Transport-Security"));
    }

    [GeneratedRegex("/welcome#(?<code>[A-Za-z0-9_-]{40,})")]
    private static partial Regex Address();
}
