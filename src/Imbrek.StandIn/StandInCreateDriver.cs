using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.StandIn.Engine;
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

                world.Bear(database, call.Run);
                return world.Now;
            },
            cancel);
        return new Moved((world.NowMs - began) / 1000.0, 0, at);
    }

    /// <inheritdoc/>
    public Task<NamesAt> NamesAsync(Id<Database> source, Id<Host> host, CancellationToken cancel)
    {
        lock (world.Gate)
        {
            return world.Faults.IsDown(host)
                ? throw new DriverException(DriverProblem.Unreachable, $"host {host} does not answer")
                : Task.FromResult(NamesAt(source, host));
        }
    }

    /// <inheritdoc/>
    public async Task<Moved> AdoptAsync(RunCall call, InstanceSpec instance, Database database, IReadOnlyList<MappedName> names, CancellationToken cancel)
    {
        var (began, restored) = (world.NowMs, new StandInDriver(world));
        var at = await world.Answers.ActAsync(call, CreateSeconds, () => Adopt(call, restored, instance, database, names), cancel);

        // What it was restored in is cleared away once the world remembers the database, also when it is asked again.
        await restored.DiscardAsync(call, instance, cancel);
        return new Moved((world.NowMs - began) / 1000.0, 0, at);
    }

    private Instant Adopt(RunCall call, StandInDriver restored, InstanceSpec instance, Database database, IReadOnlyList<MappedName> names)
    {
        if (world.HasMade(database.Id, call.Run))
        {
            return world.Now;
        }

        if (world.Faults.IsDown(instance.Host))
        {
            throw new DriverException(DriverProblem.Unreachable, $"host {instance.Host} does not answer");
        }

        if (database.Host != instance.Host || restored.Require(call, instance) is not { Open: true } || restored.LoadImage(instance) is not { } image)
        {
            throw new DriverException(DriverProblem.Refused, $"{instance.Name} on {instance.Host} is not open");
        }

        if (NameMapping.WhyNot(NamesAt(instance.Database, instance.Host), names) is { } whyNot)
        {
            throw new DriverException(DriverProblem.Refused, whyNot);
        }

        world.Bear(database, call.Run, names, image);
        return world.Now;
    }

    private NamesAt NamesAt(Id<Database> source, Id<Host> host) =>
        new(NamesHeld.By(world[source]), [.. world.Databases.Where(d => d.Database.Host == host).SelectMany(d => NamesHeld.By(d).Select(n => new TakenName(n.Kind, n.Name, d.Database.Name)))]);

    /// <inheritdoc/>
    public Task DropAsync(RunCall call, Id<Database> database, CancellationToken cancel) => world.Answers.ActAsync(
        call,
        HandSeconds,
        () =>
        {
            world.Unmake(database, call.Run);
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
