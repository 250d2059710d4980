using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Metrics;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Backup;
using Imbrek.Server.Features.Runs.Rehearsal;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using NodaTime;
using Npgsql;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>The parts of a server that act, on a database of their own, with an obedient driver and a clock that a test moves. Several can share a database.</summary>
internal sealed class ActingServer : IAsyncDisposable
{
    public static readonly Instant Now = Instant.FromUtc(2026, 3, 2, 12, 0);

    private readonly ServiceProvider services;
    private readonly bool owns;

    private ActingServer(string connection, ObedientDriver driver, MovedClock clock, bool owns)
    {
        (ConnectionString, Driver, Clock, this.owns) = (connection, driver, clock, owns);
        driver.Clock = clock.GetCurrentInstant;
        Source = ImbrekDatabase.Source(connection);
        var s = new ServiceCollection();
        s.AddLogging();
        s.AddMetrics();
        s.AddSingleton(Source);
        s.AddSingleton<IClock>(clock);
        s.AddSingleton<LiveEvents>();
        s.AddSingleton<FleetState>();
        s.AddSingleton<DesignedState>();
        s.AddSingleton<Peers>();
        s.AddSingleton<ProductMetrics>();
        s.AddSingleton<IDriverFamily>(driver);
        s.AddSingleton<Drivers>();
        s.AddSingleton<RunStore>();
        s.AddSingleton<IRunKind, RestoreKind>();
        s.AddSingleton<IRunKind, RehearsalKind>();
        s.AddSingleton<IRunKind, RemovalKind>();
        s.AddSingleton<Runner>();
        s.AddSingleton<RunWorker>();
        s.AddSingleton<IRunKind, BackupKind>();
        s.AddSingleton<RunHealth>();
        s.AddSingleton<Dispatcher>();
        s.AddSingleton<RealPace>();
        services = s.BuildServiceProvider();
    }

    public string ConnectionString { get; }

    public NpgsqlDataSource Source { get; }

    public ObedientDriver Driver { get; }

    public MovedClock Clock { get; }

    public RunWorker Worker => services.GetRequiredService<RunWorker>();

    public Runner Runner => services.GetRequiredService<Runner>();

    public RunStore Store => services.GetRequiredService<RunStore>();

    public Dispatcher Dispatcher => services.GetRequiredService<Dispatcher>();

    public RunHealth Health => services.GetRequiredService<RunHealth>();

    public FleetState Fleet => services.GetRequiredService<FleetState>();

    public DesignedState Designed => services.GetRequiredService<DesignedState>();

    /// <summary>A clock that goes on by itself, and further when it is told to.</summary>
    public sealed class MovedClock : IClock
    {
        private readonly Instant began = SystemClock.Instance.GetCurrentInstant();
        private long ahead;

        public Instant GetCurrentInstant() => Now + (SystemClock.Instance.GetCurrentInstant() - began) + Duration.FromSeconds(Interlocked.Read(ref ahead));

        public void Move(long seconds) => Interlocked.Add(ref ahead, seconds);
    }

    /// <summary>Starts one on a new database: a database "d" with a full in two stores, a differential, and logs in two stores; an older full in one.</summary>
    public static Task<ActingServer> StartAsync() => StartAsync(TheFleet(), [.. Sets()]);

    /// <summary>Starts one on a new database with a fleet and sets.</summary>
    public static async Task<ActingServer> StartAsync(FleetModel fleet, IReadOnlyCollection<BackupSet> sets)
    {
        var connection = await ServerProcess.NewDatabaseAsync();
        var server = new ActingServer(connection, new ObedientDriver { Reached = Now - Duration.FromMinutes(5) }, new MovedClock(), owns: true);
        await ImbrekDatabase.MigrateAsync(server.Source);
        await using (var open = await server.Source.OpenConnectionAsync())
        {
            await using var transaction = await open.BeginTransactionAsync();
            await CatalogueTable.InsertAsync(open, new BackupCatalogue(sets).All, default);
            await transaction.CommitAsync();
        }

        await using (var data = ImbrekDatabase.Context(server.Source))
        {
            data.FleetVersions.Add(new FleetVersionRow { Number = 1, At = Now, Who = "test", Document = FleetFile.Write(fleet) });
            await data.SaveChangesAsync();
        }

        await server.OpenAsync();
        return server;
    }

    /// <summary>Another process on the same database, with the same engine.</summary>
    public async Task<ActingServer> PeerAsync()
    {
        var peer = new ActingServer(ConnectionString, Driver, Clock, owns: false);
        await peer.OpenAsync();
        return peer;
    }

    /// <summary>Has this process take part in deciding what starts.</summary>
    public Task DispatchAsync() => services.GetRequiredService<RealPace>().StartAsync(default);

    /// <summary>Saves a plan that backs the log up every minute.</summary>
    public Task PlanAsync() => PlanAsync(new("a"), new Id<Database>("d"));

    /// <summary>Saves a plan that backs the log of some databases up every minute.</summary>
    public async Task PlanAsync(Id<Store> store, params Id<Database>[] databases)
    {
        var plan = new Plan(
            new("minutes"),
            "Minutes",
            new Selection { Databases = databases },
            [new PlanTask { Id = "log", Kind = TaskKind.Log, Recurrence = RecurrenceWords.TryParse("every minute", DateTimeZone.Utc, new LocalDate(2026, 1, 1), out var every, out _) ? every : null, Store = store }],
            TellRule.Nobody);
        await using (var data = ImbrekDatabase.Context(Source))
        {
            data.PlanVersions.Add(new PlanVersionRow { Plan = "minutes", Number = 1, At = Now, Who = "test", Document = PlanFile.Write(plan).ToJsonString() });
            await data.SaveChangesAsync();
        }

        await Fleet.LoadPlansAsync(default);
    }

    private async Task OpenAsync()
    {
        await services.GetRequiredService<Peers>().StartAsync(default);
        await Worker.StartAsync(default);
    }

    private static IEnumerable<BackupSet> Sets()
    {
        var hour = Duration.FromHours(1);
        yield return Set("old", SetKind.Full, Now - (30 * hour), null, null, "a");
        yield return Set("full", SetKind.Full, Now - (10 * hour), null, null, "a", "b");
        yield return Set("diff", SetKind.Differential, Now - (2 * hour), "full", null, "a", "b");
        for (var i = 30; i > 0; i--)
        {
            yield return Set($"log{i:00}", SetKind.Log, Now - ((i - 1) * hour), null, Now - (i * hour), "a", "b");
        }

        static BackupSet Set(string id, SetKind kind, Instant to, string? parent, Instant? from, params string[] stores) => new()
        {
            Id = new(id),
            Database = new("d"),
            Kind = kind,
            Parent = parent is null ? null : new(parent),
            FromPosition = from?.ToUnixTimeSeconds(),
            ToPosition = to.ToUnixTimeSeconds(),
            CoversFrom = from,
            CoversTo = to,
            FinishedAt = to,
            DataBytes = 1_000_000,
            RollForward = true,
            Copies = [.. stores.Select(s => new BackupCopy(new(s), to, null, null, 1_000_000, CopyState.Good))],
        };
    }

    /// <summary>A fleet of the database "d", or of many like it: "d0", "d1"….</summary>
    public static FleetModel TheFleet(int databases = 1)
    {
        var names = databases == 1 ? ["d"] : Enumerable.Range(0, databases).Select(i => $"d{i}");
        var text = $$"""
            {"format": "imbrek-fleet/1",
             "sites": [{"id": "s", "name": "S", "timeZone": "UTC"}],
             "hosts": [{"id": "h1", "site": "s", "readBytesPerSecond": 100000000, "writeBytesPerSecond": 100000000}, {"id": "h2", "site": "s", "readBytesPerSecond": 100000000, "writeBytesPerSecond": 100000000}],
             "stores": [{"id": "a", "site": "s", "readBytesPerSecond": 200000000, "writeBytesPerSecond": 100000000}, {"id": "b", "site": "s", "readBytesPerSecond": 100000000, "writeBytesPerSecond": 100000000}],
             "engines": [{"id": "e", "name": "E", "provisionSeconds": 1, "openSeconds": 1, "restoreBytesPerSecond": 100000000, "replayBytesPerSecond": 100000000, "indexBytesPerSecond": 100000000, "perSetSeconds": 0}],
             "databases": [{{string.Join(", ", names.Select(n => $$"""{"id": "{{n}}", "name": "{{n.ToUpperInvariant()}}", "engine": "e", "host": "h1", "recoveryHosts": ["h2"], "sizeBytes": 1000000, "checkSeconds": 1, "redirectSeconds": 1}"""))}}]}
            """;
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(text), "fleet");
        return read.Value ?? throw new InvalidOperationException(string.Join("; ", read.Faults));
    }

    /// <summary>Asks for a restore of the database to five minutes ago.</summary>
    public async Task<Guid> RestoreAsync(string instance = "aside", bool held = true, double? limit = null)
    {
        var row = RestoreRow(instance, held, limit);
        await using var data = ImbrekDatabase.Context(Source);
        Assert.True(await NewRuns.AddAsync(data, row, default));
        Worker.Wake(row.Id);
        return row.Id;
    }

    /// <summary>Such a restore, not asked for yet.</summary>
    public RunRow RestoreRow(string instance = "aside", bool held = true, double? limit = null)
    {
        var db = Fleet["d"];
        var target = Now - Duration.FromMinutes(5);
        var path = PathFinder.Find(db.Subject, new PathQuestion { Target = target, At = Now, Loss = Loss.None }).Best!;
        var asked = new RestoreQuestion("none", target, null, null, null, path.Host.Value, instance, RestoreQuestion.Promise.Of(path));
        var steps = RestoreAside.Steps(db.Subject.Database, path, instance, held).Select(s => limit is null ? s : s with { TimeLimitSeconds = limit, Attempts = 1 });
        var row = NewRuns.Row(held ? RestoreKind.KindName : RehearsalKind.KindName, "d", Driver.Name, asked, Run.Of(new RunPlan([.. steps])), "ada", Clock.GetCurrentInstant());
        row.Claim = asked.Claim;
        return row;
    }

    /// <summary>Decides, as the endpoint does; nothing when nobody is asked any more.</summary>
    public async Task DecideAsync(Guid run, string choice)
    {
        var (row, decisions) = await Store.ReadAsync(run, default);
        if (row.ToRun().Hear(decisions, row.CancelledBy).Next(Clock.GetCurrentInstant()).Ask is not [var asked])
        {
            return;
        }

        await using var data = ImbrekDatabase.Context(Source);
        data.Decisions.Add(new DecisionRow { RunId = run, Step = asked, Round = row.ToRun()[asked].Round, Choice = choice, Who = "bob", At = Clock.GetCurrentInstant() });
        await data.SaveChangesAsync();
        await data.Runs.Where(r => r.Id == run).ExecuteUpdateAsync(u => u.SetProperty(r => r.Said, r => r.Said + 1));
        Worker.Wake(run);
    }

    public async Task CancelAsync(Guid run)
    {
        await using var data = ImbrekDatabase.Context(Source);
        Assert.Equal(1, await data.Runs.Where(r => r.Id == run && r.State < (short)RunState.Done && r.CancelledBy == null)
            .ExecuteUpdateAsync(u => u.SetProperty(r => r.CancelledBy, "bob").SetProperty(r => r.Said, r => r.Said + 1)));
        Worker.Wake(run);
    }

    public async Task<RunRow> RowAsync(Guid run) => (await Store.ReadAsync(run, default)).Row;

    /// <summary>Waits until a run is in a state.</summary>
    public async Task<(RunRow Row, Run Run)> IsAsync(Guid run, RunState state)
    {
        RunRow? row = null;
        await Eventually.Async(
            async () =>
            {
                try
                {
                    row = await RowAsync(run);
                }
                catch (Exception e) when (e is NpgsqlException || e.InnerException is NpgsqlException)
                {
                    return false;
                }

                return row.StateIs == state || (row.StateIs.IsOver() && !state.IsOver() ? throw new InvalidOperationException($"it is {row.StateIs}: {row.Note}") : false);
            },
            what: () => $"{state}: it is {row?.StateIs}: {row?.Note} {row?.Steps}");
        return (row!, row!.ToRun());
    }

    /// <summary>Ends the process without a word, as a kill does: what it has under way is left as it is.</summary>
    public async Task StopAsync()
    {
        await services.GetRequiredService<RealPace>().StopAsync(default);
        await Worker.StopAsync(default);
        await services.GetRequiredService<Peers>().StopAsync(default);
    }

    public async ValueTask DisposeAsync()
    {
        await StopAsync();
        await services.DisposeAsync();
        await Source.DisposeAsync();
        if (owns)
        {
            await ServerProcess.DropDatabaseAsync(ConnectionString);
        }
    }
}
