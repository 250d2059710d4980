using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A demo server that is killed often and in which hours pass: it has little history, and plans whose log is backed up often, but that no test looks at, are taken away.</summary>
public sealed class WaysServer : DemoServer
{
    protected override int Days => 2;

    public override async ValueTask InitializeAsync()
    {
        await base.InitializeAsync();
        using var admin = await AdminAsync();
        foreach (var plan in (string[])["streams", "managed"])
        {
            (await admin.Http.DeleteAsync($"/api/plans/{plan}?basedOn={(await admin.PlanAsync(plan)).Version}")).EnsureSuccessStatusCode();
        }
    }
}

/// <summary>What is restored, copied, moved and changed.</summary>
[CollectionDefinition("ways")]
public class WaysCollection : ICollectionFixture<WaysServer>;
