using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drills;

/// <summary>
/// Changes roles of real clusters under watch. Writes are stopped by stopping the engine, which sends all it wrote before it ends; one that is taken for lost is killed. That takes an engine of this server's making, or one
/// whose data folder lies on this machine; what stands still so opens as no primary, whoever starts it.
/// </summary>
internal sealed class PostgreSqlDrillDriver(IClusterBook book, IClock clock) : IDrillDriver
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);
    private static readonly Duration SameTime = Duration.FromSeconds(3);
    private const string Signal = "standby.signal";
    private readonly OwnStandbys own = new(book, clock);
    private readonly ConcurrentDictionary<Guid, DrillWatch> watching = new();

    /// <inheritdoc/>
    public async Task<Instant> BeginAsync(RunCall call, Id<Database> database, Id<Host> there, CancellationToken cancel)
    {
        if (KeptDrill.Find(book.InstanceFolders, call.Run) is not { } kept)
        {
            var cluster = book.Cluster(database);
            var here = book.HostOf(database);
            await using (var connection = await Connections.OpenAsync(cluster, cancel))
            {
                await MakeMarksAsync(connection, cluster, cancel);
            }

            kept = await KeptDrill.MakeAsync(book.InstancesOn(there), new(call.Run, database.Value, here.Value, there.Value, cluster.Address, cluster.Port, new Dictionary<int, string>(), new Dictionary<int, string>(), new Dictionary<int, string>()), cancel);
        }

        // One that could not be stopped is said before anything is.
        await DataOfAsync(kept, book.Cluster(database), cancel);

        Hear(call, kept);
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            if (kept.Seen().SelectMany(s => s.Commits).Select(i => (Instant?)i).FirstOrDefault() is { } first)
            {
                return first;
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }

    /// <inheritdoc/>
    public async Task<WritesStopped> StopAsync(RunCall call, Id<Database> database, Id<Replica>? lostTo, Instant? at, CancellationToken cancel)
    {
        var (kept, cluster) = (Require(call), book.Cluster(database));
        if (!kept.Now.Stops.TryGetValue(cluster.Port, out var text))
        {
            var data = await DataOfAsync(kept, cluster, cancel);
            if (at is { } then && then - clock.GetCurrentInstant() is var left && left > Duration.Zero)
            {
                await Task.Delay(left.ToTimeSpan(), cancel);
            }

            var runs = Postmaster.Of(data) is not null;
            if (!kept.Now.Tried.ContainsKey(cluster.Port))
            {
                await kept.KeepAsync(kept.Now with { Tried = new Dictionary<int, string>(kept.Now.Tried) { [cluster.Port] = Instants.Write(clock.GetCurrentInstant()) } }, cancel);
            }

            // Where the process that stopped it was killed before it could say so, it stopped about when it was first tried.
            var asked = runs ? clock.GetCurrentInstant() : Instants.Parse(kept.Now.Tried[cluster.Port]);
            if (own.Primary(cluster) is { } engine)
            {
                await engine.KeepAsync(engine.Now with { Down = true }, cancel);
            }
            else
            {
                // Whoever starts it again finds a standby that takes no writes.
                await Tools.RunAsync("touch", [Path.Combine(data, Signal)], cancel, asEngine: true);
            }

            if (runs && lostTo is not null)
            {
                await KillAsync(data, cancel);
                asked = clock.GetCurrentInstant();
            }
            else
            {
                await new LocalEngine(data).StopAsync(cancel);
            }

            // What was still committed while it was being stopped was before the stop.
            text = Instants.Write(kept.Seen().SelectMany(s => s.Commits).Append(asked).Max());
            await kept.KeepAsync(kept.Now with { Stops = new Dictionary<int, string>(kept.Now.Stops) { [cluster.Port] = text } }, cancel);
        }

        var stopped = Instants.Parse(text);
        Instant[] committed = [.. kept.Seen().SelectMany(s => s.Commits).Where(c => c <= stopped)];
        return new(
            stopped,
            lostTo is null ? $"the engine at {cluster.Address}:{cluster.Port} was stopped, and all it wrote was sent" : $"the engine at {cluster.Address}:{cluster.Port} was killed",
            new(committed.Length, committed.Length == 0 ? null : committed.Max()));
    }

    /// <inheritdoc/>
    public Task<WritesStopped> ProvokeAsync(RunCall call, Id<Database> database, CancellationToken cancel) =>
        throw new DriverException(DriverProblem.Refused, "no voters of this installation would have a standby of a real cluster take over by itself");

    /// <inheritdoc/>
    public async Task GoOnAsync(RunCall call, Id<Database> database, Id<Replica>? lostTo, CancellationToken cancel)
    {
        var (kept, cluster) = (Require(call), book.Cluster(database));
        if (own.Primary(cluster) is { } engine)
        {
            await engine.KeepAsync(engine.Now with { Down = false }, cancel);
            await engine.UpAsync(cancel);
        }
        else
        {
            var data = await DataOfAsync(kept, cluster, cancel);
            await Tools.RunAsync("rm", ["-f", "--", Path.Combine(data, Signal)], cancel, asEngine: true);
            var stopped = new LocalEngine(data);
            await stopped.StartAsync(await stopped.OptionsAsync(cancel), cancel);
        }

        await kept.KeepAsync(kept.Now with { Tried = kept.Now.Tried.Where(s => s.Key != cluster.Port).ToDictionary(), Stops = kept.Now.Stops.Where(s => s.Key != cluster.Port).ToDictionary() }, cancel);
    }

    /// <inheritdoc/>
    /// <remarks>The last it wrote is the checkpoint with which it ended.</remarks>
    public async Task<(bool Received, bool Applied)?> HoldsAllAsync(RunCall call, Id<Database> database, Id<Replica> replica, CancellationToken cancel)
    {
        var (kept, (cluster, standby)) = (Require(call), book.Standby(replica));
        var data = await DataOfAsync(kept, cluster, cancel);
        var controls = await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_controldata"), [data], cancel, asEngine: true);
        string Says(string what) => controls.Split('\n').First(l => l.StartsWith(what, StringComparison.Ordinal)).Split(':', 2)[1].Trim();
        if (!Says("Database cluster state").StartsWith("shut down", StringComparison.Ordinal))
        {
            throw new DriverException(DriverProblem.Unreachable, $"the engine at {cluster.Address}:{cluster.Port} has not ended in order yet");
        }

        var last = Lsn.Parse(Says("Latest checkpoint location"));
        await using var connection = await Connections.OpenAsync(standby, cancel);
        return (await connection.RowsAsync(
            $"select greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn()) > '{last}', pg_last_wal_replay_lsn() > '{last}'", r => (r.GetBoolean(0), r.GetBoolean(1)), cancel))[0];
    }

    /// <inheritdoc/>
    public async Task<bool> TakesWritesAsync(RunCall call, Id<Database> database, Id<Host> host, CancellationToken cancel)
    {
        var kept = Require(call);
        return SideOf(kept.Now, host.Value) is { } side && await DrillWatch.TryAsync(side, call.Run, cancel) is not null;
    }

    /// <inheritdoc/>
    public async Task<MarkersPresent> MarkersAsync(RunCall call, Id<Database> database, Instant? upTo, CancellationToken cancel)
    {
        await using var connection = await Connections.OpenAsync(PrimaryNow(Require(call).Now), cancel);
        await using var command = new NpgsqlCommand($"select count(*), max(at) at time zone 'utc' from {DrillWatch.Schema}.marks where run = $1 and at <= $2", connection);
        command.Parameters.AddWithValue(call.Run);
        command.Parameters.AddWithValue((upTo ?? Instant.FromUtc(9999, 1, 1, 0, 0)).ToDateTimeUtc());
        await using var reader = await command.ExecuteReaderAsync(cancel);
        await reader.ReadAsync(cancel);
        return new((int)reader.GetInt64(0), reader.IsDBNull(1) ? null : Connections.AtUtc(reader.GetDateTime(1)));
    }

    /// <inheritdoc/>
    /// <remarks>That it is a primary, and that each commit of every trail follows from the one before.</remarks>
    public async Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        var primary = PrimaryNow(Require(call).Now);
        await using var connection = await Connections.OpenAsync(primary, cancel);
        var standby = await connection.AskAsync<bool>("select pg_is_in_recovery()", cancel);
        return
        [
            new("primary", !standby, standby ? $"{primary.Address}:{primary.Port} is a standby" : $"{primary.Address}:{primary.Port} is a primary"),
            .. await Trail.CheckAsync(connection, name => Connections.OpenAsync(primary, cancel, name), null, cancel),
        ];
    }

    /// <inheritdoc/>
    public async Task<Moved> SendClientsAsync(RunCall call, Id<Database> database, Id<Host> host, CancellationToken cancel)
    {
        var (kept, began) = (Require(call), Stopwatch.GetTimestamp());
        var to = SideOf(kept.Now, host.Value) ?? throw new DriverException(DriverProblem.Refused, $"where {database} is on {host} is not known");
        await book.SendClientsAsync(database, to.Address, to.Port, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0);
    }

    /// <inheritdoc/>
    public async Task<Instant> ClientsBackAsync(RunCall call, Id<Database> database, Instant since, CancellationToken cancel)
    {
        var kept = Require(call);
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            if (kept.Seen().Select(s => s.Clients).FirstOrDefault(c => c > since) is { } back)
            {
                return back;
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<DrillSpan>> SeenAsync(Guid run, Id<Database> database, CancellationToken cancel)
    {
        var spans = new List<DrillSpan>();
        foreach (var s in KeptDrill.Find(book.InstanceFolders, run)?.Seen() ?? [])
        {
            var (here, there, clients) = (s.Here is not null, s.There is not null, s.Clients is not null);

            // While nobody looked on nothing was seen.
            if (spans.Count > 0 && spans[^1] is var last && (last.Here, last.There, last.Clients) == (here, there, clients) && s.At - last.To <= SameTime)
            {
                spans[^1] = last with { To = s.At };
            }
            else
            {
                spans.Add(new(s.At, s.At, here, there, clients));
            }
        }

        return Task.FromResult<IReadOnlyList<DrillSpan>>(spans);
    }

    /// <inheritdoc/>
    public async Task EndAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        if (KeptDrill.Find(book.InstanceFolders, call.Run) is not { } kept)
        {
            return;
        }

        Fences.Hear(kept.Fence, call);
        await kept.KeepAsync(kept.Now with { Ended = true }, cancel);
        if (watching.TryRemove(call.Run, out var watch))
        {
            await watch.DisposeAsync();
        }

        await using var connection = await Connections.OpenAsync(PrimaryNow(kept.Now), cancel);
        await using var delete = new NpgsqlCommand($"delete from {DrillWatch.Schema}.marks where run = $1", connection);
        delete.Parameters.AddWithValue(call.Run);
        await delete.ExecuteNonQueryAsync(cancel);
    }

    private KeptDrill Require(RunCall call)
    {
        var kept = KeptDrill.Find(book.InstanceFolders, call.Run) ?? throw new DriverException(DriverProblem.Refused, "nobody looks on at this drill");
        Hear(call, kept);
        return kept;
    }

    /// <summary>Hears the fence, and sees to it that somebody looks on.</summary>
    private void Hear(RunCall call, KeptDrill kept)
    {
        Fences.Hear(kept.Fence, call);
        if (kept.Now.Ended || (watching.TryGetValue(call.Run, out var there) && there.Goes) || kept.Write() is not { } trail)
        {
            return;
        }

        var now = kept.Now;
        watching[call.Run] = new DrillWatch(kept, trail, () => (SideOf(now, now.Here), SideOf(now, now.There), ClientsOf(now)), clock);
    }

    /// <summary>Where a database is on a host: the newest engine there that is known, or the one it ran in at the beginning.</summary>
    private StandbySpec? SideOf(KeptDrill.State drill, string host)
    {
        var cluster = book.Cluster(new(drill.Database));
        return cluster.StandbyList?.LastOrDefault(s => (s.Host ?? book.Replica(new(s.Replica))?.Place.Hosts[0].Value) == host)
            ?? (host == drill.Here ? new StandbySpec("", drill.Address, drill.Port, cluster.User, cluster.SignInTo, cluster.Credential) : null);
    }

    /// <summary>Where its usual address is; where it has none clients go to where the fleet says it runs.</summary>
    private ClusterSpec ClientsOf(KeptDrill.State drill)
    {
        var cluster = book.Cluster(new(drill.Database));
        return book.ClientAddress(new(drill.Database)) is { } usual ? cluster with { Address = usual.Address, Port = usual.Port } : cluster;
    }

    /// <summary>The side that was promoted last, or where the fleet says it runs.</summary>
    private ISignIn PrimaryNow(KeptDrill.State drill)
    {
        var cluster = book.Cluster(new(drill.Database));
        return cluster.StandbyList?.Where(s => s.PromotedAt is not null).MaxBy(s => s.PromotedAt) is { } promoted ? promoted : cluster;
    }

    /// <summary>The data folder of a primary whose engine can be stopped from here.</summary>
    /// <exception cref="DriverException">It cannot, or the role may not ask.</exception>
    private async Task<string> DataOfAsync(KeptDrill kept, ClusterSpec cluster, CancellationToken cancel)
    {
        if ((own.Primary(cluster)?.Data ?? kept.Now.Data.GetValueOrDefault(cluster.Port)) is { } known)
        {
            return known;
        }

        var data = (await LocalEngine.FindAsync(cluster, cancel)).Data;
        await kept.KeepAsync(kept.Now with { Data = new Dictionary<int, string>(kept.Now.Data) { [cluster.Port] = data } }, cancel);
        return data;
    }

    private static async Task MakeMarksAsync(NpgsqlConnection connection, ClusterSpec cluster, CancellationToken cancel)
    {
        try
        {
            await using var make = new NpgsqlCommand(
                $"do $$ begin if to_regnamespace('{DrillWatch.Schema}') is null then create schema {DrillWatch.Schema}; end if; end $$; create table if not exists {DrillWatch.Schema}.marks (run uuid not null, at timestamptz not null)", connection);
            await make.ExecuteNonQueryAsync(cancel);
        }
        catch (PostgresException e)
        {
            throw new DriverException(DriverProblem.Refused, $"{cluster.User} may make no markers in {cluster.SignInTo}: {e.MessageText} (create schema {DrillWatch.Schema} authorization {cluster.User})");
        }
    }

    /// <summary>Kills an engine with all its processes, the first one first: none of them ends in order, and none sends anything more.</summary>
    private static async Task KillAsync(string data, CancellationToken cancel)
    {
        if (Postmaster.Of(data) is not { } first)
        {
            return;
        }

        try
        {
            await Tools.RunAsync("kill", ["-KILL", .. Postmaster.ChildrenOf(first).Prepend(first).Select(p => p.ToString(CultureInfo.InvariantCulture))], cancel, asEngine: true);
        }
        catch (DriverException)
        {
            // One had ended by itself; what matters is that the first is gone.
        }

        using var timer = new PeriodicTimer(Look);
        while (Postmaster.Of(data) is not null)
        {
            await timer.WaitForNextTickAsync(cancel);
        }
    }
}
