using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server.Tests;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A server that protects a cluster, both with a process of their own: what tests of what is served share.</summary>
public abstract class ServedCluster : IAsyncLifetime
{
    private protected const string Password = "not-to-be-seen-anywhere";

    // Servers find their credentials by the environment, which all of this process have in common: so they have one file in common too.
    private static readonly Lazy<string> Credentials = new(() =>
    {
        var file = Path.Combine(Directory.CreateTempSubdirectory("imbrek-credentials").FullName, "credentials");
        File.WriteAllText(file, $"harbour-key={Password}\n");
        File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        AppDomain.CurrentDomain.ProcessExit += (_, _) => Directory.Delete(Path.GetDirectoryName(file)!, recursive: true);
        return file;
    });

    private protected string Home { get; } = Directory.CreateTempSubdirectory("imbrek-serving").FullName;

    private protected TestCluster Cluster { get; private set; } = null!;

    private protected ServerProcess Server { get; private set; } = null!;

    private protected Session Admin { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        await Tools.RunAsync("chmod", ["755", Home], default);
        Environment.SetEnvironmentVariable("IMBREK_CREDENTIALS", Credentials.Value);
        Cluster = await TestCluster.StartAsync(auth: "scram-sha-256");
        await Cluster.DoAsync(Trail.Make);
        Server = await ServerProcess.StartAsync(demo: false);
        Admin = await Session.SignInAsync(Server.Url, "admin");
    }

    public async ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        Admin.Dispose();
        await Server.DisposeAsync();
        foreach (var instance in Directory.Exists(Spare) ? Directory.EnumerateDirectories(Spare).Select(Instance.Find).OfType<Instance>() : [])
        {
            await instance.RemoveAsync(default);
        }

        await Cluster.DisposeAsync();
        Directory.Delete(Home, recursive: true);
    }

    private protected string Spare => Path.Combine(Home, "spare");

    private protected object Request(string? credential = "harbour-key", int? port = null, string user = "imbrek") => new
    {
        database = "harbour",
        name = (string?)null,
        address = "127.0.0.1",
        port = port ?? Cluster.Port,
        user,
        signInTo = (string?)null,
        credential,
        site = "quay",
        host = (string?)null,
        store = "shelf",
        storeSite = "hill",
        folder = Path.Combine(Home, "shelf"),
        restoreHost = "spare",
        restoreFolder = Spare,
        objective = (string?)null,
        logRoomBytes = (long?)null,
        backupBytesPerSecond = 20_000_000,
    };

    private protected async Task AddAsync(string user = "imbrek")
    {
        var (status, body) = await Admin.PostAsync("/api/clusters", Request(user: user));
        Assert.True(status == 201, body.ToString());
        await ReceivedAsync();
    }

    private protected async Task ReceivedAsync(Session? by = null)
    {
        var wanted = Log.Lsn.Parse(await Cluster.AskAsync<string>("select pg_current_wal_flush_lsn()::text"));
        await Eventually.Async(
            async () => (await (by ?? Admin).GetAsync("/api/clusters"))[0] is var c && c.GetProperty("position").GetString() is { } p && Log.Lsn.Parse(p) >= wanted && c.GetProperty("problem").ValueKind == JsonValueKind.Null,
            what: () => Server.Said);
    }

    private protected async Task<string> FullAsync(string? more = null)
    {
        var plan = JsonNode.Parse($$$"""
            {"id": "minutes", "name": "By hand", "members": {"databases": ["harbour"]},
             "tasks": [{"id": "full", "kind": "full", "recurrence": {"words": "Sundays 01:00"}, "store": "shelf", "keep": {"forSeconds": 86400}}{{{(more is null ? "" : $", {more}")}}}]}
            """)!;
        var (saved, why) = await Admin.PutAsync("/api/plans/minutes?basedOn=0", plan);
        Assert.True(saved is 200 or 201, why.ToString());
        var (status, body) = await Admin.PostAsync("/api/runs", new { plan = "minutes", task = "full", database = "harbour", outsideChain = false, at = (string?)null });
        Assert.True(status == 201, body.ToString());
        var run = body.GetProperty("id").GetString()!;
        await Admin.RunIsAsync(run, "done");
        return run;
    }

    private protected async Task<string> BegunAsync(string path, object body)
    {
        var (status, begun) = await Admin.PostAsync(path, body);
        Assert.True(status == 201, begun.ToString());
        return begun.GetProperty("id").GetString()!;
    }

    /// <summary>Has a second person approve what a run asks one for, until it is so far.</summary>
    private protected async Task ApprovedAsync(string id, Func<JsonElement, bool> isSoFar)
    {
        const string Words = "a-long-password-1";
        if (await Admin.PostAsync("/api/people", new { name = "nils", displayName = "Nils", roles = new[] { "approve" } }) is (201, var made))
        {
            using var nobody = new Session(Server.Url);
            await nobody.PostAsync("/api/welcome", new { code = made.GetProperty("path").GetString()!.Split('#')[1], password = Words });
        }

        using var nils = await Session.SignInAsync(Server.Url, "nils", Words);
        JsonElement run = default;
        await Eventually.Async(
            async () =>
            {
                run = await Admin.GetAsync($"/api/runs/{id}");
                if (run.GetProperty("steps").EnumerateArray().FirstOrDefault(s => s.GetProperty("choices").GetArrayLength() > 0) is { ValueKind: JsonValueKind.Object } asks)
                {
                    await nils.PostAsync($"/api/runs/{id}/approve", new { step = asks.GetProperty("number").GetInt32(), choice = "approve" });
                }

                return isSoFar(run);
            },
            what: () => run.ToString());
    }

    /// <summary>Kills the server again and again, at other moments, and starts it.</summary>
    private protected async Task KilledAsync(int kills)
    {
        var random = new Random(11);
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(10));
        for (; kills > 0; kills--)
        {
            for (var ticks = random.Next(80); ticks > 0; ticks--)
            {
                await timer.WaitForNextTickAsync();
            }

            await DiesAsync();
        }
    }

    /// <summary>The server is killed, and started again.</summary>
    private protected async Task DiesAsync()
    {
        await Server.KillAsync();
        await Server.RunAsync();
        Admin.Dispose();
        Admin = await Session.SignInAsync(Server.Url, "admin");
    }

    /// <summary>How many engines run in a folder.</summary>
    private protected static int Postmasters(string folder) => Directory.EnumerateDirectories("/proc").Where(p => char.IsAsciiDigit(Path.GetFileName(p)[0])).Count(p =>
    {
        try
        {
            return File.ReadAllText(Path.Combine(p, "cmdline")).Contains($"{folder}/data", StringComparison.Ordinal);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    });
}
