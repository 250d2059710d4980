using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>Makes databases in the simulated world, for whoever calls from outside.</summary>
/// <param name="world">The world.</param>
public sealed class StandInCreateDriver(World world) : ICreateDriver
{
    private const double HandSeconds = 2, CreateSeconds = 8;

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> TryAsync(RunCall call, Database database, CancellationToken cancel) => world.Answers.ActAsync<IReadOnlyList<CheckResult>>(call, HandSeconds, () => Try(database), cancel);

    /// <inheritdoc/>
    public async Task<Moved> CreateAsync(RunCall call, Database database, CancellationToken cancel)
    {
        var began = world.NowMs;
        var at = await world.Answers.ActAsync(
            call,
            CreateSeconds,
            () =>
            {
                if (world.Faults.IsDown(database.Host))
                {
                    throw new DriverException(DriverProblem.Unreachable, $"host {database.Host} does not answer");
                }

                world.Bear(database);
                return world.Now;
            },
            cancel);
        return new Moved((world.NowMs - began) / 1000.0, 0, at);
    }

    /// <inheritdoc/>
    public Task DropAsync(RunCall call, Id<Database> database, CancellationToken cancel) => world.Answers.ActAsync(
        call,
        HandSeconds,
        () =>
        {
            world.Unmake(database);
            return 0;
        },
        cancel);

    private List<CheckResult> Try(Database d)
    {
        var fleet = world.Fleet;
        if (!fleet.Hosts.TryGetValue(d.Host, out var host) || !fleet.Engines.ContainsKey(d.Engine))
        {
            return [new("host", false, $"{d.Host} and {d.Engine} are not both in the world")];
        }

        var down = world.Faults.IsDown(d.Host);
        return
        [
            new("host", !down, down ? $"host {d.Host} does not answer" : $"host {d.Host} answers"),
            new("name", !world.Has(d.Id), world.Has(d.Id) ? $"there is a database {d.Id} already" : $"no database is called {d.Id}"),
            new("engine", host.Engines.Count == 0 || host.Engines.Contains(d.Engine), $"{d.Engine} {(host.Engines.Count == 0 || host.Engines.Contains(d.Engine) ? "runs" : "does not run")} on {d.Host}"),
            new("room", host.FreeBytes is not { } free || free >= d.SizeBytes, host.FreeBytes is { } left ? $"{left / 1e9:0.#} GB are free on {d.Host}, {d.SizeBytes / 1e9:0.#} GB are needed" : "not stated"),
        ];
    }
}
