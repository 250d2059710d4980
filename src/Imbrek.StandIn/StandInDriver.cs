using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Replication;
using Imbrek.StandIn.Storage;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>Carries restores out in the simulated world: reads real bytes, rebuilds real pages, takes the world's time.</summary>
/// <param name="world">The world.</param>
public sealed class StandInDriver(World world) : IRestoreDriver
{
    /// <summary>Seconds to stop what is there, move it aside, and start what was restored in its place.</summary>
    private const double PlaceSeconds = 5;

    /// <summary>Seconds to change a setting.</summary>
    private const double SetSeconds = 2;

    private readonly HostSettings settings = new(world);

    /// <inheritdoc/>
    public async Task<Moved> ProvisionAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        if (Load(instance) is not null)
        {
            Require(call, instance);
            return Moved.Nothing;
        }

        var database = world.Fleet.DatabaseById[instance.Database];
        var host = world.Fleet.Hosts[instance.Host];
        var taken = Instances(host.Id.Value).Where(i => !i.Mounted).Sum(i => world.Fleet.DatabaseById.TryGetValue(new(i.Database), out var d) ? d.SizeBytes : 0);
        if (!Mounts(instance) && host.FreeBytes - taken < database.SizeBytes)
        {
            throw new DriverException(DriverProblem.NoRoom, $"host {host.Id} has {host.FreeBytes - taken} bytes left, {database.SizeBytes} are needed");
        }

        var began = world.NowMs;
        var ended = await world.After(Engine(instance).ProvisionSeconds * Noise(instance, 1), cancel);
        Save(call, instance, new InstanceFile(instance.Database.Value, instance.Owner, call.Fence, [], null, false, false, Mounted: Mounts(instance)), null);
        return new Moved((ended - began) / 1000.0, 0);
    }

    /// <inheritdoc/>
    public async Task<Moved> RestoreSetAsync(RunCall call, InstanceSpec instance, SetCopy copy, CancellationToken cancel)
    {
        var file = Require(call, instance);
        if (file.Applied.Contains(copy.Set.Value))
        {
            return Told(instance, 0, 0);
        }

        var began = world.NowMs;
        var set = Known(instance, copy);
        var engine = Engine(instance);
        var host = world.Fleet.Hosts[instance.Host];
        var store = world.Fleet.Stores[copy.Store];
        var onSameArray = set.Kind == SetKind.Snapshot && store.Array is { } a && host.Array == a;
        if (Mounts(instance) && store.Offline)
        {
            throw new DriverException(DriverProblem.Refused, $"{store.Id} is out of reach of any engine: {copy.Set} cannot be opened where it lies");
        }

        if (set.Kind == SetKind.Export)
        {
            settings.MustBe(instance.Host, engine.LoadNeeds, "for an export to be loaded");
        }

        onSameArray |= Mounts(instance);
        var work = onSameArray ? 0 : set.DataBytes / Math.Min(host.WriteBytesPerSecond, engine.RestoreBytesPerSecond);
        var (ended, bytes) = await Move(instance, copy, set, engine.PerSetSeconds, work, onSameArray, 1, cancel);
        if (set.Kind == SetKind.Export)
        {
            ended = await world.After(set.DataBytes / engine.IndexBytesPerSecond, cancel);
        }

        var image = Restore(instance, copy, content => SetContent.RestorePages(content, LoadImage(instance)));
        Save(call, instance, file with { Applied = [.. file.Applied, copy.Set.Value], ReachedMs = set.CoversTo.ToUnixTimeMilliseconds() }, image);
        return Told(instance, (ended - began) / 1000.0, bytes);
    }

    /// <inheritdoc/>
    public async Task<Moved> ApplyLogsAsync(RunCall call, InstanceSpec instance, IReadOnlyList<SetCopy> logs, LogStop? stop, Action<int> applied, CancellationToken cancel)
    {
        var file = Require(call, instance);
        var image = LoadImage(instance) ?? throw new DriverException(DriverProblem.Refused, "log cannot be applied to an empty instance");
        var done = file.Applied.ToHashSet();
        var engine = Engine(instance);
        var (began, ended, bytes, reached) = (world.NowMs, world.NowMs, 0L, file.ReachedMs);
        string? partly = null;
        for (var i = 0; i < logs.Count; i++)
        {
            if (!done.Add(logs[i].Set.Value))
            {
                continue;
            }

            var set = Known(instance, logs[i]);
            if (set.FromPosition > image.Position)
            {
                throw new DriverException(DriverProblem.Refused, $"{set.Id} starts at {set.FromPosition}, the instance is at {image.Position}: log is missing between them");
            }

            var upTo = i == logs.Count - 1 && stop is { } s ? Instant.Min(s.At, set.CoversTo) : set.CoversTo;
            var whole = (set.CoversTo - set.CoversFrom!.Value).TotalSeconds;
            var from = Instant.Max(set.CoversFrom.Value, Instant.FromUnixTimeMilliseconds(image.Time));
            var fraction = whole <= 0 ? 1 : Math.Clamp((upTo - from).TotalSeconds / whole, 0, 1);
            try
            {
                (ended, var read) = await Move(instance, logs[i], set, engine.PerSetSeconds, fraction * set.DataBytes / engine.ReplayBytesPerSecond, false, fraction, cancel);
                bytes += read;
                Restore(instance, logs[i], content =>
                {
                    SetContent.ApplyLog(content, image, upTo.ToUnixTimeMilliseconds(), stop?.Before ?? long.MaxValue);
                    return image;
                });
                reached = Math.Max(reached ?? 0, upTo.ToUnixTimeMilliseconds());

                // Of one in which it stopped the rest may be wanted later.
                partly = upTo < set.CoversTo || stop?.Before <= set.ToPosition ? logs[i].Set.Value : null;
            }
            catch (DriverException)
            {
                // What is applied stays applied; the run may go on with another copy of this log.
                done.Remove(logs[i].Set.Value);
                Save(call, instance, file with { Applied = [.. done], ReachedMs = reached }, image);
                throw;
            }

            applied(i + 1);
            if (i % 25 == 24)
            {
                Save(call, instance, file with { Applied = [.. done], ReachedMs = reached }, image);
            }
        }

        Save(call, instance, file with { Applied = [.. done.Where(d => d != partly)], Partly = partly, ReachedMs = reached }, image);
        return Told(instance, (ended - began) / 1000.0, bytes);
    }

    /// <inheritdoc/>
    public async Task<Moved> OpenAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var file = Require(call, instance);
        var (began, ended) = (world.NowMs, world.NowMs);
        if (!file.Open)
        {
            ended = await world.After(Engine(instance).OpenSeconds * Noise(instance, 2), cancel);
            Save(call, instance, file with { Open = true }, null);
        }

        return Told(instance, (ended - began) / 1000.0, 0);
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, InstanceSpec instance, Instant wanted, CheckWish? wish, CancellationToken cancel)
    {
        Require(call, instance);
        var image = LoadImage(instance) ?? throw new DriverException(DriverProblem.Refused, "the instance holds nothing to check");
        var all = Math.Max(1, world.Fleet.DatabaseById[instance.Database].CheckSeconds);
        var within = Math.Min(all, wish?.WithinSeconds ?? all);
        await world.After(within * Noise(instance, 3), cancel);
        PageImage expected;
        NamedChange[] named;
        lock (world.Gate)
        {
            var live = world[instance.Database];
            expected = live.StateAt(wanted.ToUnixTimeMilliseconds(), BranchOf(instance, live));
            named = [.. live.Named.Where(n => n.Time <= world.Now.ToUnixTimeMilliseconds())];
        }

        var results = new List<CheckResult>
        {
            within < all ? Sample(image, expected, within / all)
                : new("digest", image.Digest() == expected.Digest(), $"position {image.Position}: {image.Digest()[..16]}…, computed independently {expected.Digest()[..16]}…"),
            new("row count", image.Rows.Length == expected.Rows.Length, $"{image.Rows.Length} rows in {image.Pages} pages, expected {expected.Rows.Length}"),
        };
        foreach (var change in named.OrderByDescending(n => n.Time).Take(6))
        {
            var there = image.Markers.Exists(m => m.Name == change.Name);
            var before = expected.Markers.Exists(m => m.Name == change.Name);
            results.Add(new(
                $"marker \"{change.Name}\"",
                there == before,
                $"{(there ? "present" : "absent")}, {(before ? "committed before" : "committed after")} the instant restored to"));
        }

        if (!string.IsNullOrWhiteSpace(wish?.Query))
        {
            results.Add(Ask(image, expected, wish.Query.Trim()));
        }

        return results;
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<CheckResult>> MaskAsync(RunCall call, InstanceSpec instance, IReadOnlyList<string> statements, CancellationToken cancel)
    {
        var file = Require(call, instance);
        if (file.Released)
        {
            throw new DriverException(DriverProblem.Refused, $"somebody is let into {instance.Name} already; nothing is masked behind their backs");
        }

        var image = LoadImage(instance) ?? throw new DriverException(DriverProblem.Refused, "the instance holds nothing to mask");
        await world.After(Math.Max(1, world.Fleet.DatabaseById[instance.Database].CheckSeconds) * Noise(instance, 4), cancel);
        var results = statements.Select(s => WorldQuery.Change(s, image) is { } said
            ? new CheckResult($"mask \"{s}\"", true, said)
            : throw new DriverException(DriverProblem.Refused, $"\"{s}\" cannot be carried out; the stand-in knows: {WorldQuery.Changes}")).ToArray();
        Save(call, instance, file, image);
        return results;
    }

    /// <inheritdoc/>
    public async Task<LetIn> LetInAsync(RunCall call, InstanceSpec instance, IReadOnlyList<Id<Host>> hosts, bool readOnly, CancellationToken cancel)
    {
        var file = Require(call, instance) with { Released = true, Hosts = [.. hosts.Select(h => h.Value)], ReadOnly = readOnly };
        Save(call, instance, file, null);
        await world.After(hosts.Count + 1, cancel);
        var results = new List<CheckResult>();
        foreach (var host in hosts)
        {
            results.Add(WhyNotFrom(file, instance, host) is { } why
                ? throw new DriverException(DriverProblem.Unreachable, $"{host} should get in and does not: {why}")
                : new($"from {host}", true, "gets in"));
        }

        // The one whose copy it is, and one that has nothing to do with it.
        foreach (var host in world.Fleet.HostList.Select(h => h.Id).Except([.. hosts, instance.Host]).OrderBy(h => h != world.Fleet.DatabaseById[instance.Database].Host).Take(2))
        {
            results.Add(new($"from {host}", WhyNotFrom(file, instance, host) is not null, WhyNotFrom(file, instance, host) is { } why ? $"is kept out: {why}" : "gets in, and should not"));
        }

        return new(results);
    }

    /// <inheritdoc/>
    public Task<QueryRows> AskAsync(InstanceSpec instance, string query, int most, CancellationToken cancel)
    {
        if (Load(instance) is not { Open: true } there || there.Owner != instance.Owner || LoadImage(instance) is not { } image)
        {
            throw new DriverException(DriverProblem.Refused, $"{instance.Name} on {instance.Host} is not open");
        }

        if (world.Faults.IsDown(instance.Host))
        {
            throw new DriverException(DriverProblem.Unreachable, $"host {instance.Host} does not answer");
        }

        return Task.FromResult(WorldQuery.Rows(query, image, most) ?? throw new DriverException(DriverProblem.Refused, $"the stand-in cannot answer that; it knows: {WorldQuery.Help}"));
    }

    /// <inheritdoc/>
    public async Task<string> SetAsync(RunCall call, Id<Host> host, string setting, string value, CancellationToken cancel)
    {
        await ReachedAsync(host, cancel);
        var was = settings.Set(call, host, setting, value);
        world.SettingChanged(host);
        return was;
    }

    /// <inheritdoc/>
    public async Task<string> SetBackAsync(RunCall call, Id<Host> host, string setting, CancellationToken cancel)
    {
        await ReachedAsync(host, cancel);
        var now = settings.SetBack(call, host, setting);
        world.SettingChanged(host);
        return now;
    }

    private async Task ReachedAsync(Id<Host> host, CancellationToken cancel)
    {
        await world.After(SetSeconds, cancel);
        if (world.Faults.IsDown(host))
        {
            throw new DriverException(DriverProblem.Unreachable, $"host {host} does not answer");
        }
    }

    /// <summary>Why a host does not get into an instance; null when it does.</summary>
    private string? WhyNotFrom(InstanceFile file, InstanceSpec instance, Id<Host> host)
    {
        var (from, to) = (world.Fleet.Hosts[host].Site, world.Fleet.Hosts[instance.Host].Site);
        return !file.Released || file.Hosts?.Contains(host.Value) == false ? "it is not named"
            : world.Faults.IsDown(host) ? "it is down"
            : world.Faults.IsDown(instance.Host) ? $"{instance.Host} is down"
            : from != to && world.Fleet.LinkBetween(from, to) is null ? $"nothing links {from} and {to}"
            : from != to && world.Faults.IsDown(from, to) ? $"the link between {from} and {to} is down"
            : null;
    }

    /// <inheritdoc/>
    public Task<Moved> ReleaseAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        Save(call, instance, Require(call, instance) with { Released = true }, null);
        return Task.FromResult(Told(instance, 0, 0));
    }

    /// <inheritdoc/>
    public async Task<Promotion> PlaceAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var began = world.NowMs;
        world.Answers.Enter(call);
        if (world.Answers.Told(call) is { } told)
        {
            // What it stood in beforehand is cleared away when it is asked again, if it was not.
            await DiscardAsync(call, instance, cancel);
            return PromotedOnce.Read(told);
        }

        Require(call, instance);
        var made = await PromotedOnce.DoAsync(
            world,
            call,
            PlaceSeconds,
            () =>
            {
                var d = world[instance.Database];
                world.Live(d);
                if (Take(instance) is not var (image, _))
                {
                    throw new DriverException(DriverProblem.Refused, $"there is nothing on {instance.Host} to put in the place of {instance.Database}");
                }

                var loaded = Load(instance)!.Applied is [var only] && d.Sets.TryGetValue(only, out var dump) && dump.Kind == SetKind.Export;
                if (instance.Host != d.Database.Host && !loaded)
                {
                    settings.MustBe(d.Database.Host, Engine(instance).MoveNeeds, $"to know that nothing of {instance.Database} is missing");
                }

                // Put back, it may leave behind what was written since; moved, it takes all of it along.
                return instance.Host == d.Database.Host || (d.IsStopped && image.Position == d.Image.Position)
                    ? world.Replicas.PutBack(d, image, BranchOf(instance, d) ?? d.Branch, began, instance.Host, loaded)
                    : throw new DriverException(DriverProblem.Refused, $"{instance.Name} on {instance.Host} does not hold all that was written on {d.Database.Host}, or that is still written to");
            },
            cancel);
        await DiscardAsync(call, instance, cancel);
        return made;
    }

    /// <inheritdoc/>
    public Task DiscardAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var folder = FolderOf(instance.Host.Value, instance.Name);
        if (Directory.Exists(folder) && (Load(instance) is not { } there || there.Owner == instance.Owner))
        {
            if (Load(instance) is not null)
            {
                Require(call, instance);
            }

            Directory.Delete(folder, recursive: true);
        }

        return Task.CompletedTask;
    }

    /// <summary>What an instance holds, and up to which instant; null when there is none.</summary>
    internal (PageImage Image, long ReachedMs)? Take(InstanceSpec instance) =>
        Load(instance) is { ReachedMs: { } reached } && LoadImage(instance) is { } image ? (image, reached) : null;

    /// <summary>Makes an open instance of what is given.</summary>
    internal void Put(RunCall call, InstanceSpec instance, PageImage image, long reachedMs, int branch) =>
        Save(call, instance, new InstanceFile(instance.Database.Value, instance.Owner, call.Fence, [], reachedMs, true, false, branch), image);

    /// <summary>Leaves a copy in the world as history made it: it holds the database as it was at an instant, and the named get in.</summary>
    public void Leave(RunCall call, InstanceSpec instance, Instant at, IReadOnlyList<Id<Host>> hosts)
    {
        lock (world.Gate)
        {
            var ms = at.ToUnixTimeMilliseconds();
            Put(call, instance, world[instance.Database].StateAt(ms, 1), ms, 1);
            Save(call, instance, Load(instance)! with { Released = true, Hosts = [.. hosts.Select(h => h.Value)] }, null);
        }
    }

    /// <summary>Compares as many pages as there is time for, spread evenly over all.</summary>
    private static CheckResult Sample(PageImage image, PageImage expected, double share)
    {
        var pages = Math.Min(image.Pages, expected.Pages);
        var many = Math.Clamp((int)(pages * share), 1, pages);
        var differ = Enumerable.Range(0, many).Select(i => (int)((long)i * pages / many))
            .Count(p => !image.Rows.AsSpan(p * PageImage.RowsPerPage, PageImage.RowsPerPage).SequenceEqual(expected.Rows.AsSpan(p * PageImage.RowsPerPage, PageImage.RowsPerPage)));
        return new("digest of samples", differ == 0, differ == 0 ? $"{many} of {pages} pages are as computed independently; for the others there was no time" : $"{differ} of {many} pages looked at are not as computed independently");
    }

    private static CheckResult Ask(PageImage image, PageImage expected, string query)
    {
        var name = $"query \"{query}\"";
        if (WorldQuery.Count(query, image) is not { } seen)
        {
            return new(name, false, $"the stand-in counts: {WorldQuery.Counts}");
        }

        var wanted = WorldQuery.Count(query, expected)!.Value;
        return new(name, seen == wanted, $"answers {seen}, computed independently {wanted}");
    }

    /// <summary>Whether the sets of an instance are opened where they lie.</summary>
    private bool Mounts(InstanceSpec instance) => instance.Mounted && Engine(instance).MountsSets;

    /// <summary>Takes the world's time for one set; says when it was there, and how many bytes were read for it.</summary>
    private async Task<(long Ended, long Bytes)> Move(InstanceSpec instance, SetCopy copy, BackupSet set, double perSet, double workSeconds, bool inPlace, double part, CancellationToken cancel)
    {
        var ended = await world.After(perSet * Noise(instance, (long)(Draw.Of(5, copy.Set.Value) >> 1)), cancel);
        if (inPlace)
        {
            return (ended, 0);
        }

        var stored = set.Copies.First(c => c.Store == copy.Store).StoredBytes;
        var cap = workSeconds <= 0 ? double.MaxValue : stored / workSeconds;
        return (await world.Copies.FetchAsync(copy, instance, stored, cap, cancel), (long)(stored * part));
    }

    /// <summary>Reads a copy for an instance, opens it where it is encrypted, and has something done with it; what is damaged is marked.</summary>
    internal PageImage Restore(InstanceSpec instance, SetCopy copy, Func<byte[], PageImage> with)
    {
        try
        {
            lock (world.Gate)
            {
                var content = world.Copies.Read(instance.Database, copy);
                return with(Known(instance, copy).Key is { } key ? SetEncryption.Decrypt(content, world.Seed, key, World.Key(instance.Database, copy.Set)) : content);
            }
        }
        catch (InvalidDataException e)
        {
            world.Copies.Judge(instance.Database, copy.Set, copy.Store, CopyState.Damaged);
            throw new DriverException(DriverProblem.CopyDamaged, e.Message, copy);
        }
        catch (FileNotFoundException e)
        {
            throw new DriverException(DriverProblem.CopyUnreachable, e.Message, copy);
        }
    }

    /// <summary>A set that an instance can read: it is there, and its host has the key.</summary>
    internal BackupSet Known(InstanceSpec instance, SetCopy copy)
    {
        lock (world.Gate)
        {
            if (!world[instance.Database].Sets.TryGetValue(copy.Set.Value, out var set))
            {
                throw new DriverException(DriverProblem.CopyUnreachable, $"{copy.Set} is no longer there", copy);
            }

            return set.Key is not { } key || world.Fleet.Hosts[instance.Host].HasKey(key) != false
                ? set
                : throw new DriverException(DriverProblem.Refused, $"{copy.Set} is encrypted with key {key}, which is not on {instance.Host}");
        }
    }

    /// <summary>The branch that what an instance holds was taken on: of the last set restored into it, or of what it is a copy of.</summary>
    private int? BranchOf(InstanceSpec instance, SimulatedDatabase live) =>
        Load(instance) is { } there ? (there.Partly ?? (there.Applied is [.., var applied] ? applied : null)) is { } last && live.Sets.TryGetValue(last, out var set) ? set.Branch : there.Branch : null;

    private EngineProfile Engine(InstanceSpec instance) =>
        world.Fleet.Engines[world.Fleet.DatabaseById[instance.Database].Engine];

    /// <summary>Real machines are not exact: between 5 % faster and 15 % slower than their profile.</summary>
    internal static double Noise(InstanceSpec instance, long what) =>
        0.95 + (0.2 * Draw.Unit(Draw.Of(17, instance.Name), what));

    /// <summary>What the instance itself says: up to when it holds what was committed, and at which position.</summary>
    private Moved Told(InstanceSpec instance, double seconds, long bytes) => new(
        seconds, bytes, Load(instance)?.ReachedMs is { } ms ? Instant.FromUnixTimeMilliseconds(ms) : null, LoadImage(instance)?.Position);

    internal sealed record InstanceFile(string Database, Guid Owner, long Fence, IReadOnlyList<string> Applied, long? ReachedMs, bool Open, bool Released, int? Branch = null, bool Mounted = false, IReadOnlyList<string>? Hosts = null, bool ReadOnly = false, string? Version = null, bool NoStatistics = false, IReadOnlyDictionary<int, string>? Parts = null, string? Partly = null);

    private string FolderOf(string host, string name) => Path.Combine(world.Folder, "instances", host, name);

    private IEnumerable<InstanceFile> Instances(string host)
    {
        var folder = Path.Combine(world.Folder, "instances", host);
        return Directory.Exists(folder)
            ? Directory.GetDirectories(folder).Select(d => Read(Path.Combine(d, "instance.json"))).OfType<InstanceFile>()
            : [];
    }

    internal InstanceFile? Load(InstanceSpec instance) =>
        Read(Path.Combine(FolderOf(instance.Host.Value, instance.Name), "instance.json"));

    /// <summary>The instance, when the call may touch it; its fence is the call's from now on.</summary>
    internal InstanceFile Require(RunCall call, InstanceSpec instance)
    {
        var there = Load(instance) ?? throw new DriverException(DriverProblem.Refused, $"there is no instance {instance.Name} on {instance.Host}");
        if (there.Owner != instance.Owner)
        {
            throw new DriverException(DriverProblem.Refused, $"host {instance.Host} already has an instance named {instance.Name}");
        }

        NotStale(call, instance, there);
        if (there.Fence < call.Fence)
        {
            there = there with { Fence = call.Fence };
            Save(call, instance, there, null);
        }

        return there;
    }

    private static void NotStale(RunCall call, InstanceSpec instance, InstanceFile? there)
    {
        if (there is not null && there.Fence > call.Fence)
        {
            throw new DriverException(DriverProblem.Stale, $"instance {instance.Name} has been taken over with fence {there.Fence}; this call carries {call.Fence}");
        }
    }

    private static InstanceFile? Read(string path)
    {
        try
        {
            return File.Exists(path) ? JsonSerializer.Deserialize<InstanceFile>(File.ReadAllBytes(path)) : null;
        }
        catch (JsonException)
        {
            // Of an earlier version: nobody owns it, whoever wants its place may clear it.
            return null;
        }
    }

    internal PageImage? LoadImage(InstanceSpec instance)
    {
        var path = Path.Combine(FolderOf(instance.Host.Value, instance.Name), "pages");
        return File.Exists(path) ? SetContent.RestorePages(File.ReadAllBytes(path), null) : null;
    }

    /// <summary>Pages first, then the note of what they hold: a crash between the two repeats a set, which changes nothing.</summary>
    internal void Save(RunCall call, InstanceSpec instance, InstanceFile file, PageImage? image)
    {
        // While the call took its time another process may have taken the instance over.
        NotStale(call, instance, Load(instance));
        var folder = FolderOf(instance.Host.Value, instance.Name);
        Directory.CreateDirectory(folder);
        if (image is not null)
        {
            Replace(Path.Combine(folder, "pages"), SetContent.OfPages(image, long.MinValue));
        }

        Replace(Path.Combine(folder, "instance.json"), JsonSerializer.SerializeToUtf8Bytes(file));
    }

    internal static void Replace(string path, byte[] content)
    {
        File.WriteAllBytes(path + ".new", content);
        File.Move(path + ".new", path, overwrite: true);
    }
}
