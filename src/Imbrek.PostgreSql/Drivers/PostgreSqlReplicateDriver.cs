using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Acts on standbys of real clusters. One that others made takes over and can be looked at; what else is done with it is left to them, and said so.</summary>
internal sealed class PostgreSqlReplicateDriver(IClusterBook book, IClock clock) : IReplicateDriver
{
    private const int PromoteSeconds = 50;
    private readonly OwnStandbys own = new(book, clock);
    private readonly InPlace inPlace = new(book, clock);

    /// <inheritdoc/>
    public string? WhyNot(ReplicaAct act, Id<Replica>? replica) => act switch
    {
        ReplicaAct.TakeOver or ReplicaAct.SetUp or ReplicaAct.Look => null,
        _ when replica is { } r && own.Has(r) => null,
        ReplicaAct.End => "others made it: stop its engine, and watch it no more: Setup, Clusters",
        _ => "others made it: this server acts on standbys of its own making",
    };

    /// <inheritdoc/>
    public async Task<ReplicaLook> LookAsync(RunCall call, Id<Replica> replica, CancellationToken cancel)
    {
        var (cluster, standby) = book.Standby(replica);
        await using var eye = new StandbyEye(clock);
        eye.Stood(book.Stood(new(cluster.Database), clock.GetCurrentInstant() - StandbyEye.Known));
        return await eye.LookAsync(cluster, standby, cancel) is { } s
            ? new ReplicaLook(s.At, s.ReceivedTo, s.AppliedTo, s.PendingBytes, s.ReceivedPosition, s.HeldUpBy, s.Unusable)
            : throw new DriverException(DriverProblem.Refused, $"it is not known when {cluster.Database} wrote what {replica} has received");
    }

    /// <inheritdoc/>
    /// <remarks>Transactions are counted by the number the next one gets on either side.</remarks>
    public async Task<ReplicaPositions> PositionsAsync(Id<Replica> replica, CancellationToken cancel)
    {
        var (cluster, standby) = book.Standby(replica);
        await using var here = await Connections.OpenAsync(standby, cancel);
        (Lsn Written, long Next)? source = null;
        try
        {
            await using var there = await Connections.OpenAsync(cluster, cancel);
            source = (await there.RowsAsync("select pg_current_wal_flush_lsn()::text, pg_snapshot_xmax(pg_current_snapshot())::text::bigint", r => (Lsn.Parse(r.GetString(0)), r.GetInt64(1)), cancel))[0];
        }
        catch (Exception e) when (e is DriverException or NpgsqlException && !cancel.IsCancellationRequested)
        {
            // What the replica has is known all the same.
        }

        try
        {
            var (received, applied, next) = (await here.RowsAsync(
                "select greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())::text, pg_last_wal_replay_lsn()::text, pg_snapshot_xmax(pg_current_snapshot())::text::bigint",
                r => (Lsn.Parse(r.GetString(0)), Lsn.Parse(r.GetString(1)), r.GetInt64(2)),
                cancel))[0];

            // What is written between the two questions is none that it lacks.
            return new(
                clock.GetCurrentInstant(), source?.Written.ToString(), received.ToString(), applied.ToString(), source is { } s ? Math.Max(0, s.Written.Value - received.Value) : null, received.Value - applied.Value, null,
                source is { } n ? Math.Max(0, n.Next - next) : null);
        }
        catch (Exception e) when (e is NpgsqlException or InvalidCastException)
        {
            throw e is NpgsqlException ? Connections.Told(standby, e, cancel) : new DriverException(DriverProblem.Refused, $"{replica} is no standby any more");
        }
    }

    /// <inheritdoc/>
    /// <remarks>An engine of this server's making is stopped, and all it wrote is sent before. This role cannot stop another: one that still answers is for people to stop, and nothing is promoted beside it.</remarks>
    public async Task<string> FenceAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        var cluster = book.Cluster(database);
        if (own.Primary(cluster) is { } engine)
        {
            await engine.DownAsync(cancel);
            return $"the engine at {cluster.Address}:{cluster.Port} was stopped, and stays so";
        }

        try
        {
            await using var there = await Connections.OpenAsync(cluster, cancel);
        }
        catch (DriverException e) when (e.Problem == DriverProblem.Unreachable)
        {
            return $"{cluster.Address}:{cluster.Port} does not answer; whoever starts it again must not let anybody write there";
        }

        throw new DriverException(DriverProblem.Refused, $"{database} still answers at {cluster.Address}:{cluster.Port}: stop it first, for two that take writes cannot be put together again");
    }

    /// <inheritdoc/>
    public Task<string> ShutOutAsync(RunCall call, Id<Database> database, Guid? insteadOf, CancellationToken cancel) => inPlace.ShutOutAsync(call, database, insteadOf, cancel);

    /// <inheritdoc/>
    public async Task LetInAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        if (!await inPlace.LetInAsync(call, database, cancel) && own.Primary(book.Cluster(database)) is { } engine)
        {
            await engine.KeepAsync(engine.Now with { Down = false }, cancel);
            await engine.UpAsync(cancel);
        }
    }

    /// <inheritdoc/>
    public bool StopsAtInstants => false;

    /// <inheritdoc/>
    public async Task<Promotion> PromoteAsync(RunCall call, Id<Replica> replica, Id<Host> host, Instant? upTo, CancellationToken cancel)
    {
        if (upTo is not null)
        {
            throw new DriverException(DriverProblem.Refused, $"{replica} cannot be stopped before what it has replayed: have those of its group take over one by one");
        }

        var ((cluster, standby), began) = (book.Standby(replica), Stopwatch.GetTimestamp());
        var store = book.Store(new(cluster.LogStore));
        if (store.Here)
        {
            // Where the store is lost too nobody can be told of a fence; being promoted twice does nothing the second time.
            Fences.Hear(Path.Combine(store.Staging(cluster.Database, SetKind.Full, call.Run), "fence"), call);
        }

        Instant? last;
        (int Timeline, int Parent, Lsn At) fork;
        await using (var there = await Connections.OpenAsync(standby, cancel))
        {
            try
            {
                if (await there.AskAsync<bool>("select pg_is_in_recovery()", cancel))
                {
                    // What we have not received of its log must not be thrown away once it is a primary.
                    await LogReceiver.MakeSlotAsync(there, cluster.Slot, cancel);
                    await using var promote = new NpgsqlCommand($"select pg_promote(true, {PromoteSeconds})", there) { CommandTimeout = PromoteSeconds + 10 };
                    if (await promote.ExecuteScalarAsync(cancel) is not true)
                    {
                        throw new DriverException(DriverProblem.Unreachable, $"{replica} has not been promoted within {PromoteSeconds} s");
                    }
                }

                last = (await there.RowsAsync("select pg_last_xact_replay_timestamp() at time zone 'utc'", r => r.IsDBNull(0) ? (Instant?)null : Connections.AtUtc(r.GetDateTime(0)), cancel))[0];
                fork = await ForkAsync(there, standby, cancel);
            }
            catch (NpgsqlException e)
            {
                throw Connections.Told(standby, e, cancel);
            }
        }

        var startsAt = standby.PromotedAt ?? clock.GetCurrentInstant();
        if (own.Find(standby) is { } engine)
        {
            await engine.KeepAsync(engine.Now with { Promoted = true, Follows = null }, cancel);
        }

        var left = new List<Promotion.LeftBehind>();
        foreach (var other in cluster.Standbys.Where(s => s.Replica != replica.Value && s.PromotedAt is null))
        {
            if (await own.SendToAsync(call, other, cluster, standby, fork.At, cancel) is { } why)
            {
                left.Add(new(new(other.Replica), why));
            }
        }

        await book.PromotedAsync(replica, startsAt, cancel);
        var forkAt = last ?? book.Stood(new(cluster.Database), Instant.MinValue).Where(s => s.Position <= fork.At).Select(s => (Instant?)s.At).LastOrDefault() ?? startsAt;
        var (lost, lostUpTo) = Lost(store, cluster, fork.Parent, fork.At, cancel);
        try
        {
            Directory.Delete(store.Staging(cluster.Database, SetKind.Full, call.Run), recursive: true);
        }
        catch (IOException)
        {
            // It is cleaned up with the next full.
        }

        return new Promotion(
            Stopwatch.GetElapsedTime(began).TotalSeconds,
            new Branch(fork.Timeline, fork.Parent, fork.At.Value, forkAt, startsAt),
            host,
            lostUpTo is { } to ? Math.Max(0, (to - forkAt).TotalSeconds) : 0,
            lost,
            left);
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> TryAsync(RunCall call, Replica replica, CancellationToken cancel) => own.TryAsync(replica, cancel);

    /// <inheritdoc/>
    public Task<Moved> CopyAsync(RunCall call, Id<Replica> replica, CancellationToken cancel) => own.CopyAsync(call, replica, cancel);

    /// <inheritdoc/>
    public Task<Moved> JoinAsync(RunCall call, Id<Replica> replica, InstanceSpec restored, CancellationToken cancel) => own.JoinAsync(call, replica, restored, cancel);

    /// <inheritdoc/>
    public Task<Moved> MendAsync(RunCall call, Id<Replica> replica, IReadOnlyList<SetCopy> logs, CancellationToken cancel) => own.MendAsync(call, replica, logs, cancel);

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> ProveAsync(RunCall call, Id<Replica> replica, CancellationToken cancel)
    {
        var (cluster, standby) = book.Standby(replica);
        return StandbyProof.ProveAsync(call, own.Known(replica), cluster, standby, cancel);
    }

    /// <inheritdoc/>
    public async Task<Moved> HoldAsync(RunCall call, Id<Replica> replica, CancellationToken cancel) =>
        await own.HoldAsync(call, replica, true, cancel) with { Reached = (await LookAsync(call, replica, cancel)).ReceivedTo };

    /// <inheritdoc/>
    public Task<Moved> ResumeAsync(RunCall call, Id<Replica> replica, CancellationToken cancel) => own.HoldAsync(call, replica, false, cancel);

    /// <inheritdoc/>
    /// <remarks>What it holds now is copied from it; an instant before that, or one it has not applied, it cannot show.</remarks>
    public async Task<Moved> OpenCopyAsync(RunCall call, Id<Replica> replica, InstanceSpec instance, Instant? at, CancellationToken cancel) => at is null
        ? await own.OpenCopyAsync(call, replica, instance, (await LookAsync(call, replica, cancel)).AppliedTo, cancel)
        : throw new DriverException(DriverProblem.Refused, "a standby shows what it holds now, and no instant before: restore that aside");

    /// <inheritdoc/>
    public Task EndAsync(RunCall call, Replica replica, CancellationToken cancel) => own.EndAsync(call, replica, cancel);

    /// <summary>Where the timeline of a promoted engine left the one before, as its history says.</summary>
    private static async Task<(int Timeline, int Parent, Lsn At)> ForkAsync(NpgsqlConnection there, StandbySpec standby, CancellationToken cancel)
    {
        var timeline = await TimelineHistory.NowAsync(there, cancel);
        var (parent, at) = TimelineHistory.Read(await TimelineHistory.AskAsync(standby, timeline, cancel))[^1];
        return (timeline, parent, at);
    }

    /// <summary>What was received of the old primary's log behind where the new one begins: how many commits, and up to when. The number is null when that log cannot be read.</summary>
    private (long? Commits, Instant? UpTo) Lost(FolderStore store, ClusterSpec cluster, int parent, Lsn fork, CancellationToken cancel)
    {
        var sets = book.LogBehind(new(cluster.Database), parent, fork);
        if (sets.Count == 0)
        {
            return (0, null);
        }

        try
        {
            var count = 0L;
            LogWalk.Over(store, cluster.Database, sets, c => count += c.Position >= fork ? 1 : 0, cancel);
            return (count, sets[^1].CoversTo);
        }
        catch (Exception e) when (e is LogBrokenException or IOException or DriverException)
        {
            return (null, sets[^1].CoversTo);
        }
    }
}
