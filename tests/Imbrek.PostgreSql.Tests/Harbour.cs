using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drills;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A cluster whose log is received into a folder, with the drivers on it and no server: what a server would keep stands in memory.</summary>
internal sealed class Harbour : IAsyncDisposable, IClusterBook, ILogSink
{
    private readonly Lock gate = new();
    private readonly Dictionary<string, BackupSet> sets = [];
    private readonly string home = Directory.CreateTempSubdirectory("imbrek-harbour").FullName;
    private CancellationTokenSource stop = new();
    private Task receiving = Task.CompletedTask;

    private readonly int? line;

    private Harbour(TestCluster cluster, int? line) => (Cluster, Drill, this.line) = (cluster, new(this, SystemClock.Instance), line);

    public TestCluster Cluster { get; }

    public long? Capacity { get; set; }

    /// <summary>The role that the drivers sign in as.</summary>
    public string User { get; set; } = "imbrek";

    /// <summary>How many bytes a second a backup may take; null for as many as it can.</summary>
    public long? Rate { get; set; }

    public long Room { get; set; } = 1L << 30;

    public string Shelf => Path.Combine(home, "shelf");

    public string Instances => Path.Combine(home, "instances");

    public FolderStore Folder => new("shelf", Shelf, Capacity);

    public Received? Now { get; private set; }

    public Exception? Ended { get; private set; }

    /// <summary>The longest that what was received has not been told, on this machine as busy as it is.</summary>
    public Duration LongestWatch { get; private set; }

    public List<(int Timeline, int Parent, Lsn At, Instant ForkAt)> Branches { get; } = [];

    public PostgreSqlBackupDriver Backup => new(this, SystemClock.Instance);

    public PostgreSqlRestoreDriver Restore => new(this, SystemClock.Instance);

    public PostgreSqlReplicateDriver Replicate => new(this, SystemClock.Instance);

    public PostgreSqlDrillDriver Drill { get; }

    /// <summary>Replicas as a fleet would have them.</summary>
    public Dictionary<string, Replica> Replicas { get; } = [];

    public Dictionary<string, StandbySpec> Standbys { get; } = [];

    /// <summary>Who took over; null while the cluster itself is the primary.</summary>
    public StandbySpec? Primary { get; private set; }

    public double SetSeconds { get; set; } = 2;

    public BackupSet? Newest => Sets.LastOrDefault(s => s.Kind == SetKind.Log);

    public IReadOnlyList<BackupSet> Sets
    {
        get
        {
            lock (gate)
            {
                return [.. sets.Values.OrderBy(s => s.CoversTo).ThenBy(s => s.ToPosition)];
            }
        }
    }

    /// <param name="cluster">The cluster; null for one of its own.</param>
    /// <param name="line">The port at which its log is received; null for the cluster's own.</param>
    public static async Task<Harbour> StartAsync(TestCluster? cluster = null, int? line = null)
    {
        var harbour = new Harbour(cluster ?? await TestCluster.StartAsync(), line);
        await Tools.RunAsync("chmod", ["755", harbour.home], default);
        Directory.CreateDirectory(harbour.Shelf);
        Directory.CreateDirectory(Path.Combine(harbour.home, "hill"));
        Directory.CreateDirectory(harbour.Instances);
        await harbour.Cluster.DoAsync(Trail.Make);
        harbour.Receive();
        return harbour;
    }

    /// <summary>Begins to receive, as a process with the duty does.</summary>
    public void Receive()
    {
        stop = new CancellationTokenSource();
        Ended = null;
        receiving = Task.Run(async () =>
        {
            // The duty tries again, and so do we where a cluster has not let go of the connection before yet, which it does in its own time.
            using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(200));
            for (var tries = 0; ; tries++)
            {
                try
                {
                    await new LogReceiver(Cluster.Spec(room: Room) with { Port = line ?? Cluster.Port }, Folder, this, SystemClock.Instance).RunAsync(stop.Token);
                    return;
                }
                catch (Exception e)
                {
                    Ended = e;
                    if (tries == MostTries || stop.IsCancellationRequested || !e.Message.Contains("is active for PID", StringComparison.Ordinal))
                    {
                        return;
                    }
                }

                await timer.WaitForNextTickAsync();
            }
        });
    }

    private const int MostTries = 50;

    public async Task StopReceivingAsync()
    {
        await stop.CancelAsync();
        await receiving;
    }

    /// <summary>Waits until everything written by now has been received.</summary>
    public async Task CaughtUpAsync()
    {
        var at = SystemClock.Instance.GetCurrentInstant();
        await WaitAsync(() => Now?.CoversTo > at, "caught up");
    }

    public async Task WaitAsync(Func<bool> isTrue, string what, double seconds = 180)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(30));
        var began = System.Diagnostics.Stopwatch.StartNew();
        while (!isTrue())
        {
            Assert.True(began.Elapsed.TotalSeconds < seconds, $"not {what} within {seconds} s; receiving ended with: {Ended}");
            await timer.WaitForNextTickAsync();
        }
    }

    public Task<BackupSet> FullAsync() => FullAsync(new RunCall(Guid.NewGuid(), 1));

    public async Task<BackupSet> FullAsync(RunCall call, Compression compression = Compression.Light)
    {
        var taken = await Backup.TakeAsync(call, new TakeSpec("harbour", SetKind.Full, "shelf", compression, null, SetNaming.Default, false, true, null), default);
        Keep(taken.Set!);
        return taken.Set!;
    }

    public void Keep(BackupSet set)
    {
        lock (gate)
        {
            sets[set.Id.Value] = set;
        }
    }

    /// <summary>Walks the trail with some clients until it is told to stop; gives the transactions that were told to be committed, and when.</summary>
    public async Task<IReadOnlyList<(long Transaction, long Number, Instant Told)>> WalkAsync(int clients, Func<bool> enough)
    {
        var told = new System.Collections.Concurrent.ConcurrentBag<(long, long, Instant)>();
        await Task.WhenAll(Enumerable.Range(0, clients).Select(_ => Task.Run(async () =>
        {
            try
            {
                await using var connection = await Cluster.OpenAsync();
                await using var command = new NpgsqlCommand("select imbrek_walk(), pg_current_xact_id()::text::bigint", connection);
                while (!enough())
                {
                    await using var read = await command.ExecuteReaderAsync();
                    await read.ReadAsync();
                    var (number, transaction) = (read.GetInt64(0), read.GetInt64(1));
                    await read.DisposeAsync();
                    told.Add((transaction, number, SystemClock.Instance.GetCurrentInstant()));
                }
            }
            catch (NpgsqlException)
            {
                // The cluster was killed under it.
            }
        })));
        return [.. told.OrderBy(t => t.Item2)];
    }

    /// <summary>Restores to an instant or before a position; gives the transactions of the trail that are there, and what it measured.</summary>
    public async Task<(IReadOnlyList<long> Trail, Moved Moved, IReadOnlyList<CheckResult> Checks)> RestoreAsync(LogStop stop, string name, Action<InstanceSpec, RunCall>? then = null)
    {
        var owner = Guid.NewGuid();
        var (call, instance) = (new RunCall(owner, 1), new InstanceSpec(name, new("harbour"), new("quay"), owner));
        var bases = Sets.Where(s => s.Kind == SetKind.Full && s.CoversTo <= stop.At).MaxBy(s => s.CoversTo)!;
        SetCopy[] logs = [.. Sets.Where(s => s.Kind == SetKind.Log && s.ToPosition >= bases.ToPosition && s.CoversTo > bases.CoversTo && s.CoversFrom <= stop.At && s.Branch == bases.Branch).Select(s => new SetCopy(s.Id, new("shelf")))];
        await Restore.ProvisionAsync(call, instance, default);
        await Restore.RestoreSetAsync(call, instance, new SetCopy(bases.Id, new("shelf")), default);
        var moved = await Restore.ApplyLogsAsync(call, instance, logs, stop, _ => { }, default);
        await Restore.OpenAsync(call, instance, default);
        var checks = await Restore.CheckAsync(call, instance, moved.Reached!.Value, null, default);
        var there = Instance.Find(Path.Combine(Instances, name))!;
        await using (var connection = await there.OpenAsync("postgres", default))
        {
            var trail = await connection.RowsAsync("select xid from imbrek_trail order by n", r => r.GetInt64(0), default);
            then?.Invoke(instance, call);
            if (then is null)
            {
                await connection.CloseAsync();
                await Restore.DiscardAsync(call, instance, default);
                Assert.False(Directory.Exists(Path.Combine(Instances, name)));
            }

            return (trail, moved, checks);
        }
    }

    /// <summary>How everybody is kept out of the cluster, and what was put in its place last.</summary>
    public KeptOut? Aside { get; private set; }

    public Placed? Placed { get; private set; }

    public Changing? Changing { get; private set; }

    private ClusterSpec Spec => Cluster.Spec(room: Room) with { StandbyList = [.. Standbys.Values], BackupBytesPerSecond = Rate, User = User, Aside = Aside, Placed = Placed, Changing = Changing } is var c && Primary is { } p ? c.At(p).OnSocket : c.OnSocket;

    ClusterSpec IClusterBook.Cluster(Id<Database> database) => Spec;

    IReadOnlyList<(ClusterSpec Cluster, Database Database)> IClusterBook.ClustersOn(Id<Host> host) =>
        [(Spec, new Database { Id = new("harbour"), Name = "Harbour", Engine = new("postgresql"), Host = host, SizeBytes = 1 })];

    FolderStore IClusterBook.Store(Id<Core.Fleet.Store> store) => store.Value == "shelf" ? Folder : new FolderStore(store.Value, Path.Combine(home, store.Value), null);

    string IClusterBook.InstancesOn(Id<Host> host) => Instances;

    BackupSet? IClusterBook.Set(Id<Database> database, Id<BackupSet> set) => Sets.FirstOrDefault(s => s.Id == set);

    BackupSet? IClusterBook.NewestLog(Id<Database> database) => Newest;

    (ClusterSpec Cluster, StandbySpec Standby) IClusterBook.Standby(Id<Replica> replica) =>
        (Spec, Standbys.TryGetValue(replica.Value, out var s) ? s : throw new DriverException(DriverProblem.Refused, $"{replica} is no standby"));

    Host? IClusterBook.Host(Id<Host> host) => null;

    Replica? IClusterBook.Replica(Id<Replica> replica) => Replicas.GetValueOrDefault(replica.Value);

    Task IClusterBook.StandbyIsAsync(Id<Database> database, StandbySpec standby, CancellationToken cancel)
    {
        Standbys[standby.Replica] = standby;
        return Task.CompletedTask;
    }

    Task IClusterBook.StandbyGoneAsync(Id<Replica> replica, CancellationToken cancel)
    {
        Standbys.Remove(replica.Value);
        return Task.CompletedTask;
    }

    IEnumerable<(Instant At, Lsn Position)> IClusterBook.Stood(Id<Database> database, Instant since) => [.. Sets.Where(s => s.Kind == SetKind.Log && s.CoversTo > since).Select(s => (s.CoversTo, new Lsn(s.ToPosition)))];

    IReadOnlyList<BackupSet> IClusterBook.LogBehind(Id<Database> database, int branch, Lsn position) =>
        [.. Sets.Where(s => s.Kind == SetKind.Log && s.Branch == branch && s.ToPosition > position.Value).OrderBy(s => s.ToPosition)];

    Task IClusterBook.PromotedAsync(Id<Replica> replica, Instant at, CancellationToken cancel)
    {
        Standbys[replica.Value] = Standbys[replica.Value] with { PromotedAt = at };
        Primary = Standbys[replica.Value];
        return Task.CompletedTask;
    }

    Task IClusterBook.AsideAsync(Id<Database> database, KeptOut? how, CancellationToken cancel)
    {
        Aside = Spec.With(how).Aside;
        return Task.CompletedTask;
    }

    Task IClusterBook.ChangingAsync(Id<Database> database, Changing how, CancellationToken cancel)
    {
        Changing = Spec.With(how).Changing;
        return Task.CompletedTask;
    }

    Task IClusterBook.PlacedAsync(Id<Database> database, Placed what, CancellationToken cancel)
    {
        (Aside, Placed) = (null, what);
        return Task.CompletedTask;
    }

    Task IClusterBook.MovedAsync(Id<Database> database, string instance, int port, Placed what, CancellationToken cancel) => throw new NotSupportedException("clusters are moved where they are served");

    IReadOnlyList<BackupSet> ILogSink.LogBehind(int branch, Lsn position) => ((IClusterBook)this).LogBehind(new("harbour"), branch, position);

    IEnumerable<string> IClusterBook.InstanceFolders => [Instances];

    Id<Host> IClusterBook.HostOf(Id<Database> database) => new(Primary?.Host ?? "home");

    /// <summary>Where clients ask.</summary>
    public ClientAddresses Addresses => new(Path.Combine(home, "addresses"));

    (string Address, int Port)? IClusterBook.ClientAddress(Id<Database> database) => Addresses.Find(database.Value);

    Task IClusterBook.SendClientsAsync(Id<Database> database, string address, int port, CancellationToken cancel) => Addresses.SendAsync(database.Value, address, port, cancel);

    Task ILogSink.KeepAsync(IReadOnlyList<BackupSet> changed, Received now, CancellationToken cancel)
    {
        foreach (var s in changed)
        {
            Keep(s);
        }

        LongestWatch = Now is { } before ? Duration.Max(LongestWatch, now.At - before.At) : LongestWatch;
        Now = now;
        return Task.CompletedTask;
    }

    Task ILogSink.BranchAsync(int timeline, int parent, Lsn at, Instant forkAt, Instant startsAt, CancellationToken cancel)
    {
        Branches.Add((timeline, parent, at, forkAt));
        return Task.CompletedTask;
    }

    public async ValueTask DisposeAsync()
    {
        await StopReceivingAsync();
        foreach (var instance in Directory.EnumerateDirectories(Instances).Select(Instance.Find).OfType<Instance>())
        {
            await instance.RemoveAsync(default);
        }

        await Cluster.DisposeAsync();
        Directory.Delete(home, recursive: true);
    }
}
