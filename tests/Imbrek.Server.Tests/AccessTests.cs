using System.Net.Http.Json;
using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>Who may do what.</summary>
[Collection("demo")]
public class AccessTests(DemoServer demo)
{
    private static readonly string[] Names = ["look", "operate", "plan", "approve", "admin"];

    [Fact]
    public async Task Every_endpoint_lets_in_exactly_the_roles_it_states()
    {
        using var anonymous = new Session(demo.Server.Url);
        var paths = (await anonymous.GetAsync("/api/openapi.json")).GetProperty("paths");
        var sessions = new Dictionary<string, Session>();
        foreach (var name in Names)
        {
            sessions[name] = await Session.SignInAsync(demo.Server.Url, name);
        }

        var walked = 0;
        foreach (var path in paths.EnumerateObject())
        {
            foreach (var operation in path.Value.EnumerateObject())
            {
                var needed = operation.Value.GetProperty("x-role").GetString()!;
                var where = $"{operation.Name} {path.Name}";
                if (path.Name == "/api/sign-out" || needed == "anonymous")
                {
                    Assert.True(path.Name is "/api/sign-out" or "/api/sign-in" or "/api/welcome" or "/api/welcome/look", $"{where} lets anybody in");
                    continue;
                }

                Assert.Equal((where, 401), (where, await AskAsync(anonymous, operation.Name, path.Name)));
                foreach (var (name, session) in sessions)
                {
                    var status = await AskAsync(session, operation.Name, path.Name);
                    var may = needed == "look" || name == "admin" || name == needed;
                    Assert.True(may ? status is not (401 or 403) : status == 403, $"{where} as {name}: {status}, needs {needed}");
                    walked++;
                }
            }
        }

        Assert.True(walked > 100, $"only {walked} questions were asked");
        Assert.Equal(401, (int)(await anonymous.Http.GetAsync("/api/events", HttpCompletionOption.ResponseHeadersRead)).StatusCode);
    }

    /// <summary>Asks with parameters that name nothing, so that nothing happens whoever is let in.</summary>
    private static async Task<int> AskAsync(Session session, string method, string path)
    {
        var url = path.Replace("{id}", path.Contains("runs", StringComparison.Ordinal) || path.Contains("drills", StringComparison.Ordinal) || path.Contains("tokens", StringComparison.Ordinal) ? Guid.Empty.ToString() : "nothing", StringComparison.Ordinal).Replace("{set}", "nothing", StringComparison.Ordinal)
            .Replace("{plan}", "nothing", StringComparison.Ordinal).Replace("{name}", "nobody", StringComparison.Ordinal).Replace("{number}", "0", StringComparison.Ordinal);
        using var request = new HttpRequestMessage(new HttpMethod(method.ToUpperInvariant()), url + (method == "get" ? "?target=2026-01-01T00:00:00Z" : ""));
        if (method is "post" or "put")
        {
            request.Content = path == "/api/import" ? new MultipartFormDataContent { { new StringContent("x"), "other" } } : JsonContent.Create(new { });
        }

        using var answer = await session.Http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
        Assert.NotEqual(500, (int)answer.StatusCode);
        return (int)answer.StatusCode;
    }

    [Fact]
    public async Task What_changes_state_without_the_token_of_our_page_is_refused()
    {
        using var session = await Session.SignInAsync(demo.Server.Url, "operate");
        session.Http.DefaultRequestHeaders.Remove("X-Imbrek-Token");
        var (status, body) = await session.PostAsync("/api/incidents", new { database = "tickets", title = "forged" });
        Assert.Equal((400, "token-missing"), (status, body.GetProperty("code").GetString()));
        Assert.Equal(0L, await demo.Server.QueryAsync<long>("select count(*) from incidents where title = 'forged'"));
    }

    [Theory]
    [InlineData("/api/fleet?loss=volcano", "loss")]
    [InlineData("/api/fleet?loss=site:atlantis", "loss")]
    [InlineData("/api/fleet?at=yesterday", "at")]
    [InlineData("/api/fleet?take=0", "take")]
    [InlineData("/api/databases/nowhere", "database")]
    [InlineData("/api/databases/tickets/cover?from=2090-01-01T00:00:00Z", "from")]
    [InlineData("/api/databases/tickets/sets?kind=partial", "kind")]
    [InlineData("/api/recover/tickets?target=2090-01-01T00:00:00Z", "target")]
    [InlineData("/api/recover/tickets?target=2026-01-01T00:00:00Z&host=toaster", "host")]
    public async Task Bad_input_names_the_member_at_fault(string path, string member)
    {
        using var session = await Session.SignInAsync(demo.Server.Url, "look");
        var answer = await session.Http.GetAsync(path);
        var problem = await answer.Content.ReadFromJsonAsync<JsonElement>();
        Assert.InRange((int)answer.StatusCode, 400, 404);
        Assert.Equal("application/problem+json", answer.Content.Headers.ContentType!.MediaType);
        Assert.Equal(member, problem.GetProperty("member").GetString());
    }

    [Theory]
    [InlineData("/api/world/pace", """{"pace":"fast"}""", "pace")]
    [InlineData("/api/world/pace", """{"pace":""", "pace")]
    [InlineData("/api/incidents", "null", "")]
    [InlineData("/api/incidents", "[]", "")]
    [InlineData("/api/incidents", """{"database":"tickets","title":"x","at":"9999-01-01T00:00:00Z"}""", "at")]
    [InlineData("/api/incidents", """{"database":"tickets","title":"a\u0007b"}""", "title")]
    [InlineData("/api/recover", """{"database":"tickets","target":"2026-11-24T10:00:00Z","instance":"-rf"}""", "instance")]
    [InlineData("/api/recover", """{"database":"tickets","target":"2026-11-24T10:00:00Z","instance":"a;id"}""", "instance")]
    [InlineData("/api/timetable/measure", """{"moves":[null]}""", "moves[0]")]
    [InlineData("/api/timetable/measure", """{"moves":[{"plan":"a\ud800b"}]}""", "moves[0].plan")]
    [InlineData("/api/people", """{"name":"x","roles":[null]}""", "roles")]
    public async Task A_bad_body_names_its_member_too(string path, string body, string member)
    {
        using var session = await Session.SignInAsync(demo.Server.Url, "admin");
        var answer = await session.Http.PostAsync(path, new StringContent(body, System.Text.Encoding.UTF8, "application/json"));
        var problem = await answer.Content.ReadFromJsonAsync<JsonElement>();
        Assert.Equal(400, (int)answer.StatusCode);
        Assert.Equal(member, problem.TryGetProperty("member", out var named) ? named.GetString() : "");
        Assert.DoesNotContain("System.", problem.GetProperty("title").GetString(), StringComparison.Ordinal);
    }

    /// <summary>The document of the API knows types by their bare names: of two that are called alike one would be lost without a word.</summary>
    [Fact]
    public void What_endpoints_take_and_give_is_called_by_names_of_its_own() => Assert.Empty(
        from type in typeof(ImbrekServer).Assembly.GetTypes()
        where type.IsNestedPublic && type.DeclaringType!.Name is var of && (of.EndsWith("Endpoints", StringComparison.Ordinal) || of.EndsWith("Endpoint", StringComparison.Ordinal) || of.EndsWith("Actions", StringComparison.Ordinal))
        group type by type.Name into same
        where same.Count() > 1
        select string.Join(", ", same.Select(t => t.FullName)));
}
