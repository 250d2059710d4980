using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Server.Features.Runs;
using NodaTime;

namespace Imbrek.Server.Tests.Acting;

/// <summary>
/// A family of drivers that does as a test tells it: an engine in memory with instances, what was applied to them and the highest fence heard of,
/// and for each kind of call what happens before it takes effect.
/// </summary>
internal sealed class ObedientDriver : IDriverFamily, IRestoreDriver, IBackupDriver
{
    private readonly Lock gate = new();

    /// <summary>Instances by "host/name".</summary>
    public Dictionary<string, Instance> Instances { get; } = [];

    /// <summary>Every call, in order: kind and what it was about.</summary>
    public List<string> Calls { get; } = [];

    /// <summary>What happens when a call comes, before it takes effect; may throw, wait, or never return.</summary>
    public Func<string, RunCall, CancellationToken, Task> Before { get; set; } = (_, _, _) => Task.CompletedTask;

    public sealed record Instance(Guid Owner, long Fence, IReadOnlyList<string> Applied, bool Open, bool Released);

    public string Name => "obedient";

    public bool Here { get; set; } = true;

    public bool StopsAtPositions => true;

    public bool RestoresInstances => false;

    public string QueryHelp => "";

    public IRestoreDriver Restore => this;

    public IBackupDriver Backup => this;

    /// <summary>Sets by the run that took them.</summary>
    public Dictionary<Guid, BackupSet> Taken { get; } = [];

    private readonly Dictionary<string, Instant> takenTo = [];

    public bool Knows(Core.Fleet.Database database) => true;

    /// <summary>How many act now: a simulated world would stand still for them.</summary>
    public int Engaged => Volatile.Read(ref engaged);

    private int engaged;

    public IDisposable Engage(string who)
    {
        Interlocked.Increment(ref engaged);
        return new Engagement(this);
    }

    private sealed class Engagement(ObedientDriver driver) : IDisposable
    {
        private int ended;

        public void Dispose()
        {
            if (Interlocked.Exchange(ref ended, 1) == 0)
            {
                Interlocked.Decrement(ref driver.engaged);
            }
        }
    }

    public Task<QueryRows> AskAsync(InstanceSpec instance, string query, int most, CancellationToken cancel) => throw new DriverException(DriverProblem.Refused, "it answers no queries");

    public Task<Moved> ProvisionAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) =>
        DoAsync("provision", call, instance, i => i ?? new Instance(instance.Owner, call.Fence, [], false, false), 0, cancel);

    public Task<Moved> RestoreSetAsync(RunCall call, InstanceSpec instance, SetCopy copy, CancellationToken cancel) =>
        DoAsync($"restore {copy.Set}@{copy.Store}", call, instance, i => i! with { Applied = [.. i.Applied, copy.Set.Value] }, 1000, cancel);

    public async Task<Moved> ApplyLogsAsync(RunCall call, InstanceSpec instance, IReadOnlyList<SetCopy> logs, LogStop? stop, Action<int> applied, CancellationToken cancel)
    {
        foreach (var log in logs)
        {
            bool done;
            lock (gate)
            {
                done = Instances.TryGetValue(Key(instance), out var there) && there.Applied.Contains(log.Set.Value);
            }

            if (!done)
            {
                await DoAsync($"log {log.Set}@{log.Store}", call, instance, i => i! with { Applied = [.. i.Applied, log.Set.Value] }, 10, cancel);
            }
        }

        return new Moved(2, 10, stop?.At);
    }

    public async Task<Moved> OpenAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) =>
        await DoAsync("open", call, instance, i => i! with { Open = true }, 0, cancel) with { Reached = Reached };

    public async Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, InstanceSpec instance, Instant wanted, CheckWish? wish, CancellationToken cancel)
    {
        await DoAsync("check", call, instance, i => i!, 0, cancel);
        return [new CheckResult("rows", true, "all there")];
    }

    public Task<Moved> ReleaseAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => DoAsync("release", call, instance, i => i! with { Released = true }, 0, cancel);

    public Task DiscardAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => DoAsync("discard", call, instance, _ => null, 0, cancel);

    /// <summary>The time of the engine.</summary>
    public Func<Instant> Clock { get; set; } = () => default;

    public async Task<Taken> TakeAsync(RunCall call, TakeSpec spec, CancellationToken cancel)
    {
        lock (gate)
        {
            Calls.Add($"take {spec.Kind}");
            if (Taken.TryGetValue(call.Run, out var before))
            {
                return new Taken(before, 0, 0);
            }
        }

        await Before($"take {spec.Kind}", call, cancel);
        lock (gate)
        {
            var now = Clock();
            var from = takenTo.GetValueOrDefault(spec.Database, now - Duration.FromMinutes(1));
            takenTo[spec.Database] = now;
            var set = new BackupSet
            {
                Id = new($"taken-{Taken.Count}"),
                Database = new(spec.Database),
                Kind = spec.Kind,
                FromPosition = from.ToUnixTimeSeconds(),
                ToPosition = now.ToUnixTimeSeconds(),
                CoversFrom = from,
                CoversTo = now,
                FinishedAt = now,
                DataBytes = 1000,
                RollForward = true,
                Copies = [new BackupCopy(new(spec.Store), now, null, null, 1000, CopyState.Good)],
            };
            return new Taken(Taken[call.Run] = set, 1, 1000);
        }
    }

    public Task<Taken> CopyAsync(RunCall call, Core.Fleet.Id<Core.Fleet.Database> database, Core.Fleet.Id<BackupSet> set, Core.Fleet.Id<Core.Fleet.Store> to, double? lockSeconds, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, "it copies nothing");

    public Task<IReadOnlyList<CheckResult>> SeesAsync(Core.Fleet.Id<Core.Fleet.Database> database, CancellationToken cancel) => Task.FromResult<IReadOnlyList<CheckResult>>([]);

    public Task<IReadOnlyList<Taken>> ReadBackAsync(RunCall call, Core.Fleet.Id<Core.Fleet.Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel) => Task.FromResult<IReadOnlyList<Taken>>([]);

    public Task<IReadOnlyList<Taken>> RemoveAsync(RunCall call, Core.Fleet.Id<Core.Fleet.Database> database, IReadOnlyList<SetCopy> copies, CancellationToken cancel) => Task.FromResult<IReadOnlyList<Taken>>([]);

    public Task<(string Found, Moved Moved)> CheckIntegrityAsync(RunCall call, Core.Fleet.Id<Core.Fleet.Database> database, CancellationToken cancel) => Task.FromResult(("nothing", Moved.Nothing));

    /// <summary>What an instance says it reached.</summary>
    public Instant Reached { get; set; }

    private static string Key(InstanceSpec i) => $"{i.Host}/{i.Name}";

    private async Task<Moved> DoAsync(string what, RunCall call, InstanceSpec spec, Func<Instance?, Instance?> effect, long bytes, CancellationToken cancel)
    {
        lock (gate)
        {
            Calls.Add(what);
            NotStale(call, spec);
        }

        await Before(what, call, cancel);
        lock (gate)
        {
            NotStale(call, spec);
            var there = Instances.GetValueOrDefault(Key(spec));
            if (there is null && what is not ("provision" or "discard"))
            {
                throw new DriverException(DriverProblem.Refused, $"there is no instance {spec.Name}");
            }

            if (effect(there) is { } now)
            {
                Instances[Key(spec)] = now with { Fence = call.Fence };
            }
            else
            {
                Instances.Remove(Key(spec));
            }
        }

        return new Moved(1, bytes);
    }

    private void NotStale(RunCall call, InstanceSpec spec)
    {
        if (Instances.TryGetValue(Key(spec), out var there) && (there.Owner != spec.Owner || there.Fence > call.Fence))
        {
            throw there.Owner != spec.Owner
                ? new DriverException(DriverProblem.Refused, "another run has an instance of that name")
                : new DriverException(DriverProblem.Stale, $"fence {call.Fence} is old, {there.Fence} was heard");
        }
    }
}
