using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A server without demo data, on one's own files.</summary>
public abstract class OwnFiles : IAsyncLifetime
{
    internal ServerProcess Server { get; private set; } = null!;

    internal Session Admin { get; private set; } = null!;

    public virtual async ValueTask InitializeAsync()
    {
        Server = await ServerProcess.StartAsync(demo: false);
        Admin = await Session.SignInAsync(Server.Url, "admin");
    }

    public virtual async ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        Admin.Dispose();
        await Server.DisposeAsync();
    }

    /// <summary>A file of a worked case.</summary>
    internal static string Case(string file, string folder = "01-chain-with-a-hole-offsite")
    {
        var root = new DirectoryInfo(AppContext.BaseDirectory);
        while (!Directory.Exists(Path.Combine(root.FullName, "tests")))
        {
            root = root.Parent!;
        }

        return File.ReadAllText(Path.Combine(root.FullName, "tests", "Imbrek.Core.Tests", "Cases", folder, file));
    }

    /// <summary>Imports what is given of the two files.</summary>
    internal async Task<(int Status, JsonElement Body)> ImportAsync(string? fleet, string? catalogue, bool skip = false)
    {
        using var form = new MultipartFormDataContent();
        foreach (var (name, file, text) in new[] { ("fleet", "fleet.json", fleet), ("catalogue", "catalog.jsonl", catalogue) })
        {
            if (text is not null)
            {
                form.Add(new ByteArrayContent(Encoding.UTF8.GetBytes(text)), name, file);
            }
        }

        var answer = await Admin.Http.PostAsync("/api/import" + (skip ? "?skipBad=true" : ""), form);
        return ((int)answer.StatusCode, await answer.Content.ReadFromJsonAsync<JsonElement>());
    }
}
