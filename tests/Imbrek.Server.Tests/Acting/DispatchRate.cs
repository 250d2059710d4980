using System.Diagnostics;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>How fast one dispatcher starts, with a driver that answers at once: a benchmark, run by <c>./imbrek bench dispatch</c>.</summary>
public class DispatchRate(ITestOutputHelper output)
{
    private const int Databases = 10_000;

    [Fact(Explicit = true)]
    public async Task Ten_thousand_databases_are_due_in_the_same_minute()
    {
        var fleet = ActingServer.TheFleet(Databases);
        await using var s = await ActingServer.StartAsync(fleet, []);
        await s.PlanAsync(new("a"), [.. fleet.Databases.Select(d => d.Id)]);
        await s.DispatchAsync();
        await Eventually.Async(() => Task.FromResult(s.Dispatcher.Leads));
        for (var minute = 1; minute <= 3; minute++)
        {
            var (started, all) = (0.0, await StartedAsync() + Databases);
            var watch = Stopwatch.StartNew();
            s.Clock.Move(60);
            await Eventually.Async(
                async () =>
                {
                    var runs = await StartedAsync();
                    started = started == 0 && runs >= all ? watch.Elapsed.TotalSeconds : started;
                    await using var data = ImbrekDatabase.Context(s.Source);
                    return await data.Runs.CountAsync(r => r.Ended != null) >= all;
                },
                seconds: 300);
            output.WriteLine($"{Databases:N0} due at once: started within {started:0.0} s ({Databases / started:0} a second), done and kept within {watch.Elapsed.TotalSeconds:0.0} s ({Databases / watch.Elapsed.TotalSeconds:0} a second)");
        }

        async Task<int> StartedAsync()
        {
            await using var data = ImbrekDatabase.Context(s.Source);
            return await data.Runs.CountAsync(r => r.Started != null);
        }
    }
}
