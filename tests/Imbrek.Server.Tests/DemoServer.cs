using System.Globalization;
using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>A demo server that many tests share; those of one collection run one after another.</summary>
public class DemoServer : IAsyncLifetime
{
    /// <summary>Fast enough that nobody waits long, and no faster: all that the world does meanwhile is done.</summary>
    private const double Pace = 300;

    public ServerProcess Server { get; private set; } = null!;

    /// <summary>How many days of history there are: where plans are looked at, more than a week.</summary>
    protected virtual int Days => 9;

    public virtual async ValueTask InitializeAsync() => Server = await ServerProcess.StartAsync(demo: true, days: Days);

    public ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        return Server.DisposeAsync();
    }

    /// <summary>Signs in, and sets what tests begin with: one before that failed may have left another pace, or a store full.</summary>
    public async Task<Session> AdminAsync()
    {
        await Server.ReviveAsync();
        var admin = await Session.SignInAsync(Server.Url, "admin");
        await admin.PaceAsync(Pace);
        foreach (var store in (await admin.GetAsync("/api/world")).GetProperty("stores").EnumerateArray().Where(s => s.GetProperty("full").GetBoolean()))
        {
            await admin.PostAsync("/api/world/store-full", new { store = store.GetProperty("id").GetString(), full = false });
        }

        return admin;
    }

    /// <summary>Signs somebody in to a world that stands still, so that what they read twice is the same.</summary>
    public async Task<Session> StillAsync(string name)
    {
        using var admin = await AdminAsync();
        await admin.PaceAsync(0);
        return await Session.SignInAsync(Server.Url, name);
    }

    /// <summary>An instant so many minutes before the world's now, as the API writes it.</summary>
    public static async Task<string> AgoAsync(Session session, double minutes)
    {
        var now = (await session.GetAsync("/api/clock")).GetProperty("now").GetDateTimeOffset();
        return now.AddMinutes(-minutes).ToString("yyyy-MM-dd'T'HH:mm:ss.fff'Z'", CultureInfo.InvariantCulture);
    }
}

/// <summary>What is seen, planned and due.</summary>
[CollectionDefinition("demo")]
public class DemoCollection : ICollectionFixture<DemoServer>;
