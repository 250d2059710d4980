using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Replication;
using Imbrek.StandIn.Storage;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>Seeds, stops, mends, proves, looks at and promotes replicas of the simulated world, for whoever calls from outside.</summary>
/// <param name="world">The world.</param>
public sealed class StandInReplicateDriver(World world) : IReplicateDriver
{
    internal const string KeptOut = "it is kept out while a replica takes over";
    private const double LookSeconds = 0.5, HandSeconds = 2, MarkerWithinSeconds = 6 * 3600;

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> TryAsync(RunCall call, Replica replica, CancellationToken cancel) => DoAsync<IReadOnlyList<CheckResult>>(call, HandSeconds, () => Try(replica), cancel);

    /// <inheritdoc/>
    public async Task<Moved> CopyAsync(RunCall call, Id<Replica> replica, CancellationToken cancel)
    {
        var began = world.NowMs;
        if (await DoAsync(call, HandSeconds, () => GoesOn(Known(replica)), cancel) is { } from)
        {
            return from;
        }

        var (image, bytes, uses, cap, branch) = await DoAsync(call, 0, () => Snapshot(Known(replica)), cancel);
        await MoveAsync(call, uses, bytes, cap, () => Seed(Known(replica), image, began, branch), cancel);
        return new Moved((world.NowMs - began) / 1000.0, (long)bytes, Instant.FromUnixTimeMilliseconds(began), image.Position);
    }

    /// <inheritdoc/>
    public async Task<Moved> JoinAsync(RunCall call, Id<Replica> replica, InstanceSpec restored, CancellationToken cancel)
    {
        var began = world.NowMs;
        var instances = new StandInDriver(world);
        var (position, to) = await DoAsync(
            call,
            HandSeconds,
            () =>
            {
                var r = Known(replica);
                if (instances.Take(restored) is not var (image, reached) || r.Unusable is null)
                {
                    // Joined before, and the instance is the replica now.
                    return r.Unusable is null ? (r.AppliedPosition, (long)r.AppliedTo) : throw new DriverException(DriverProblem.Refused, $"there is no instance {restored.Name} on {restored.Host} to join");
                }

                if (r.Replica.KeepLogSeconds is { } keep && world.NowMs - reached > keep * 1000)
                {
                    throw new DriverException(DriverProblem.Refused, $"{restored.Name} was brought to {Instant.FromUnixTimeMilliseconds(reached)}, and its source keeps log for {keep:0} s");
                }

                Seed(r, image, reached, r.Source.Branch);
                return (image.Position, reached);
            },
            cancel);
        await instances.DiscardAsync(call, restored, cancel);
        return new Moved((world.NowMs - began) / 1000.0, 0, Instant.FromUnixTimeMilliseconds(to), position);
    }

    /// <inheritdoc/>
    public async Task<Moved> MendAsync(RunCall call, Id<Replica> replica, IReadOnlyList<SetCopy> logs, CancellationToken cancel)
    {
        var (began, bytes, instances) = (world.NowMs, 0L, new StandInDriver(world));
        var r = Known(replica);
        var image = await DoAsync(call, LookSeconds, () => SetContent.RestorePages(SetContent.OfPages(r.Image, long.MinValue), null), cancel);
        var (to, instance) = (r.AppliedTo, new InstanceSpec(replica.Value, r.Replica.Database, r.Replica.Place.Hosts[0], call.Run));
        foreach (var copy in logs)
        {
            var set = instances.Known(instance, copy);
            var stored = set.Copies.First(c => c.Store == copy.Store).StoredBytes;
            await world.Copies.FetchAsync(copy, instance, stored, r.Replica.ApplyRateIn(world.Fleet), cancel);
            bytes += stored;
            if (set.FromPosition > image.Position)
            {
                throw new DriverException(DriverProblem.Refused, $"{set.Id} starts at {set.FromPosition}, the replica is at {image.Position}: log is missing between them");
            }

            instances.Restore(instance, copy, content =>
            {
                SetContent.ApplyLog(content, image, long.MaxValue);
                return image;
            });
            to = Math.Max(to, set.CoversTo.ToUnixTimeMilliseconds());
        }

        await DoAsync(
            call,
            LookSeconds,
            () =>
            {
                var now = Known(replica);
                if (now.Unusable is not null)
                {
                    Seed(now, image, to, now.Branch);
                }

                return 0;
            },
            cancel);
        return new Moved((world.NowMs - began) / 1000.0, bytes, Instant.FromUnixTimeMilliseconds((long)to), image.Position);
    }

    /// <inheritdoc/>
    public async Task<Moved> ShipAsync(RunCall call, Id<Replica> replica, ShippingStep step, double? keepSeconds, CancellationToken cancel)
    {
        var began = world.NowMs;
        var lot = await DoAsync(call, 0, () => Staged(replica).Begin(step, out var whyNot) ?? (whyNot is null ? null : throw new DriverException(DriverProblem.Unreachable, whyNot)), cancel);
        if (lot is null)
        {
            return Moved.Nothing;
        }

        if (lot.Link is { } link)
        {
            await MoveAsync(call, [world.Network[link]], lot.Bytes, double.PositiveInfinity, () => { }, cancel);
        }

        await DoAsync(call, Staged(replica).TakesSeconds(step), () => Staged(replica).Finish(step, lot, keepSeconds) is { } whyNot ? throw new DriverException(DriverProblem.Unreachable, whyNot) : 0, cancel);
        return new Moved((world.NowMs - began) / 1000.0, (long)lot.Bytes, At(lot.To));
    }

    private StagedFeed Staged(Id<Replica> replica) => Known(replica).Feed as StagedFeed ?? throw new DriverException(DriverProblem.Refused, $"nothing is shipped to {replica} in stages");

    /// <inheritdoc/>
    public Task<ReplicaLook> LookAsync(RunCall call, Id<Replica> replica, CancellationToken cancel) => DoAsync(
        call,
        LookSeconds,
        () =>
        {
            var r = Known(replica);
            world.Replicas.Look(r);
            return new ReplicaLook(
                world.Now, At(r.Feed.ReceivedTo(world.NowMs)), At(r.AppliedTo), (long)r.Pending, r.ReceivedPosition, r.Unusable ?? r.Feed.Why ?? r.WhyNotApplying(world.NowMs), r.Unusable is not null);
        },
        cancel);

    /// <inheritdoc/>
    public Task<ReplicaPositions> PositionsAsync(Id<Replica> replica, CancellationToken cancel) => Task.FromResult(
        world.Replicas.PositionsOf(replica) ?? throw new DriverException(DriverProblem.Unreachable, $"replica {replica} is not there yet"));

    /// <inheritdoc/>
    public async Task<IReadOnlyList<CheckResult>> ProveAsync(RunCall call, Id<Replica> replica, CancellationToken cancel)
    {
        // The same run writes its marker once, whoever carries it out.
        var name = $"replica {replica} proves itself, {call.Run.ToString()[^12..]}";
        var written = await DoAsync(
            call,
            LookSeconds,
            () => Known(replica).Source.Named.FirstOrDefault(n => n.Name == name)?.Time is { } at ? Instant.FromUnixTimeMilliseconds(at) : world.WriteMarker(Known(replica).Replica.Database, name),
            cancel);
        var results = new List<CheckResult>();
        while (true)
        {
            var (arrived, applied) = await DoAsync(
                call,
                LookSeconds,
                () =>
                {
                    var r = Known(replica);
                    world.Replicas.Look(r);
                    return (r.Image.Markers.Exists(m => m.Name == name) || r.Waiting.Any(t => t.Marker == name), r.Image.Markers.Exists(m => m.Name == name));
                },
                cancel);
            var waited = (world.Now - written).TotalSeconds;
            var held = Known(replica).Replica.DelaySeconds;
            if ((arrived && (applied || held > 0)) || waited > MarkerWithinSeconds)
            {
                results.Add(new("marker", arrived, arrived
                    ? $"written at the primary, {(applied ? "read here" : "received here and held back by its delay")} {Math.Max(0, waited):0.#} s later"
                    : $"written at the primary, not here {waited:0} s later"));
                break;
            }

            await world.After(held > 0 || Known(replica).Replica.Mode == ReplicaMode.Shipped ? 15 : 1, cancel);
        }

        var same = world.Replicas.Compare(replica);
        results.Add(new("digest", same.Same, $"position {same.Position}: {same.Here[..16]}…, at its source {same.AtSource[..16]}…"));
        var refused = Known(replica).TryWrite();
        results.Add(new("write", refused is null == (Known(replica).Replica.Mode == ReplicaMode.BothActive), refused is null ? "a write here was taken: both sides take them" : $"a write here was refused: {refused}"));
        return results;
    }

    /// <inheritdoc/>
    public Task<Moved> HoldAsync(RunCall call, Id<Replica> replica, CancellationToken cancel) => SwitchAsync(call, replica, f => f.Held = true, cancel);

    /// <inheritdoc/>
    public Task<Moved> ResumeAsync(RunCall call, Id<Replica> replica, CancellationToken cancel) => SwitchAsync(call, replica, f => (f.Held, f.WaitsForWord) = (false, false), cancel);

    /// <inheritdoc/>
    /// <remarks>The world lets go of it when the fleet does.</remarks>
    public Task EndAsync(RunCall call, Replica replica, CancellationToken cancel) => Task.CompletedTask;

    /// <inheritdoc/>
    public async Task<Moved> OpenCopyAsync(RunCall call, Id<Replica> replica, InstanceSpec instance, Instant? at, CancellationToken cancel)
    {
        var began = world.NowMs;
        var instances = new StandInDriver(world);
        if (instances.Take(instance) is { } there)
        {
            return new Moved(0, 0, Instant.FromUnixTimeMilliseconds(there.ReachedMs), there.Image.Position);
        }

        // Blocks of the same array are not moved; elsewhere they are read over the link as they are asked for.
        var seconds = world.Fleet.Engines[world.Fleet.DatabaseById[instance.Database].Engine].OpenSeconds;
        var (reached, position) = await DoAsync(
            call,
            seconds,
            () =>
            {
                var r = Known(replica);
                world.Replicas.Look(r);
                if (r.Unusable is { } why)
                {
                    throw new DriverException(DriverProblem.Refused, why);
                }

                var (first, last) = (r.AppliedTo - (r.Replica.RewindSeconds * 1000), Math.Max(r.AppliedTo, r.Feed.ReceivedTo(world.NowMs)));
                var wanted = at?.ToUnixTimeMilliseconds() ?? (long)r.AppliedTo;
                if (wanted < Math.Floor(first) || wanted > last)
                {
                    throw new DriverException(DriverProblem.Refused, $"it can be opened from {At(first)} to {At(last)}");
                }

                var image = at is null ? SetContent.RestorePages(SetContent.OfPages(r.Image, long.MinValue), null) : r.Source.StateAt(wanted, r.Branch);
                instances.Put(call, instance, image, wanted, r.Branch);
                return (wanted, image.Position);
            },
            cancel);
        return new Moved((world.NowMs - began) / 1000.0, 0, Instant.FromUnixTimeMilliseconds(reached), position);
    }

    /// <inheritdoc/>
    public Task<string> FenceAsync(RunCall call, Id<Database> database, CancellationToken cancel) => DoAsync(
        call,
        HandSeconds,
        () =>
        {
            var d = world[database];
            world.Live(d);
            var down = world.Faults.IsDown(d.Database.Host);
            d.Stop(world.NowMs, KeptOut);
            return down ? $"host {d.Database.Host} does not answer; its rights to write were withdrawn at the witness" : $"the database on {d.Database.Host} takes no more writes";
        },
        cancel);

    /// <inheritdoc/>
    public Task LetInAsync(RunCall call, Id<Database> database, CancellationToken cancel) => DoAsync(
        call,
        HandSeconds,
        () =>
        {
            var d = world[database];
            world.Live(d);
            d.GoOn(world.NowMs, KeptOut);
            return 0;
        },
        cancel);

    /// <inheritdoc/>
    public async Task<Promotion> PromoteAsync(RunCall call, Id<Replica> replica, Id<Host> host, Instant? upTo, CancellationToken cancel)
    {
        var began = world.NowMs;
        world.Answers.Enter(call);
        if (world.Answers.Told(call) is { } told)
        {
            return PromotedOnce.Read(told);
        }

        var seconds = await DoAsync(
            call,
            LookSeconds,
            () =>
            {
                var r = Known(replica);
                world.Replicas.Look(r);
                return r.Unusable is { } why ? throw new DriverException(DriverProblem.Refused, why) : r.Replica.PromoteSeconds + (r.Pending / r.Replica.ApplyRateIn(world.Fleet));
            },
            cancel);
        return await PromotedOnce.DoAsync(world, call, seconds, () => world.Replicas.Promote(Known(replica), host, began, upTo), cancel);
    }

    private static Instant At(double ms) => Instant.FromUnixTimeMilliseconds((long)Math.Floor(ms));

    private List<CheckResult> Try(Replica replica)
    {
        var fleet = world.Fleet;
        var d = world[replica.Database].Database;
        var (here, there) = (replica.SiteIn(fleet), replica.SourceSiteIn(fleet));
        var known = world.Replicas.Find(replica.Id);
        var results = new List<CheckResult>
        {
            new("sign-in at the source", known?.SignInExpired != true, known?.SignInExpired == true ? "the account of the replica has expired" : $"the account of the replica is let in by {d.Host}"),
            new("link", here == there || (fleet.LinkBetween(here, there) is not null && !world.Faults.IsDown(here, there)), here == there ? "one site" : world.Faults.IsDown(here, there) ? $"the link between {there} and {here} is down" : $"{there} and {here} see each other, both ways"),
            new("source", !world.Faults.IsDown(d.Host), world.Faults.IsDown(d.Host) ? $"host {d.Host} does not answer" : $"host {d.Host} answers on the port and the share"),
        };
        if (replica.Place is ReplicaPlace.OnHost { Host: var id })
        {
            var host = fleet.Hosts[id];
            var skew = Math.Abs(world.Faults.ClockOf(id) - world.Faults.ClockOf(d.Host));
            results.Add(new("target", !world.Faults.IsDown(id), world.Faults.IsDown(id) ? $"host {id} does not answer" : $"host {id} answers on the port and the share"));
            results.Add(new("engine", host.Engines.Count == 0 || host.Engines.Contains(d.Engine), $"{d.Engine} {(host.Engines.Count == 0 || host.Engines.Contains(d.Engine) ? "runs" : "does not run")} on {id}"));
            results.Add(new("room", host.FreeBytes is not { } free || free >= d.SizeBytes, host.FreeBytes is { } left ? $"{left / 1e9:0.#} GB are free on {id}, {d.SizeBytes / 1e9:0.#} GB are needed" : "not stated"));
            results.Add(new("clocks", skew < 1, skew < 1 ? "both clocks agree within a second" : $"the two clocks differ by {skew:0.#} s"));
        }

        return results;
    }

    /// <summary>What it ran before with is what the new primary began with, and it follows already: nothing has to be moved.</summary>
    private Moved? GoesOn(SimulatedReplica r)
    {
        if (r.Unusable is not null || r.RanBefore is null)
        {
            return null;
        }

        r.Source.Former = null;
        return new Moved(HandSeconds, 0, At(r.Feed.ReceivedTo(world.NowMs)), r.ReceivedPosition);
    }

    private (PageImage Image, double Bytes, int[] Uses, double Cap, int Branch) Snapshot(SimulatedReplica r)
    {
        world.Live(r.Source);
        var (fleet, d) = (world.Fleet, r.Source.Database);
        var (here, there) = (r.Replica.SiteIn(fleet), r.Replica.SourceSiteIn(fleet));
        if (here != there && (fleet.LinkBetween(here, there) is null || world.Faults.IsDown(here, there)))
        {
            throw new DriverException(DriverProblem.Unreachable, $"the link between {there} and {here} is down");
        }

        List<string> uses = [Routes.Of(d.Host)];
        if (r.Replica.Place is ReplicaPlace.OnHost { Host: var host })
        {
            if (world.Faults.IsDown(host))
            {
                throw new DriverException(DriverProblem.Unreachable, $"host {host} does not answer");
            }

            uses.Add(Routes.Of(host));
        }

        if (here != there)
        {
            uses.Add(Routes.Of(here, there));
        }

        // Where it ran before it has all but what came since it was left; what it had beyond that is taken back.
        var bytes = r.RanBefore is not null && d.Branches.Count > 0
            ? r.Flow.Bytes(d.Branches[^1].ForkAt.ToUnixTimeMilliseconds(), world.NowMs)
            : d.SizeBytes;
        return (SetContent.RestorePages(SetContent.OfPages(r.Source.Image, long.MinValue), null), bytes, [.. uses.Select(u => world.Network[u])], fleet.Engines[d.Engine].RestoreBytesPerSecond, r.Source.Branch);
    }

    private void Seed(SimulatedReplica r, PageImage image, double to, int branch)
    {
        r.Seeded(image, to, branch);
        if (r.RanBefore is not null)
        {
            r.Source.Former = null;
        }

        r.Feed.GoOnFrom(to);
        world.Replicas.Disturb();
    }

    private Task<Moved> SwitchAsync(RunCall call, Id<Replica> replica, Action<Feed> change, CancellationToken cancel) => DoAsync(
        call,
        HandSeconds,
        () =>
        {
            var r = Known(replica);
            world.Replicas.Around(() => change(r.Feed));
            return new Moved(HandSeconds, 0, At(r.Feed.ReceivedTo(world.NowMs)), r.ReceivedPosition);
        },
        cancel);

    private SimulatedReplica Known(Id<Replica> replica) =>
        world.Replicas.Find(replica) ?? throw new DriverException(DriverProblem.Unreachable, $"replica {replica} is not there yet");

    private Task<T> DoAsync<T>(RunCall call, double seconds, Func<T> what, CancellationToken cancel) => world.Answers.ActAsync(call, seconds, what, cancel);

    private async Task MoveAsync(RunCall call, int[] uses, double bytes, double cap, Action what, CancellationToken cancel)
    {
        FairShare.Flow? flow = null;
        Action<Exception> fail = _ => { };
        await world.Outsiders.Await(
            done => flow = world.Network.Start(uses, bytes, cap, () => world.Answers.Finish(call, what, done, fail)),
            cancel,
            () => world.Network.Cancel(flow!),
            f => fail = f);
    }
}
